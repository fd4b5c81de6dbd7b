"""Servers as Debian ships them: a copy of the package's own tree, on an address and ports of a test's own."""

import os
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import psutil
from world import find_program, make_tls_pair, wait_for_file

_TLS_MODULES = ("ssl.load", "ssl.conf", "socache_shmcb.load")
_APACHE = """#!/bin/sh
APACHE_CONFDIR={folder}/etc
. {folder}/etc/envvars
exec {program} -d {folder}/etc "$@"
"""


@dataclass
class Tree:
    """A server's whole tree, and how the server is run by hand."""

    kind: str
    folder: Path
    address: str
    http_port: int
    https_port: int
    main_file: Path
    program: str
    pid_file: Path
    second_address: str

    @property
    def etc(self) -> Path:
        return self.folder / "etc"

    def commands(self) -> Mapping[str, list[str]]:
        """Start in the background; test."""
        if self.kind == "nginx":
            own = [self.program, "-p", str(self.folder), "-c", str(self.main_file)]
            return {"start": own, "test": [*own, "-t"]}
        if self.kind == "apache":
            own = [self.program, "-f", str(self.main_file)]
            return {"start": [*own, "-k", "start"], "test": [*own, "-t"]}
        own = [self.program, "-f", str(self.main_file)]
        if self.kind == "haproxy":
            return {"start": [*own, "-p", str(self.pid_file)], "test": [*own, "-c"]}
        return {"start": own, "test": [*own, "-tt"]}

    def start(self) -> None:
        done = subprocess.run(self.commands()["start"], capture_output=True, text=True, check=False, timeout=20)
        assert done.returncode == 0, done.stdout + done.stderr
        wait_for_file(self.pid_file)
        deadline = time.monotonic() + 10
        while True:
            try:
                socket.create_connection((self.address, self.http_port), 1).close()
            except OSError:
                assert time.monotonic() < deadline, f"{self.kind} does not answer"
                time.sleep(0.02)
            else:
                return

    def without_tls(self) -> None:
        """Take mod_ssl out, as Debian has it at first."""
        for each in _TLS_MODULES:
            (self.etc / "mods-enabled" / each).unlink()

    def with_tls(self) -> None:
        """Do what `a2enmod ssl` does."""
        for each in _TLS_MODULES:
            (self.etc / "mods-enabled" / each).symlink_to(f"../mods-available/{each}")

    def pid(self) -> int:
        text = self.pid_file.read_text() if self.pid_file.exists() else ""
        return int(text) if text.strip() else 0

    def stop(self) -> None:
        pid = self.pid()
        if not pid or not psutil.pid_exists(pid):
            return
        process = psutil.Process(pid)
        family = [process, *process.children(recursive=True)]
        process.send_signal(signal.SIGTERM)
        deadline = time.monotonic() + 8
        while any(_lives(each) for each in family):
            assert time.monotonic() < deadline, f"{self.kind} does not end"
            time.sleep(0.02)
        self.pid_file.unlink(missing_ok=True)

    def expect_sound(self) -> None:
        """Hold that the server's own test passes, and that it starts from nothing."""
        done = subprocess.run(self.commands()["test"], capture_output=True, text=True, check=False, timeout=20)
        assert done.returncode == 0, done.stdout + done.stderr
        self.stop()
        self.start()

    def snapshot(self) -> dict[str, bytes]:
        return {str(each): each.read_bytes() for each in sorted(self.etc.rglob("*")) if each.is_file()}

    def entry(self, name: str) -> str:
        """Its table for inkstamp.toml."""
        reload = ""
        if self.kind == "lighttpd":
            script = self.folder / "restart"
            script.write_text(
                f"#!/bin/sh\nkill $(cat {self.pid_file}) 2>/dev/null\n"
                f"while [ -f {self.pid_file} ]; do sleep 0.05; done\nexec {' '.join(self.commands()['start'])}\n"
            )
            script.chmod(0o755)
            reload = f'reload = ["{script}"]\n'
        if self.kind == "haproxy":
            script = self.folder / "reload"
            script.write_text(f"#!/bin/sh\nexec {' '.join(self.commands()['start'])} -sf $(cat {self.pid_file})\n")
            script.chmod(0o755)
            return (
                f'\n[server.{name}]\nkind = "haproxy"\nprogram = "{self.program}"\n'
                f'main_file = "{self.main_file}"\nreload = ["{script}"]\n'
            )
        prefix = f'prefix = "{self.folder}"\n' if self.kind == "nginx" else ""
        prefix = f'prefix = "{self.etc}"\n' if self.kind == "apache" else prefix
        return (
            f'\n[server.{name}]\nkind = "{self.kind}"\nprogram = "{self.program}"\nmain_file = "{self.main_file}"\n'
            f'{prefix}{reload}proof_folder = "{self.folder}/proofs"\n'
        )

    def guard(self, name: str) -> None:
        """Have a site keep visitors from files whose names begin with a dot, as many do: proofs, too."""
        file = self.etc / "sites-enabled" / f"{name}.conf"
        lines = file.read_text().splitlines(keepends=True)
        at = next(number for number, line in enumerate(lines) if "root" in line.lower())
        lines.insert(at, _GUARDS[self.kind])
        file.write_text("".join(lines))

    def site(self, name: str, names: list[str], *, plain: bool = True, tls: bool = False, also: str = "") -> Path:
        """Add a site as an administrator would; `also` is a second address. Returns its document root."""
        root = self.folder / "www" / name
        root.mkdir(parents=True, exist_ok=True)
        (root / "index.html").write_text(f"<h1>{name}</h1>\n")
        private = self.etc / "private" / name
        private.mkdir(parents=True, exist_ok=True)
        certificate, key = make_tls_pair(private, names[0])
        addresses = [self.address, *([also] if also else [])]
        ports = [*([(self.http_port, False)] if plain else []), *([(self.https_port, True)] if tls else [])]
        if self.kind == "haproxy":
            with self.main_file.open("a") as main:
                main.write(_haproxy_frontend(name, addresses, ports, certificate, key, self.http_port))
            return root
        text = {"nginx": _nginx_site, "apache": _apache_site, "lighttpd": _lighttpd_site}[self.kind](
            names, root, addresses, ports, certificate, key
        )
        folder = {"nginx": "sites-enabled", "apache": "sites-enabled", "lighttpd": "conf-enabled"}[self.kind]
        file = self.etc / folder / f"{name}.conf"
        file.write_text(text)
        return root


def _lives(process: psutil.Process) -> bool:
    try:
        return process.status() != psutil.STATUS_ZOMBIE
    except psutil.NoSuchProcess:
        return False


Ports = list[tuple[int, bool]]


_GUARDS = {"nginx": "    location ~ /[.] { deny all; }\n", "apache": '    RedirectMatch 404 "^/[.]"\n'}


def _nginx_site(names: list[str], root: Path, addresses: list[str], ports: Ports, certificate: Path, key: Path) -> str:
    listens = "".join(f"    listen {a}:{p}{' ssl' if t else ''};\n" for a in addresses for p, t in ports)
    pair = f"    ssl_certificate {certificate};\n    ssl_certificate_key {key};\n" if any(t for _, t in ports) else ""
    return f"server {{\n{listens}    server_name {' '.join(names)};\n    root {root};\n{pair}}}\n"


def _apache_site(names: list[str], root: Path, addresses: list[str], ports: Ports, certificate: Path, key: Path) -> str:
    aliases = f"    ServerAlias {' '.join(names[1:])}\n" if names[1:] else ""
    pair = f"    SSLEngine on\n    SSLCertificateFile {certificate}\n    SSLCertificateKeyFile {key}\n"
    return "".join(
        f"<VirtualHost {' '.join(f'{a}:{p}' for a in addresses)}>\n    ServerName {names[0]}\n{aliases}"
        f"    DocumentRoot {root}\n{pair if t else ''}</VirtualHost>\n"
        for p, t in ports
    )


def _haproxy_frontend(name: str, addresses: list[str], ports: Ports, certificate: Path, key: Path, sites: int) -> str:
    """Return a frontend before the sites at 127.0.0.1; `crt` names a folder where there is a TLS port."""
    both = certificate.parent / "both"
    both.mkdir()
    (both / "default.pem").write_bytes(certificate.read_bytes() + key.read_bytes())
    binds = "".join(f"    bind {a}:{p}{f' ssl crt {both}' if t else ''}\n" for a in addresses for p, t in ports)
    return f"\nfrontend {name}\n{binds}    default_backend {name}\nbackend {name}\n    server sites 127.0.0.1:{sites}\n"


def _lighttpd_site(
    names: list[str], root: Path, addresses: list[str], ports: Ports, certificate: Path, key: Path
) -> str:
    pair = f'    ssl.pemfile = "{certificate}"\n    ssl.privkey = "{key}"\n' if any(t for _, t in ports) else ""
    hosts = "".join(
        f'$HTTP["host"] == "{name}" {{\n    server.document-root = "{root}"\n{pair}}}\n'
        for name in names
        if not name.startswith("*")
    )
    sockets = "".join(
        f'$SERVER["socket"] == "{a}:{p}" {{\n    ssl.engine = "enable"\n{pair}}}\n'
        for a in addresses
        for p, t in ports
        if t
    )
    modules = 'server.modules += ( "mod_openssl" )\n' if sockets else ""
    return modules + sockets + hosts


def _nginx(tree: Tree) -> None:
    shutil.copytree("/etc/nginx", tree.etc, symlinks=True)
    _retarget(tree.etc, "/etc/nginx")
    (tree.folder / "log").mkdir()
    (tree.folder / "modules").symlink_to("/usr/lib/nginx/modules")
    _rewrite(tree, tree.main_file, "/etc/nginx", str(tree.etc), "/run/nginx.pid", str(tree.pid_file),
             "/var/log/nginx", f"{tree.folder}/log")  # fmt: skip
    _rewrite(tree, tree.etc / "sites-available" / "default",
             "listen 80 default", f"listen {tree.address}:{tree.http_port} default",
             "listen [::]:80 default_server;", "", "/var/www/html", f"{tree.folder}/www/html")  # fmt: skip


def _apache(tree: Tree) -> None:
    shutil.copytree("/etc/apache2", tree.etc, symlinks=True)
    for each in ("run", "lock", "log"):
        (tree.folder / each).mkdir()
    _rewrite(tree, tree.etc / "envvars", "/var/run/apache2$SUFFIX", f"{tree.folder}/run",
             "/var/lock/apache2$SUFFIX", f"{tree.folder}/lock",
             "/var/log/apache2$SUFFIX", f"{tree.folder}/log")  # fmt: skip
    _rewrite(tree, tree.etc / "ports.conf", "Listen 80", f"Listen {tree.address}:{tree.http_port}",
             "Listen 443", f"Listen {tree.address}:{tree.https_port}")  # fmt: skip
    _rewrite(tree, tree.etc / "sites-available" / "000-default.conf", "*:80", f"*:{tree.http_port}",
             "/var/www/html", f"{tree.folder}/www/html")  # fmt: skip
    tree.with_tls()
    _rewrite(tree, tree.main_file, "<Directory /var/www/>", f"<Directory {tree.folder}/www/>")
    program = Path(tree.program)
    program.write_text(_APACHE.format(folder=tree.folder, program=find_program("apache2")))
    program.chmod(0o755)


def _lighttpd(tree: Tree) -> None:
    shutil.copytree("/etc/lighttpd", tree.etc, symlinks=True)
    (tree.folder / "log").mkdir()
    _rewrite(tree, tree.main_file, "/etc/lighttpd", str(tree.etc), "/run/lighttpd.pid", str(tree.pid_file),
             "/var/log/lighttpd", f"{tree.folder}/log", "/var/www/html", f"{tree.folder}/www/html",
             "server.port                 = 80", f'server.port = {tree.http_port}\nserver.bind = "{tree.address}"',
             'include_shell "/usr/share/lighttpd/use-ipv6.pl " + server.port', "",
             'server.username             = "www-data"', "",
             'server.groupname            = "www-data"', "")  # fmt: skip


def _haproxy(tree: Tree) -> None:
    shutil.copytree("/etc/haproxy", tree.etc, symlinks=True)
    _rewrite(tree, tree.main_file, "/etc/haproxy", str(tree.etc), "/run/haproxy", str(tree.folder),
             "\tchroot /var/lib/haproxy\n", "", "\tuser haproxy\n\tgroup haproxy\n", "")  # fmt: skip


def _retarget(folder: Path, was: str) -> None:
    """Have absolute links into the package's tree lead into the copy."""
    for each in folder.rglob("*"):
        if each.is_symlink() and (target := os.readlink(each)).startswith(f"{was}/"):
            each.unlink()
            each.symlink_to(f"{folder}/{target.removeprefix(f'{was}/')}")


def _rewrite(tree: Tree, file: Path, *pairs: str) -> None:
    text = file.read_text()
    for was, now in zip(pairs[::2], pairs[1::2], strict=True):
        text = text.replace(was, now)
    file.write_text(text)


MAKERS: dict[str, tuple[Callable[[Tree], None], str, str]] = {
    "nginx": (_nginx, "nginx.conf", "nginx.pid"),
    "apache": (_apache, "apache2.conf", "run/apache2.pid"),
    "haproxy": (_haproxy, "haproxy.cfg", "haproxy.pid"),
    "lighttpd": (_lighttpd, "lighttpd.conf", "lighttpd.pid"),
}


@contextmanager
def debian_tree(
    kind: str, folder: Path, address: str, ports: tuple[int, int], second_address: str = ""
) -> Iterator[Tree]:
    """Copy a package's tree to `folder`, which everybody may enter; the server is not started yet."""
    folder.mkdir(parents=True)
    (folder / "www" / "html").mkdir(parents=True)
    (folder / "www" / "html" / "index.html").write_text("<h1>it works</h1>\n")
    make, main_file, pid_file = MAKERS[kind]
    program = str(folder / "apache2") if kind == "apache" else find_program(kind)
    tree = Tree(kind, folder, address, *ports, folder / "etc" / main_file, program, folder / pid_file, second_address)
    make(tree)
    try:
        yield tree
    finally:
        tree.stop()
