"""The connection to another machine by OpenSSH's own client: the user's ssh_config, agent and known hosts hold.

One connection is kept for all requests of a run (ssh_config(5), ControlMaster). Host keys are always verified.
"""

import atexit
import shutil
import tempfile
import threading
from contextlib import suppress
from functools import cached_property
from pathlib import Path
from urllib.parse import SplitResult, urlsplit

from inkstamp.errors import ConfigurationError, FileTooLarge, ReachTrouble
from inkstamp.ownership import expect_ours
from inkstamp.printable import one_line
from inkstamp.reach import process

_GRACE = 15.0
"""Seconds for the connection, beside what a request may take."""
_CLOSING = 5.0
_OPTIONS = {
    "BatchMode": "yes",
    "StrictHostKeyChecking": "yes",
    "ConnectTimeout": "10",
    "ServerAliveInterval": "5",
    "ServerAliveCountMax": "3",
    "ControlMaster": "auto",
    "ControlPersist": "30",
    "RequestTTY": "no",
    "ForwardAgent": "no",
    "ForwardX11": "no",
}
_ADVICE = (
    ("host key", "check that the machine is the right one, then add its key to known_hosts"),
    ("permission denied", "put a key of this user into the other side's authorized_keys, or load it into the agent"),
    ("sudo", "let the user run sh by sudo without a password, or reach the machine as another user"),
    ("", "try `ssh` to that machine by hand, as the user that runs this command"),
)


class SshConnection:
    """One connection for all requests to a machine, shared between threads."""

    def __init__(self, url: str, *, config_file: str = "") -> None:
        parts = _reach_parts(url)
        self.url = url
        self.name = parts.hostname or ""
        """The name or address that the URL gives."""
        if config_file:
            expect_ours(Path(config_file), "the SSH configuration")
        options = [f"-o{key}={value}" for key, value in _OPTIONS.items()]
        login = ["-l", parts.username] if parts.username else []
        port = ["-p", str(parts.port)] if parts.port else []
        self._options = [*(["-F", config_file] if config_file else []), *options, *login, *port]
        self._lock = threading.Lock()

    @cached_property
    def folder(self) -> Path:
        """A folder for the connection's socket, with a short path: sockets' names have 108 bytes."""
        made = Path(tempfile.mkdtemp(prefix="inkstamp-", dir="/tmp"))
        atexit.register(self.close)
        return made

    def _command(self, *arguments: str) -> list[str]:
        with self._lock:
            path = f"-oControlPath={self.folder}/%C"
        return ["ssh", *self._options, path, *arguments]

    def close(self) -> None:
        """Give the connection up."""
        if "folder" not in self.__dict__:
            return
        with suppress(OSError):
            process.run(self._command("-O", "exit", self.name), seconds=_CLOSING)
        atexit.unregister(self.close)
        shutil.rmtree(self.folder, ignore_errors=True)  # the client takes its socket away in the same moment
        del self.__dict__["folder"]

    def send(self, command: str, data: bytes, *, seconds: float, most: int, until: bytes) -> process.Ended:
        """Run a command there with `data` on its standard input; see `process.run` for `most` and `until`.

        Raises:
            ReachTrouble: It does not answer within `seconds`, or OpenSSH's client cannot be started.
            FileTooLarge: It answers with more than `most` bytes.

        """
        try:
            done = process.run(
                self._command(self.name, command), data=data, seconds=seconds + _GRACE, most=most, until=until
            )
        except TimeoutError as error:
            raise ReachTrouble(
                f"{self.name} is unreachable: no answer within {seconds:.0f} s", where=self.url, advice=_ADVICE[-1][1]
            ) from error
        except OSError as error:
            raise ReachTrouble(
                "OpenSSH's client cannot be started", where="ssh", said=error.strerror or "", advice="install it"
            ) from error
        if done.cut:
            raise FileTooLarge(f"{self.name} answers with more than is read", where=self.url)
        return done

    def control(self, verb: str, forward: str) -> process.Ended:
        """Change a forwarding of the connection: `forward` or `cancel`; ReachTrouble when it does not answer."""
        command = self._command("-O", verb, "-L", forward, self.name)
        try:
            return process.run(command, seconds=_GRACE)
        except OSError as error:  # TimeoutError is one
            raise ReachTrouble(f"the connection to {self.name} does not answer", where=self.url) from error

    def lost(self, complaint: str, *, begun: bool) -> ReachTrouble:
        """Make the error for an answer that did not come to its end; `begun` tells whether it had begun."""
        what = "was lost in the middle of a request" if begun else "does not come about"
        advice = next(text for word, text in _ADVICE if word in complaint.lower())
        return ReachTrouble(f"the connection to {self.name} {what}", where=self.url, said=complaint, advice=advice)


def _reach_parts(url: str) -> SplitResult:
    try:
        parts = urlsplit(url)
        _ = parts.port
    except ValueError as error:
        raise ConfigurationError(f"“{one_line(url)}” cannot be reached", where="reach", said=str(error)) from error
    return parts
