"""A real Apache httpd and real OpenSSH servers beside the world's nginx; addresses stand for machines."""

import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import psutil
from world import find_program, make_tls_pair, running, wait_for_file, wait_for_port

MODULES = ("mpm_event", "authn_core", "authn_file", "authz_core", "authz_user", "auth_basic", "alias", "rewrite", "dir",
           "mime", "proxy", "proxy_http", "macro", "socache_shmcb", "headers", "http2", "ssl")  # fmt: skip
_MODULES_FOLDER = Path("/usr/lib/apache2/modules")


@contextmanager
def open_folder() -> Iterator[Path]:
    """Give a folder that servers without root's rights can enter, which pytest's own are not."""
    with tempfile.TemporaryDirectory(prefix="inkstamp-test-") as made:
        Path(made).chmod(0o755)
        yield Path(made)


class Counting:
    """Stands before a server's program: writes down what it is asked, and can be told to meddle."""

    def __init__(self, folder: Path, program: str) -> None:
        self.log, self.meddling, self.program = folder / "asked", folder / "meddling", folder / "counting"
        self.program.write_text(
            f'#!/bin/sh\necho "$*" >> {self.log}\n[ -f {self.meddling} ] && . {self.meddling}\nexec {program} "$@"\n'
        )
        self.program.chmod(0o755)

    def begin(self, meddling: str = "") -> None:
        """Count anew; `meddling` is shell that is run first."""
        self.log.write_text("")
        self.meddling.write_text(meddling)

    def asked(self, end: str) -> int:
        """How often it was run with arguments that end so."""
        return sum(1 for each in self.log.read_text().splitlines() if each.endswith(end))


@dataclass
class Apache:
    """A real Apache httpd with its own configuration."""

    folder: Path
    main_file: Path
    address: str
    http_port: int

    def command(self, *arguments: str) -> list[str]:
        return [find_program("apache2"), "-d", str(self.folder), "-f", str(self.main_file), *arguments]

    def site(self, name: str, names: Sequence[str], more: str = "", *, root: str | None = None, text: str = "") -> Path:
        """Add a virtual host and take it; returns its document root."""
        folder = Path(root) if root else self.folder / "www" / name
        folder.mkdir(parents=True, exist_ok=True)
        (folder / "index.html").write_text(f"<h1>{name}</h1>\n")
        aliases = f"    ServerAlias {' '.join(names[1:])}\n" if names[1:] else ""
        usual = (
            f"# the site of {names[0]}\n<VirtualHost {self.address}:{self.http_port}>\n    ServerName {names[0]}\n"
            f'{aliases}    DocumentRoot "{folder}"\n{more}</VirtualHost>\n'
        )
        (self.folder / "sites" / f"{name}.conf").write_text(text or usual)
        self.reload()
        return folder

    def site_file(self, name: str) -> Path:
        return self.folder / "sites" / f"{name}.conf"

    def reload(self) -> None:
        done = subprocess.run(self.command("-k", "graceful"), capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stderr

    def entry(self, name: str, more: str = "") -> str:
        """Its table for inkstamp.toml."""
        return (
            f'\n[server.{name}]\nkind = "apache"\nprogram = "{find_program("apache2")}"\n'
            f'main_file = "{self.main_file}"\nprefix = "{self.folder}"\nproof_folder = "{self.folder}/proofs"\n{more}'
        )


@contextmanager
def apache(folder: Path, address: str, http_port: int) -> Iterator[Apache]:
    """Run an Apache httpd on one address; `folder` must be one that everybody may enter."""
    (folder / "sites").mkdir(parents=True)
    main_file = folder / "apache.conf"
    user = "User www-data\nGroup www-data\n" if os.geteuid() == 0 else ""
    loaded = "".join(f"LoadModule {name}_module {_MODULES_FOLDER}/mod_{name}.so\n" for name in MODULES)
    main_file.write_text(
        f"{loaded}{user}Define ROOT {folder}\nPidFile ${{ROOT}}/pid\nErrorLog ${{ROOT}}/error.log\n"
        f"ServerName localhost\nListen {address}:{http_port}\nTypesConfig /etc/mime.types\n"
        f"<Directory />\n    Require all denied\n</Directory>\n"
        f'<Directory "{folder}/www">\n    Require all granted\n    AllowOverride All\n</Directory>\n'
        f"<VirtualHost {address}:{http_port}>\n    ServerName nobody.invalid\n    Redirect 404 /\n</VirtualHost>\n"
        "IncludeOptional sites/*.conf\n"
    )
    made = Apache(folder, main_file, address, http_port)
    with running(made.command("-D", "FOREGROUND"), folder / "apache.log", http_port, address=address):
        wait_for_file(folder / "pid")  # written after it listens: told to reload before that, a second one would start
        yield made


@dataclass
class Machine:
    """A machine behind a real OpenSSH server."""

    address: str
    port: int
    folder: Path
    client: Path
    """An ssh_config for the way there."""
    process: "subprocess.Popen[bytes]"

    def cut(self) -> None:
        """Have all connections break off: without root's rights, what serves one outlives what accepted it."""
        for each in psutil.Process(self.process.pid).children(recursive=True):
            if each.name().startswith("sshd"):
                each.kill()

    def entry(self) -> str:
        """The lines of a server's table in inkstamp.toml that lead there."""
        return f'reach = "ssh://{self.address}:{self.port}"\nssh_config = "{self.client}"\n'


@contextmanager
def ssh_machine(folder: Path, address: str, port: int) -> Iterator[Machine]:
    """Run an OpenSSH server with a key of its own, and write what a client needs to know of it."""
    folder.mkdir(parents=True)
    if os.geteuid() == 0:
        Path("/run/sshd").mkdir(mode=0o755, exist_ok=True)
    keygen = find_program("ssh-keygen")
    for name in ("host", "client"):
        subprocess.run([keygen, "-q", "-t", "ed25519", "-N", "", "-f", str(folder / name)], check=True)
    (folder / "authorized_keys").write_bytes((folder / "client.pub").read_bytes())
    config = folder / "sshd_config"
    config.write_text(
        f"Port {port}\nListenAddress {address}\nHostKey {folder}/host\nPidFile {folder}/pid\n"
        "UsePAM no\nStrictModes no\n"
        f"AuthorizedKeysFile {folder}/authorized_keys\nPasswordAuthentication no\nPermitRootLogin prohibit-password\n"
        f"LogLevel VERBOSE\nSetEnv PATH={folder}/bin:/usr/local/bin:/usr/bin:/bin HOME={folder}\n"
    )
    (folder / "bin").mkdir()
    sudo = folder / "bin" / "sudo"  # in the place of the real one, which no test can rely on
    sudo.write_text(
        f'#!/bin/sh\necho "$*" >> {folder}/sudo.log\n'
        f"[ -e {folder}/sudo-refuses ] && {{ echo 'sudo: a password is required' >&2; exit 1; }}\nshift\nexec \"$@\"\n"
    )
    sudo.chmod(0o755)
    kind, key, *_ = (folder / "host.pub").read_text().split()
    (folder / "known_hosts").write_text(f"[{address}]:{port} {kind} {key}\n")
    client = folder / "ssh_config"
    client.write_text(
        f"Host *\n  IdentityFile {folder}/client\n  IdentitiesOnly yes\n  UserKnownHostsFile {folder}/known_hosts\n"
        "  GlobalKnownHostsFile none\n"
    )
    command = [find_program("sshd"), "-D", "-e", "-f", str(config)]
    with running(command, folder / "sshd.log", port, address=address) as process:
        yield Machine(address, port, folder, client, process)


@dataclass
class Proxy:
    """A real HAProxy with its own configuration, a master with workers."""

    folder: Path
    main_file: Path
    address: str

    def entry(self, name: str, more: str = "") -> str:
        """Its table for inkstamp.toml."""
        return (
            f'\n[server.{name}]\nkind = "haproxy"\nprogram = "{find_program("haproxy")}"\n'
            f'main_file = "{self.main_file}"\nreload = ["{self.folder}/reload"]\n{more}'
        )

    def reloads(self) -> int:
        """How often it was reloaded."""
        log = self.folder / "reloads"
        return len(log.read_text()) if log.exists() else 0


@contextmanager
def haproxy(folder: Path, address: str, port: int, frontends: str) -> Iterator[Proxy]:
    """Run an HAProxy; `port` is one that `frontends` listen on."""
    folder.mkdir(parents=True)
    main_file = folder / "haproxy.cfg"
    main_file.write_text(
        f"global\n    stats socket {folder}/admin.sock mode 600 level admin\n"
        "defaults\n    mode http\n    timeout client 5s\n    timeout server 5s\n    timeout connect 2s\n" + frontends
    )
    reload = folder / "reload"
    reload.write_text(f"#!/bin/sh\nprintf x >> {folder}/reloads\nkill -USR2 $(cat {folder}/pid)\n")
    reload.chmod(0o755)
    command = [find_program("haproxy"), "-W", "-db", "-f", str(main_file), "-p", str(folder / "pid")]
    with running(command, folder / "haproxy.log", port, address=address):
        wait_for_file(folder / "pid")
        yield Proxy(folder, main_file, address)


@dataclass
class Mail:
    """A real Postfix and a real Dovecot, each with its own configuration and a certificate of its own making."""

    folder: Path
    main_cf: Path
    master_cf: Path
    dovecot: Path
    ports: dict[str, int]
    """By service: smtp, smtps, imap, imaps, pop3."""

    def entries(self) -> str:
        """Their tables for inkstamp.toml."""
        return (
            f'\n[server.post]\nkind = "postfix"\nprogram = "{find_program("postfix")}"\nmain_file = "{self.main_cf}"\n'
            f'\n[server.boxes]\nkind = "dovecot"\nprogram = "{find_program("dovecot")}"\nmain_file = "{self.dovecot}"\n'
        )

    def expect_sound(self) -> None:
        """Hold that their own tests pass, and that Postfix starts from nothing."""
        by_postfix = [find_program("postfix"), "-c", str(self.main_cf.parent)]
        whole = [find_program("dovecot"), "-c", str(self.dovecot), "-n"]
        for command in ([*by_postfix, "check"], whole, [*by_postfix, "stop"], [*by_postfix, "start"]):
            done = subprocess.run(command, capture_output=True, text=True, check=False, timeout=20)
            assert done.returncode == 0, done.stdout + done.stderr
        wait_for_port(self.ports["smtp"], None, self.main_cf.parent.parent / "log")

    def texts(self) -> tuple[str, str, str]:
        """What their configurations say."""
        return self.main_cf.read_text(), self.master_cf.read_text(), self.dovecot.read_text()


@contextmanager
def mail(folder: Path, ports: Sequence[int], name: str) -> Iterator[Mail]:
    """Run both as root on 127.0.0.1; `folder` must be one that everybody may enter."""
    smtp, smtps, imap, imaps, pop3 = ports
    postfix, boxes = folder / "postfix", folder / "dovecot"
    for each in (postfix / "etc", postfix / "spool", postfix / "data", boxes):
        each.mkdir(parents=True)
    shutil.chown(postfix / "data", "postfix")
    cert, key = make_tls_pair(folder, name)
    (postfix / "etc" / "main.cf").write_text(
        f"compatibility_level = 3.6\nqueue_directory = {postfix}/spool\ndata_directory = {postfix}/data\n"
        f"maillog_file = {postfix}/log\nmaillog_file_prefixes = {folder}\nalias_maps =\nmydestination =\n"
        f"myhostname = {name}\ninet_interfaces = 127.0.0.1\ninet_protocols = ipv4\n"
        f"smtpd_tls_security_level = may\n# whose key is in a file of its own\n"
        f"smtpd_tls_cert_file={cert}\nsmtpd_tls_key_file =\n    {key}\n"
    )
    (postfix / "etc" / "master.cf").write_text(
        f"{smtp} inet n - n - - smtpd\n{smtps} inet n - n - - smtpd\n  -o smtpd_tls_wrappermode=yes\n"
        f"  -o smtpd_tls_cert_file={cert} -o {{ smtpd_tls_key_file = {key} }}\n"
        "postlog unix-dgram n - n - 1 postlogd\ncleanup unix n - n - 0 cleanup\nqmgr unix n - n 300 1 qmgr\n"
        "rewrite unix - - n - - trivial-rewrite\ntlsmgr unix - - n 1000? 1 tlsmgr\nanvil unix - - n - 1 anvil\n"
        "proxymap unix - - n - - proxymap\n"
    )
    (boxes / "dovecot.conf").write_text(
        f"protocols = imap pop3\nlisten = 127.0.0.1\nbase_dir = {boxes}/run\nstate_dir = {boxes}/state\n"
        f"log_path = {boxes}/log\nmail_location = mbox:~/mail\n"
        f"ssl_cert = <{cert}  # of our own making\nssl_key = <{key}\n"
        f"service imap-login {{\n  inet_listener imap {{\n    port = {imap}\n  }}\n"
        f"  inet_listener imaps {{\n    port = {imaps}\n    ssl = yes\n  }}\n}}\n"
        f"service pop3-login {{\n  inet_listener pop3 {{\n    port = {pop3}\n  }}\n"
        "  inet_listener pop3s {\n    port = 0\n  }\n}\npassdb {\n  driver = static\n  args = nopassword\n}\n"
        "!include_try names/*.conf\n"
    )
    made = Mail(folder, postfix / "etc" / "main.cf", postfix / "etc" / "master.cf", boxes / "dovecot.conf",
                dict(zip(("smtp", "smtps", "imap", "imaps", "pop3"), ports, strict=True)))  # fmt: skip
    by_postfix = [find_program("postfix"), "-c", str(postfix / "etc")]
    with running([find_program("dovecot"), "-c", str(made.dovecot), "-F"], boxes / "out", imap):
        try:
            subprocess.run([*by_postfix, "start"], check=True, capture_output=True)
            wait_for_port(smtp, None, postfix / "log")
            yield made
        finally:
            subprocess.run([*by_postfix, "stop"], check=False, capture_output=True)


@dataclass
class Light:
    """A real lighttpd with its own configuration, restarted when it is told to."""

    folder: Path
    main_file: Path
    address: str

    def entry(self, name: str, more: str = "") -> str:
        """Its table for inkstamp.toml."""
        return (
            f'\n[server.{name}]\nkind = "lighttpd"\nprogram = "{find_program("lighttpd")}"\n'
            f'main_file = "{self.main_file}"\nreload = ["{self.folder}/restart"]\n{more}'
        )


@contextmanager
def lighttpd(folder: Path, address: str, http_port: int, more: str) -> Iterator[Light]:
    """Run a lighttpd on one address; `more` is what its configuration has besides."""
    (folder / "www").mkdir(parents=True)
    main_file = folder / "lighttpd.conf"
    main_file.write_text(
        f'var.home = "{folder}"\nserver.modules = (\n    "mod_access",  # for nothing\n)\n'
        f'server.bind = "{address}"\nserver.port = {http_port}\nserver.document-root = var.home + "/www"\n'
        f'server.pid-file = var.home + "/pid"\nserver.errorlog = var.home + "/log"\n{more}'
    )
    restart = folder / "restart"
    restart.write_text(f"#!/bin/sh\nkill -USR1 $(cat {folder}/pid)\n")
    restart.chmod(0o755)
    command = [find_program("lighttpd"), "-D", "-f", str(main_file)]
    with running(command, folder / "out", http_port, address=address):
        wait_for_file(folder / "pid")
        yield Light(folder, main_file, address)
