"""Another machine, reached by OpenSSH's own client.

A request is a small program for `sh`, sent on standard input, so nothing of it is seen in a list of processes there;
the other side needs nothing but POSIX.
"""

import re
import secrets
import shlex
import threading
from collections.abc import Sequence
from functools import cached_property
from importlib import resources

from inkstamp.errors import FileTrouble, ServerTrouble
from inkstamp.printable import one_line, printable, shown_bytes
from inkstamp.reach.interface import Contents, FoundFile, Planted, Ran, Rights
from inkstamp.reach.local import MOST_GATHERED
from inkstamp.reach.ports import ListeningProgram, read_listeners
from inkstamp.reach.sockets import ask_socket
from inkstamp.reach.ssh_connection import SshConnection

_MOST_REQUEST = MOST_GATHERED + 1_048_576
"""Bytes of an answer; the files of one request are all in it."""
_SECONDS = 60.0
_MOST_ANSWER = 1_048_576
_MOST_COMPLAINT = 20_000
_CHUNK = 512
_AT_ONCE = 500
"""Files asked for in one request."""
_TROUBLE = {3, 4, 5}
"""Exit statuses with which `remote.sh` says why it cannot."""
_WILD = re.compile(r"[*?]|\[[A-Za-z0-9!^._-]+\]")


class SshHost:
    """Files and commands on another machine; one connection for all, shared between threads."""

    def __init__(self, url: str, *, config_file: str = "", sudo: bool = False) -> None:
        self._connection = SshConnection(url, config_file=config_file)
        self._url, self._name = url, self._connection.name
        self._shell = "sudo -n sh" if sudo else "sh"

    @property
    def address(self) -> str:
        """The name or address that the URL gives."""
        return self._name

    def close(self) -> None:
        """Give the connection up."""
        self._connection.close()

    # Requests

    def _ask(self, request: str, path: str, *, seconds: float = _SECONDS) -> bytes:
        """Have `request` carried out and return what it prints; FileTrouble about `path` when it says why it cannot."""
        if "\0" in path:
            raise FileTrouble(f"{one_line(path)} is no path that can be sent there", where=one_line(path))
        status, output, complaint = self._send(f"{_library()}\n{request}", seconds)
        if status == 0:
            return output
        what = complaint.splitlines()[-1] if complaint else f"exit status {status}"
        if status in _TROUBLE:
            raise FileTrouble(f"{path} on {self._name}: {what}", where=f"{self._url}{path}", said="")
        raise FileTrouble(f"cannot use {path} on {self._name}", where=f"{self._url}{path}", said=complaint)

    def _send(self, program: str, seconds: float) -> tuple[int, bytes, str]:
        """Run a program for `sh` there; returns its status, what it printed, and its complaints."""
        nonce = secrets.token_hex(8)  # so that nothing that is printed there is taken for the end
        begins, ends = f"inkstamp-begins {nonce}\n".encode(), f" {nonce} inkstamp-ends\n".encode()
        framed = f"printf 'inkstamp-begins {nonce}\\n'\n( {program}\n)\nprintf '\\n%s {nonce} inkstamp-ends\\n' $?\n"
        done = self._connection.send(
            self._shell, framed.encode("utf-8", "surrogateescape"), seconds=seconds, most=_MOST_REQUEST, until=ends
        )
        begun, found, rest = done.output.partition(begins)
        told, ended, _ = rest.rpartition(ends)
        output, _, status = told.rpartition(b"\n")
        complaint = printable(done.complaint[:_MOST_COMPLAINT].decode("utf-8", "replace")).strip()
        if not found or not ended or not status.isdigit():
            raise self._connection.lost(complaint or shown_bytes(begun), begun=bool(found))
        return int(status), output, complaint

    # What a host offers

    def read(self, path: str) -> bytes:
        return self._ask(f"read_file {shlex.quote(path)}", path)

    def read_certificates(self, path: str) -> bytes:
        return self._ask(f"certificates {shlex.quote(path)}", path)

    def replace(self, path: str, data: bytes) -> None:
        self._ask(f"{_content(data)}\nreplace {shlex.quote(path)}", path)

    def read_if_there(self, path: str) -> bytes | None:
        quoted = shlex.quote(path)
        found = self._ask(f"if [ -e {quoted} ]; then printf +; read_file {quoted}; fi", path)
        return found[1:] if found else None

    def put(self, path: str, data: bytes, rights: Rights) -> None:
        request = _words(path, f"{rights.mode:o}", rights.owner, rights.group)
        self._ask(f"{_content(data)}\nput {request}", path)

    def present(self, path: str) -> tuple[bytes, Rights] | None:
        told = self._ask(f"present {shlex.quote(path)}", path)
        if not told:
            return None
        line, _, contents = told.partition(b"\n")
        words = line.decode("ascii", "replace").split()
        if len(words) != 3:
            raise FileTrouble("the answer about a file cannot be understood", where=f"{self._url}{path}")
        return contents, Rights(_mode(words[0]), words[1], words[2])

    def converse(self, socket_path: str, data: bytes, seconds: float) -> bytes:
        """Through a forwarding of the connection that is there already, so nothing is needed on the other side."""
        self._ask(":", "/")  # opens the connection where there is none yet
        ours = self._connection.folder / f"{threading.get_ident()}.sock"
        forward = f"{ours}:{socket_path}"
        told = f"{self._url}{socket_path}"
        opened = self._connection.control("forward", forward)
        try:
            if opened.status != 0:
                raise ServerTrouble("the socket cannot be reached", where=told, said=shown_bytes(opened.complaint))
            return ask_socket(str(ours), data, seconds, told)
        finally:
            self._connection.control("cancel", forward)
            ours.unlink(missing_ok=True)

    def remove(self, path: str) -> None:
        self._ask(f"remove {shlex.quote(path)}", path)

    def gather(self, patterns: Sequence[str], *, contents: Contents) -> dict[str, FoundFile]:
        found: dict[str, FoundFile] = {}
        for at in range(0, len(patterns), _AT_ONCE):
            chunk = patterns[at : at + _AT_ONCE]
            request = f"gather {contents} {' '.join(map(_pattern, chunk))}"
            found |= _read_gathered(self._ask(request, chunk[0]), f"{self._url}{chunk[0]}")
        return found

    def glob(self, pattern: str) -> list[str]:
        loop = f'for each in {_pattern(pattern)}; do if [ -e "$each" ]; then printf \'%s\\n\' "$each"; fi; done'
        return sorted(filter(None, self._ask(loop, pattern).decode("utf-8", "surrogateescape").split("\n")))

    def run(self, command: Sequence[str], seconds: float, data: bytes = b"") -> Ran:
        words = " ".join(shlex.quote(word) for word in command)
        search = "PATH=$PATH:/usr/local/sbin:/usr/sbin:/sbin\nexport PATH"
        known = f"command -v {shlex.quote(command[0])} >/dev/null || exit 127"
        fed = f"{_content(data)}\ncontent | {words} 2>&1" if data else f"{words} </dev/null 2>&1"
        status, output, complaint = self._send(f"{search}\n{known}\n{fed}", seconds)
        if status == 127 and not output:
            raise ServerTrouble(
                f"there is no program {command[0]} on {self._name}",
                where=self._url,
                said=complaint,
                advice="install it there, or give its path with `program` in the server's table",
            )
        return Ran(tuple(command), status, output[:_MOST_ANSWER].decode("utf-8", "replace").strip())

    def have_folder(self, path: str) -> bool:
        return self._ask(f"have_folder {shlex.quote(path)}", path) == b"made"

    def drop_folder(self, path: str) -> None:
        self._ask(f"drop_folder {shlex.quote(path.rstrip('/'))}", path)

    def missing_folders(self, root: str, parts: tuple[str, ...]) -> tuple[int, ...]:
        return self._numbers(f"missing_folders {_words(root, *parts)}", _path(root, parts))

    def plant(self, root: str, parts: tuple[str, ...], data: bytes) -> Planted:
        made = self._numbers(f"{_content(data)}\nplant {_words(root, *parts)}", _path(root, parts))
        return Planted(root, parts, made)

    def _numbers(self, request: str, path: str) -> tuple[int, ...]:
        try:
            return tuple(dict.fromkeys(int(each) for each in self._ask(request, path).split()))
        except ValueError as error:
            raise FileTrouble("the answer about folders cannot be understood", where=f"{self._url}{path}") from error

    def check_root(self, root: str, parts: tuple[str, ...]) -> None:
        self._ask(f"check_root {_words(root, *parts)}", _path(root, parts))

    def uproot(self, root: str, parts: tuple[str, ...], made: Sequence[int]) -> None:
        numbers = " ".join(map(str, made))
        self._ask(f"uproot {_words(numbers, root, *parts)}", _path(root, parts))

    @cached_property
    def _addresses(self) -> frozenset[str]:
        return frozenset(self._ask("addresses", "/").decode("ascii", "replace").split())

    def listeners(self, port: int) -> list[ListeningProgram]:
        try:
            return read_listeners(self.run(["ss", "-Hltnp"], _SECONDS).output, port)
        except ServerTrouble:  # there is no such program there
            return []

    def has_address(self, address: str) -> bool:
        return address in self._addresses


def _pattern(pattern: str) -> str:
    """Write a shell pattern so that nothing but its wildcards is special."""
    words, at = [], 0
    for wild in _WILD.finditer(pattern):
        words += [shlex.quote(pattern[at : wild.start()]) if at < wild.start() else "", wild[0]]
        at = wild.end()
    words.append(shlex.quote(pattern[at:]) if at < len(pattern) else "")
    return "".join(words) or "''"


def _read_gathered(data: bytes, where: str) -> dict[str, FoundFile]:
    """Read what `gather` prints: a line `mode owner group size path`, then the contents, size `-` for none."""
    found: dict[str, FoundFile] = {}
    at = 0
    while at < len(data):
        end = data.find(b"\n", at)
        words = data[at:end].decode("utf-8", "surrogateescape").split(" ", 4)
        if end < 0 or len(words) != 5 or not (words[3] == "-" or words[3].isdigit()):
            raise FileTrouble("the answer about files cannot be understood", where=where)
        at = end + 1
        contents = None
        if words[3] != "-":
            contents = data[at : at + int(words[3])]
            at += len(contents)
        found[words[4]] = FoundFile(Rights(_mode(words[0]), words[1], words[2]), contents)
    return found


def _mode(letters: str) -> int:
    """Read permission bits as `ls -l` writes them (POSIX, ls)."""
    bits = sum(1 << (8 - at) for at, letter in enumerate(letters[1:10]) if letter not in "-ST")
    special = zip((0o4000, 0o2000, 0o1000), (letters[3], letters[6], letters[9]), strict=True)
    return bits + sum(bit for bit, letter in special if letter in "sStT")


def _library() -> str:
    return resources.files("inkstamp.reach").joinpath("remote.sh").read_text("utf-8")


def _words(*words: str) -> str:
    return " ".join(shlex.quote(word) for word in words)


def _path(root: str, parts: Sequence[str]) -> str:
    return "/".join((root.rstrip("/"), *parts))


def _content(data: bytes) -> str:
    """Write the function `content`, which prints `data`: byte by byte in octal, so that any shell takes it."""
    lines = [
        "printf '%b' '" + "".join(f"\\0{byte:03o}" for byte in data[at : at + _CHUNK]) + "'"
        for at in range(0, len(data), _CHUNK)
    ]
    return "content() {\n" + "\n".join(lines or [":"]) + "\n}"
