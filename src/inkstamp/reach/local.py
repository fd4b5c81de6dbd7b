"""The machine that Ink Stamp runs on."""

import glob
import os
import re
import shutil
import stat
import subprocess
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

from inkstamp.errors import FileTrouble, ServerTrouble
from inkstamp.files import file_trouble, read_bytes, write_bytes
from inkstamp.reach import guarded
from inkstamp.reach.interface import Contents, Found, Planted, Ran, Rights
from inkstamp.reach.sockets import ask_socket
from inkstamp.view.point import is_own_address

_MOST_OUTPUT = 20_000
_CERTIFICATE = re.compile(
    rb"^[^\n]*-----BEGIN [A-Z0-9 ]*CERTIFICATE-----.*?-----END [A-Z0-9 ]*CERTIFICATE-----[^\n]*\n?",
    re.DOTALL | re.MULTILINE,
)


def find_program(name: str) -> str | None:
    """Return the path of a program on this machine.

    Timers and ordinary users have no sbin in their PATH, and that is where servers are, so those are searched too.
    """
    path = os.pathsep.join((os.environ.get("PATH", os.defpath), "/usr/local/sbin", "/usr/sbin", "/sbin"))
    return shutil.which(name, path=path)


def _found(path: str, *, contents: Contents) -> Found | None:
    """Look at one file; None when it is not there or is none."""
    try:
        there = os.stat(path)
    except OSError:
        return None
    if not stat.S_ISREG(there.st_mode):
        return None
    data = None
    if contents != "none":
        with suppress(FileTrouble):
            data = read_bytes(Path(path))
    if data is not None and contents == "certificates":
        data = b"".join(_CERTIFICATE.findall(data))
    return Found(Rights(stat.S_IMODE(there.st_mode), str(there.st_uid), str(there.st_gid)), data)


class LocalHost:
    """Files and commands on the machine that Ink Stamp runs on."""

    address = "127.0.0.1"

    def close(self) -> None:
        """There is nothing to give up."""

    def has_address(self, address: str) -> bool:
        return is_own_address(address)

    def read(self, path: str) -> bytes:
        return read_bytes(Path(path))

    def replace(self, path: str, data: bytes) -> None:
        real = Path(os.path.realpath(path))
        with file_trouble("write", path):
            there = real.stat()
        write_bytes(real, data, like=there)

    def read_if_there(self, path: str) -> bytes | None:
        return read_bytes(Path(path)) if os.path.lexists(path) else None

    def put(self, path: str, data: bytes, rights: Rights) -> None:
        with file_trouble("create the folder", path):
            Path(path).parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        guarded.put(path, data, rights)

    def rights(self, path: str) -> Rights | None:
        return guarded.rights(path)

    def converse(self, socket_path: str, data: bytes, seconds: float) -> bytes:
        return ask_socket(socket_path, data, seconds, socket_path)

    def remove(self, path: str) -> None:
        with file_trouble("remove", path):
            Path(path).unlink(missing_ok=True)
            # What a killed run had begun to write there; it may hold a key.
            Path(path).with_name(f".{Path(path).name}.part").unlink(missing_ok=True)

    def glob(self, pattern: str) -> list[str]:
        return sorted(glob.glob(pattern))

    def gather(self, patterns: Sequence[str], *, contents: Contents) -> dict[str, Found]:
        paths = [path for each in patterns for path in (glob.glob(each) if glob.has_magic(each) else [each])]
        return {path: found for path in paths if (found := _found(path, contents=contents)) is not None}

    def read_certificates(self, path: str) -> bytes:
        return b"".join(_CERTIFICATE.findall(self.read(path)))

    def run(self, command: Sequence[str], seconds: float, data: bytes = b"") -> Ran:
        try:
            program = find_program(command[0]) or command[0]
            done = subprocess.run(
                [program, *command[1:]],
                input=data,
                capture_output=True,
                timeout=seconds,
                check=False,
            )
        except OSError as error:
            raise ServerTrouble(
                f"cannot start {command[0]}",
                where=command[0],
                said=error.strerror or str(error),
                advice="install it, or give its path with `program` in the server's table",
            ) from error
        except subprocess.TimeoutExpired as error:
            raise ServerTrouble(f"{' '.join(command)} did not end within {seconds:.0f} s", where=command[0]) from error
        output = (done.stdout + done.stderr)[:_MOST_OUTPUT].decode("utf-8", "replace").strip()
        return Ran(tuple(command), done.returncode, output)

    def have_folder(self, path: str) -> bool:
        if os.path.isdir(path):
            return False
        with file_trouble("create the folder", path):
            os.makedirs(path)
            os.chmod(path, 0o755)  # noqa: S103  the umask may have taken the web server's right to enter
        return True

    def drop_folder(self, path: str) -> None:
        with suppress(OSError):  # not empty, or gone already
            os.rmdir(path)

    def missing_folders(self, root: str, parts: tuple[str, ...]) -> tuple[int, ...]:
        return guarded.missing_folders(root, parts)

    def plant(self, root: str, parts: tuple[str, ...], data: bytes) -> Planted:
        return guarded.plant(root, parts, data)

    def check_root(self, root: str, parts: tuple[str, ...]) -> None:
        guarded.check_root(root, parts)

    def uproot(self, root: str, parts: tuple[str, ...], made: Sequence[int]) -> None:
        guarded.uproot(root, parts, made)
