"""The machine that Ink Stamp runs on."""

import glob
import os
import shutil
import stat
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

from inkstamp.errors import FileTooLarge, FileTrouble, ServerTrouble
from inkstamp.files import read_bytes
from inkstamp.ownership import expect_ours
from inkstamp.pki.armour import certificates_in
from inkstamp.reach import guarded, guarded_files, process
from inkstamp.reach.interface import Contents, FoundFile, Planted, Ran, Rights
from inkstamp.reach.ports import ListeningProgram, local_listeners
from inkstamp.reach.sockets import ask_socket
from inkstamp.view.point import is_own_address

_MOST_SHOWN = 20_000
"""Characters of what a program says that is told as it is."""
_MOST_ANSWER = 1_048_576
"""Bytes of an answer that is read: one of a program that was told something."""
MOST_FILE = 16_777_216
"""Bytes of one file."""
MOST_GATHERED = 268_435_456
"""Bytes of all files of one request together."""


def find_program(name: str) -> str | None:
    """Return the path of a program on this machine.

    Timers and ordinary users have no sbin in their PATH, and that is where servers are, so those are searched too.
    """
    path = os.pathsep.join((os.environ.get("PATH", os.defpath), "/usr/local/sbin", "/usr/sbin", "/sbin"))
    return shutil.which(name, path=path)


def _found(path: str, *, contents: Contents) -> FoundFile | None:
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
            data = read_bytes(path)
    if data is not None and contents == "certificates":
        data = certificates_in(data)
    return FoundFile(Rights(stat.S_IMODE(there.st_mode), str(there.st_uid), str(there.st_gid)), data)


class LocalHost:
    """Files and commands on the machine that Ink Stamp runs on."""

    address = "127.0.0.1"

    def close(self) -> None:
        """There is nothing to give up."""

    def has_address(self, address: str) -> bool:
        return is_own_address(address)

    def listeners(self, port: int) -> list[ListeningProgram]:
        return local_listeners(port)

    def read(self, path: str) -> bytes:
        return read_bytes(path)

    def replace(self, path: str, data: bytes) -> None:
        guarded_files.replace(path, data)

    def read_if_there(self, path: str) -> bytes | None:
        return read_bytes(Path(path)) if os.path.lexists(path) else None

    def put(self, path: str, data: bytes, rights: Rights) -> None:
        guarded_files.put(path, data, rights)

    def present(self, path: str) -> tuple[bytes, Rights] | None:
        return guarded_files.present(path, MOST_FILE)

    def converse(self, socket_path: str, data: bytes, seconds: float) -> bytes:
        return ask_socket(socket_path, data, seconds, socket_path)

    def remove(self, path: str) -> None:
        guarded_files.remove(path)

    def glob(self, pattern: str) -> list[str]:
        return sorted(glob.glob(pattern))

    def gather(self, patterns: Sequence[str], *, contents: Contents) -> dict[str, FoundFile]:
        paths = [path for each in patterns for path in (glob.glob(each) if glob.has_magic(each) else [each])]
        found: dict[str, FoundFile] = {}
        whole = 0
        for path in paths:
            each = _found(path, contents=contents)
            if each is not None and path not in found:
                found[path] = each
                whole += len(each.data or b"")
            if whole > MOST_GATHERED:
                raise FileTooLarge(
                    f"the files of {patterns[0]} hold more than {MOST_GATHERED // 1_048_576} MiB", where=patterns[0]
                )
        return found

    def read_certificates(self, path: str) -> bytes:
        return certificates_in(self.read(path))

    def run(self, command: Sequence[str], seconds: float, data: bytes = b"") -> Ran:
        program = find_program(command[0]) or command[0]
        if "/" in program:
            expect_ours(Path(program).absolute(), "the program")
        try:
            done = process.run([program, *command[1:]], data=data, seconds=seconds, most=_MOST_ANSWER)
        except TimeoutError as error:
            raise ServerTrouble(
                f"{' '.join(command)} did not end within {seconds:.0f} s",
                where=command[0],
                advice="it was ended, with all that it had started; see why it hangs",
            ) from error
        except OSError as error:
            raise ServerTrouble(
                f"cannot start {command[0]}",
                where=command[0],
                said=error.strerror or str(error),
                advice="install it, or give its path with `program` in the server's table",
            ) from error
        output = (done.output + done.complaint).decode("utf-8", "replace").strip()
        return Ran(tuple(command), done.status, output if data else output[:_MOST_SHOWN])

    def have_folder(self, path: str) -> bool:
        return guarded_files.have_folder(path)

    def drop_folder(self, path: str) -> None:
        guarded_files.drop_folder(path)

    def missing_folders(self, root: str, parts: tuple[str, ...]) -> tuple[int, ...]:
        return guarded.missing_folders(root, parts)

    def plant(self, root: str, parts: tuple[str, ...], data: bytes) -> Planted:
        return guarded.plant(root, parts, data)

    def check_root(self, root: str, parts: tuple[str, ...]) -> None:
        guarded.check_root(root, parts)

    def uproot(self, root: str, parts: tuple[str, ...], made: Sequence[int]) -> None:
        guarded.uproot(root, parts, made)
