"""A Windows Server, reached by OpenSSH's own client: certificates, bindings and validation files, no other files.

A request goes to PowerShell on standard input, as one line that holds a script of this folder and JSON in base64. So
nothing of it is in an argument list, no shell of the other side has to take it apart, and neither code page nor width
of a console changes the answer, which stands between two marks.
"""

import base64
import json
import re
import secrets
import threading
from collections.abc import Mapping, Sequence
from contextlib import suppress
from functools import cache
from importlib import resources
from typing import Any, Literal, TypeVar

import msgspec

from inkstamp.decoding import from_json
from inkstamp.errors import FileTrouble, ReachTrouble, ServerTrouble
from inkstamp.printable import one_line, printable, shown_bytes
from inkstamp.reach import process
from inkstamp.reach.interface import Contents, FoundFile, Planted, Ran, Rights
from inkstamp.reach.ports import ListeningProgram
from inkstamp.reach.ssh_connection import SshConnection
from inkstamp.reach.windows.state import WindowsState, pem_of

_COMMAND = "powershell -NoProfile -NonInteractive -Command -"
_STORES = ("My", "WebHosting")
_SECONDS = 120.0
"""For one request: PowerShell alone takes seconds to start there."""
_MOST_ANSWER = 67_108_864
_SHOWN = 500
Operation = Literal["read", "change", "csr", "place", "remove", "run"]
A = TypeVar("A")


class _Done(msgspec.Struct, frozen=True):
    """What every answer says."""

    done: bool
    answer: msgspec.Raw = msgspec.Raw(b"{}")
    error: str = ""
    """In the language of that machine."""
    kind: str = ""
    exception: str = ""


class _Made(msgspec.Struct, frozen=True):
    made: tuple[int, ...] = ()


class _Csr(msgspec.Struct, frozen=True):
    csr: str


class _Nothing(msgspec.Struct, frozen=True):
    pass


class WindowsHost:
    """What is asked of a Windows Server; one connection for all, shared between threads."""

    def __init__(self, url: str, *, config_file: str = "") -> None:
        self._connection = SshConnection(url, config_file=config_file)
        self._url, self._name = url, self._connection.name
        self._state: WindowsState | None = None
        self._lock = threading.Lock()

    @property
    def address(self) -> str:
        """The name or address that the URL gives."""
        return self._name

    def close(self) -> None:
        """Give the connection up."""
        self._connection.close()

    def state(self) -> WindowsState:
        """Return sites, bindings and certificates, as read once until they are forgotten."""
        with self._lock:
            if self._state is None:
                self._state = self._ask("read", {"stores": _STORES}, WindowsState)
            return self._state

    def forget(self) -> None:
        """Read all anew when it is asked for next."""
        with self._lock:
            self._state = None

    def change(self, request: Mapping[str, Any]) -> None:
        """Have stores and bindings be as a request says (change.ps1); ServerTrouble when it cannot be done."""
        self.forget()
        self._ask("change", request, _Nothing)

    def make_csr(self, container: str, kind: str, names: Sequence[str]) -> bytes:
        """Have a new key made, of that name and kind, and return a CSR (DER) for names; ServerTrouble when it fails."""
        told = self._ask("csr", {"container": container, "kind": kind, "names": list(names)}, _Csr)
        try:
            return base64.b64decode(told.csr, validate=True)
        except ValueError as error:
            raise ServerTrouble(f"the CSR of {self._name} cannot be read", where=self._url) from error

    def run_script(self, script: str, told: Mapping[str, Any] | None) -> None:
        """Have a script of the administrator's own told something, or only see that it is there (None).

        Raises:
            ServerTrouble: It is not there, or fails: in its words.

        """
        self._ask("run", {"script": script, "told": told}, _Nothing)

    def exchange(self) -> dict[str, Any]:
        """Ask for all that is read, and return request and answer word for word, to be shown to somebody else."""
        request = {"stores": _STORES}
        _, done = self._send("read", request)
        output, complaint = (_narrow(each).decode("utf-8", "replace") for each in (done.output, done.complaint))
        found = re.search(r"inkstamp-begins \S+\s+(\S+)", output)
        with suppress(ValueError):
            output = base64.b64decode(found[1] if found else "", validate=True).decode("utf-8") or output
        return {"machine": self._name, "operation": "read", "request": request, "status": done.status,
                "answer": output, "complaint": complaint}  # fmt: skip

    def _send(self, operation: Operation, request: Mapping[str, Any]) -> tuple[bytes, process.Ended]:
        """Send a request; returns the mark of its answer, and what came back."""
        mark = secrets.token_hex(8)  # so that nothing that is printed there is taken for the end
        told = base64.b64encode(json.dumps(request).encode()).decode("ascii")
        script = base64.b64encode(_script(operation)).decode("ascii")
        line = (
            "& ([ScriptBlock]::Create([Text.Encoding]::UTF8.GetString([Convert]::FromBase64String("
            f"'{script}')))) '{told}' '{mark}'\nexit\n"
        )
        ends = f"{mark} inkstamp-ends".encode()
        done = self._connection.send(_COMMAND, line.encode("ascii"), seconds=_SECONDS, most=_MOST_ANSWER, until=ends)
        return mark.encode(), done

    def _ask(self, operation: Operation, request: Mapping[str, Any], kind: type[A], *, path: str = "") -> A:
        """Have a request carried out, and return its answer; `path` is the file that it is about."""
        mark, done = self._send(operation, request)
        complaint = printable(_narrow(done.complaint).decode("utf-8", "replace")).strip()
        output = _narrow(done.output)
        found = re.search(rb"inkstamp-begins %b\s+([A-Za-z0-9+/=\s]*?)\s*%b inkstamp-ends" % (mark, mark), output)
        if found is None:
            if b"inkstamp-begins" in output:
                raise self._connection.lost(complaint, begun=True)
            raise self._no_answer(complaint or shown_bytes(output), done.status)
        answer = self._decoded(found[1], _Done)
        if not answer.done:
            raise self._refused(operation, answer, path)
        return self._decoded(bytes(answer.answer), kind, plain=True)

    def _decoded(self, data: bytes, kind: type[A], *, plain: bool = False) -> A:
        try:
            return from_json(data if plain else base64.b64decode(data), kind)
        except (ValueError, msgspec.MsgspecError, RecursionError) as error:
            raise ServerTrouble(
                f"the answer of {self._name} cannot be understood", where=self._url, said=one_line(str(error), _SHOWN),
                advice="see docs/windows.md on what has been tried, and how to send back what was seen",
            ) from error  # fmt: skip

    def _no_answer(self, said: str, status: int) -> ReachTrouble:
        """Make the error for a machine that has no PowerShell, or did not let us in."""
        if re.search(r"powershell", said, re.IGNORECASE) or status in {1, 127, 9009}:
            return ReachTrouble(
                f"PowerShell of {self._name} does not answer", where=self._url, said=said,
                advice=f"try by hand, as the user that runs this command: ssh {self._name} powershell -Command 1",
            )  # fmt: skip
        return self._connection.lost(said, begun=False)

    def _refused(self, operation: Operation, answer: _Done, path: str) -> ServerTrouble | FileTrouble:
        said, where = one_line(answer.error, _SHOWN), f"{self._url}{'/' if path else ''}{path}"
        if answer.error.startswith("inkstamp: "):
            kind = FileTrouble if path else ServerTrouble
            return kind(f"{said.removeprefix('inkstamp: ')} on {self._name}", where=where)
        advice = next((advice for word, advice in _WAYS_OUT if word in f"{answer.kind} {answer.exception}"), "")
        what = f"{self._name} refuses to {_WORDS[operation]}"
        if path:
            return FileTrouble(what, where=where, said=said, advice=advice)
        return ServerTrouble(what, where=where, said=said, advice=advice or "correct that, then run the command again")

    # What a host offers

    def has_address(self, address: str) -> bool:
        return address in self.state().addresses

    def listeners(self, port: int) -> list[ListeningProgram]:  # noqa: ARG002  http.sys shares ports between programs
        return []

    def gather(self, patterns: Sequence[str], *, contents: Contents) -> dict[str, FoundFile]:
        """Return certificates by STORE/THUMBPRINT, each as PEM with the intermediates of that machine."""
        state = self.state()
        found = {each: pem_of(state, each) for each in patterns}
        return {
            path: FoundFile(Rights(0), data if contents != "none" else None)
            for path, data in found.items()
            if data is not None
        }

    def read_certificates(self, path: str) -> bytes:
        return self.read(path)

    def read(self, path: str) -> bytes:
        """Return a certificate, as `gather`."""
        found = self.read_if_there(path)
        if found is None:
            raise FileTrouble(f"there is no certificate {path} on {self._name}", where=f"{self._url}/{path}")
        return found

    def read_if_there(self, path: str) -> bytes | None:
        return pem_of(self.state(), path)

    def missing_folders(self, root: str, parts: tuple[str, ...]) -> tuple[int, ...]:
        return self._place(root, parts, None)

    def plant(self, root: str, parts: tuple[str, ...], data: bytes) -> Planted:
        return Planted(root, parts, self._place(root, parts, data))

    def check_root(self, root: str, parts: tuple[str, ...]) -> None:
        self._place(root, parts, None)

    def _place(self, root: str, parts: tuple[str, ...], data: bytes | None) -> tuple[int, ...]:
        content = None if data is None else base64.b64encode(data).decode("ascii")
        request = {"root": root, "parts": parts, "content": content}
        return self._ask("place", request, _Made, path="/".join((root, *parts))).made

    def uproot(self, root: str, parts: tuple[str, ...], made: Sequence[int]) -> None:
        request = {"root": root, "parts": parts, "made": list(made)}
        self._ask("remove", request, _Nothing, path="/".join((root, *parts)))

    # What is not done on Windows: no other files are read or written there, and no programs run

    def _not_there(self) -> ServerTrouble:
        return ServerTrouble(
            f"{self._name} is a Windows machine: no files or programs of it are used", where=self._url,
            advice='servers of kind = "iis" alone can be there',
        )  # fmt: skip

    def replace(self, path: str, data: bytes) -> None:  # noqa: ARG002
        raise self._not_there()

    def put(self, path: str, data: bytes, rights: Rights) -> None:  # noqa: ARG002
        raise self._not_there()

    def present(self, path: str) -> tuple[bytes, Rights] | None:  # noqa: ARG002
        raise self._not_there()

    def converse(self, socket_path: str, data: bytes, seconds: float) -> bytes:  # noqa: ARG002
        raise self._not_there()

    def remove(self, path: str) -> None:  # noqa: ARG002
        raise self._not_there()

    def glob(self, pattern: str) -> list[str]:  # noqa: ARG002
        raise self._not_there()

    def run(self, command: Sequence[str], seconds: float, data: bytes = b"") -> Ran:  # noqa: ARG002
        raise self._not_there()

    def have_folder(self, path: str) -> bool:  # noqa: ARG002
        raise self._not_there()

    def drop_folder(self, path: str) -> None:  # noqa: ARG002
        raise self._not_there()


_WORDS: dict[Operation, str] = {
    "read": "tell its sites and certificates",
    "change": "change its certificates and bindings",
    "csr": "make a key and a CSR",
    "place": "write a validation file",
    "remove": "remove a validation file",
    "run": "run the script",
}
_WAYS_OUT = (
    ("Modules_ModuleNotFound", "have IIS's module for PowerShell there: Install-WindowsFeature Web-Scripting-Tools"),
    ("CommandNotFound", "that command belongs to Windows Server 2016 and later; see docs/windows.md on what is needed"),
    ("UnauthorizedAccess", "let an administrator of that machine be the one in `reach`"),
    ("Security", "let an administrator of that machine be the one in `reach`"),
)
"""What to do, by a word of the error's name, which no language of the system changes."""


@cache
def _script(operation: Operation) -> bytes:
    folder = resources.files("inkstamp.reach.windows")
    return b"\n".join(folder.joinpath(f"{each}.ps1").read_bytes() for each in ("prologue", operation, "epilogue"))


def _narrow(data: bytes) -> bytes:
    """Return an answer in bytes of one each, where the other side wrote UTF-16 or a byte order mark."""
    if data[:2] in (b"\xff\xfe", b"\xfe\xff") or data[1:2] == b"\0":
        data = data.replace(b"\0", b"").removeprefix(b"\xff\xfe").removeprefix(b"\xfe\xff")
    return data.removeprefix(b"\xef\xbb\xbf")
