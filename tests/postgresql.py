"""A real PostgreSQL cluster in a temporary folder, started as user postgres and stopped by its process id."""

import os
import pwd
import shutil
import signal
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path

import psutil
from more_servers import open_folder

from inkstamp.standins.ports import free_ports

USER = "postgres"


def program(name: str) -> str:
    """Return one of PostgreSQL's own programs; its absence is a failure, never a skip."""
    found = [*sorted(Path("/usr/lib/postgresql").glob(f"*/bin/{name}"), reverse=True)]
    there = str(found[0]) if found else shutil.which(name)
    assert there, f"{name} is not installed: run the README's test command, which installs it"
    return there


def as_user(*command: str, check: bool = True) -> subprocess.CompletedProcess[str]:
    """Run a program as the user that PostgreSQL insists on: it does not run as root."""
    user = USER if os.geteuid() == 0 else None
    return subprocess.run(command, user=user, check=check, capture_output=True, text=True, cwd="/")


@dataclass
class Cluster:
    """A server that is running, or was stopped for a while."""

    folder: Path
    port: int
    settings: dict[str, str] = field(default_factory=dict)
    process: "subprocess.Popen[bytes] | None" = None

    @property
    def data(self) -> Path:
        return self.folder / "data"

    def url(self, database: str, user: str = USER) -> str:
        """Return libpq's URL of a database over the loopback, where a proxy can stand in between."""
        return f"postgresql://{user}@127.0.0.1:{self.port}/{database}"

    def start(self) -> None:
        user = USER if os.geteuid() == 0 else None
        options = {"listen_addresses": "127.0.0.1", "port": str(self.port), "unix_socket_directories": str(self.folder),
                   "fsync": "off", "shared_buffers": "16MB", "max_connections": "60", **self.settings}  # fmt: skip
        told = [each for name, value in options.items() for each in ("-c", f"{name}={value}")]
        with (self.folder / "log").open("ab") as log:
            self.process = subprocess.Popen(
                [program("postgres"), "-D", str(self.data), *told], user=user, stdout=log, stderr=log,
                stdin=subprocess.DEVNULL, cwd="/", start_new_session=True,
            )  # fmt: skip
        deadline = time.monotonic() + 60
        ready = [program("pg_isready"), "-q", "-h", "127.0.0.1", "-p", str(self.port)]
        while subprocess.run(ready, check=False).returncode:
            assert self.process.poll() is None, (self.folder / "log").read_text()
            assert time.monotonic() < deadline, (self.folder / "log").read_text()
            time.sleep(0.05)

    def runs(self) -> bool:
        return self.process is not None and self.process.poll() is None

    def stop(self, sent: signal.Signals = signal.SIGINT) -> None:
        """Stop it: at once and in order, or as if the machine had lost power (SIGKILL)."""
        assert self.process is not None
        if sent is signal.SIGKILL:
            children = psutil.Process(self.process.pid).children()
            self.process.kill()
            for each in children:
                with suppress(psutil.NoSuchProcess):
                    each.kill()
        else:
            self.process.send_signal(sent)
        self.process.wait(60)

    def sql(self, statement: str, database: str = "postgres", user: str = USER) -> str:
        """Ask by PostgreSQL's own program, as somebody else would."""
        done = subprocess.run(
            [program("psql"), "-XAtq", "-v", "ON_ERROR_STOP=1", "-h", str(self.folder), "-p", str(self.port), "-U",
             user, "-d", database, "-c", statement],
            check=False, capture_output=True, text=True,
        )  # fmt: skip
        assert done.returncode == 0, done.stderr
        return done.stdout.strip()

    def database(self, name: str) -> str:
        """Make an empty database, and return its URL."""
        self.sql(f'CREATE DATABASE "{name}" TEMPLATE template0')
        return self.url(name)

    def standby(self, folder: Path) -> "Cluster":
        """Make a standby that follows, which the primary waits for at each commit, and start it."""
        data = folder / "data"
        made = Cluster(folder, free_ports(1)[0], {**self.settings, "hot_standby": "on"})
        as_user(program("pg_basebackup"), "-h", "127.0.0.1", "-p", str(self.port), "-U", USER, "-D", str(data), "-R",
                "-X", "stream", "--checkpoint=fast", "--no-sync")  # fmt: skip
        made.start()
        self.sql("ALTER SYSTEM SET synchronous_standby_names = '*'")
        self.sql("SELECT pg_reload_conf()")
        deadline = time.monotonic() + 30
        while "sync" not in self.sql("SELECT sync_state FROM pg_stat_replication").split():
            assert time.monotonic() < deadline
            time.sleep(0.1)
        return made

    def promote(self) -> None:
        as_user(program("pg_ctl"), "promote", "-D", str(self.data))


@contextmanager
def cluster(**settings: str) -> Iterator[Cluster]:
    """Bring a cluster up and take it down; anybody who connects from here is who he says that he is."""
    with open_folder() as folder:
        if os.geteuid() == 0:
            entry = pwd.getpwnam(USER)
            os.chown(folder, entry.pw_uid, entry.pw_gid)
        data = str(folder / "data")
        as_user(program("initdb"), "-D", data, "-A", "trust", "-U", USER, "--locale=C", "-E", "UTF8", "--no-sync")
        made = Cluster(folder, free_ports(1)[0], settings)
        made.start()
        try:
            yield made
        finally:
            if made.process is not None and made.process.poll() is None:
                made.stop()
