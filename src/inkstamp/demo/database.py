"""A PostgreSQL server of the demo's own: on loopback, in a temporary folder, gone when the demo is."""

import os
import pwd
import shutil
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from inkstamp.demo.children import Children
from inkstamp.errors import InkStampError, UsageError
from inkstamp.reach.local import find_program
from inkstamp.standins.ports import free_ports

_USER = "postgres"
_START_SECONDS = 30.0
_SETTINGS = {"listen_addresses": "127.0.0.1", "fsync": "off", "shared_buffers": "16MB", "max_connections": "50"}
_NEEDED = ("initdb", "postgres", "pg_isready", "psql", "createdb")


@dataclass(frozen=True, slots=True)
class DemoDatabase:
    """A running server; whoever connects from this machine is who he says that he is."""

    port: int
    programs: dict[str, str]

    @property
    def environment(self) -> dict[str, str]:
        """What has PostgreSQL's own programs come here as its administrator."""
        return {"PGHOST": "127.0.0.1", "PGPORT": str(self.port), "PGUSER": _USER}

    def url(self, database: str) -> str:
        """Return the URL of a database, without a user."""
        return f"postgresql://127.0.0.1:{self.port}/{database}"


def find_programs() -> dict[str, str]:
    """Return PostgreSQL's programs by name, where all is there that the demo needs.

    Raises:
        UsageError: One is not installed, or its driver or nginx is not.

    """
    if find_program("nginx") is None:
        raise UsageError("the demo of a fleet needs nginx, which is not installed here",
                         advice="install it, or see the demo of one machine: inkstamp demo")  # fmt: skip
    folders = sorted(Path("/usr/lib/postgresql").glob("*/bin"), key=lambda each: _number(each.parent.name))
    path = os.pathsep.join([*(str(each) for each in reversed(folders)), os.environ.get("PATH", "")])
    found = {name: shutil.which(name, path=path) for name in _NEEDED}
    lacking = [name for name, program in found.items() if program is None]
    if lacking or (os.geteuid() == 0 and not _has_user()):
        raise UsageError(
            "the demo of a fleet needs PostgreSQL, which is not installed here", said=f"not found: {', '.join(lacking)}"
            if lacking else f"there is no user “{_USER}”, and it does not run as root",
            advice="install it (Debian: apt install postgresql), or see the demo of one machine: inkstamp demo",
        )  # fmt: skip
    try:
        import psycopg  # noqa: F401  whether it is there: the commands of the demo load it
    except ImportError as error:
        raise UsageError(
            "the demo of a fleet needs the package psycopg, which is not installed here", said=str(error),
            advice="pip install 'inkstamp[fleet]', or see the demo of one machine: inkstamp demo",
        ) from error  # fmt: skip
    return {name: program for name, program in found.items() if program is not None}


def _number(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return 0.0


def _has_user() -> bool:
    try:
        pwd.getpwnam(_USER)
    except KeyError:
        return False
    return True


@contextmanager
def database_server(children: Children) -> Iterator[DemoDatabase]:
    """Bring a new server up as a child, and remove what it has written.

    Raises:
        UsageError: PostgreSQL is not installed.
        InkStampError: It does not start.

    """
    programs, user = find_programs(), _USER if os.geteuid() == 0 else None
    with tempfile.TemporaryDirectory(prefix="inkstamp-demo-database-") as name:
        folder, (port,) = Path(name), free_ports(1)
        if user is not None:
            shutil.chown(folder, user)
        made = subprocess.run(
            [programs["initdb"], "-D", f"{folder}/data", "-A", "trust", "-U", _USER, "--locale=C", "-E", "UTF8",
             "--no-sync"], user=user, cwd="/", check=False, capture_output=True, text=True,
        )  # fmt: skip
        if made.returncode:
            raise InkStampError("the demo's database cannot be made", where=str(folder), said=made.stderr)
        told = {**_SETTINGS, "port": str(port), "unix_socket_directories": name}
        options = [each for key, value in told.items() for each in ("-c", f"{key}={value}")]
        with (folder / "log").open("wb") as log:
            process = children.start(
                [programs["postgres"], "-D", f"{folder}/data", *options], user=user, cwd="/", stdout=log, stderr=log
            )
        server, deadline = DemoDatabase(port, programs), time.monotonic() + _START_SECONDS
        ready = [programs["pg_isready"], "-q", "-h", "127.0.0.1", "-p", str(port)]
        while subprocess.run(ready, check=False).returncode:
            if process.poll() is not None or time.monotonic() > deadline:
                said = (folder / "log").read_text()[-1000:]
                raise InkStampError("the demo's database does not start", where=str(folder / "log"), said=said)
            time.sleep(0.05)
        try:
            yield server
        finally:
            children.stop()  # the machines first: they are the younger ones
