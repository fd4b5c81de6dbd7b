"""What is told while a command works: lines on stderr, for people, for programs (JSON) or for the journal."""

import os
import sys
import threading
import time

from inkstamp.cli import output
from inkstamp.cli.streams import HarmlessStream, draw
from inkstamp.errors import InkStampError
from inkstamp.printable import one_line
from inkstamp.severity import Severity

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Sequence
    from typing import TypeVar

    from inkstamp.cli.context import Context
    from inkstamp.findings import Finding

    _T = TypeVar("_T")
    _R = TypeVar("_R")

LEVELS = {Severity.OK: "info", Severity.NOTE: "info", Severity.WARN: "warning", Severity.BAD: "error"}
_FEW = 10
"""Of so many, nobody has to be told how many are done."""
_REDRAWN, _A_MINUTE = 0.2, 60.0
_MOST_LEFT = 20
_JOURNAL = {"info": "<6>", "warning": "<4>", "error": "<3>"}
"""Priorities in front of lines that go to systemd's journal (sd-daemon(3))."""


def goes_to_journal() -> bool:
    """Tell whether stderr is a connection to the journal (systemd.exec(5), JOURNAL_STREAM)."""
    told = os.environ.get("JOURNAL_STREAM", "")
    if not told:
        return False
    try:
        seen = os.fstat(sys.stderr.fileno())
    except (OSError, ValueError):
        return False
    return told == f"{seen.st_dev}:{seen.st_ino}"


class Log:
    """Tells each step in one line, as the run's `--log` says."""

    def __init__(self, form: str, context: "Context | None" = None) -> None:
        self._json = form == "json"
        self._journal = not self._json and goes_to_journal()
        self._context = context
        self._redraws = not self._json and not self._journal and output.redraws(sys.stderr)
        self._lock = threading.Lock()
        self._drawn = False
        self._told = time.monotonic()

    def step(self, certificate: str, text: str) -> None:
        self.say("info", one_line(f"{certificate}: {text}"), about=certificate, text=text)

    def waits(self, why: str, seconds: float) -> None:
        self.say("info", one_line(f"waits {seconds:.0f} s: {why}"), text=why, waits=seconds)

    def found(self, certificate: str, finding: "Finding") -> None:
        shown = output.finding(finding, sys.stderr, below=certificate)
        self.say(LEVELS[finding.severity], shown, about=certificate, finding=finding)

    def counts(self, what: str, done: int, total: int) -> None:
        """Tell how far it is, on a line that is redrawn on a terminal, and otherwise once a minute."""
        if total <= _FEW:
            return
        line, now = f"{what}: {done} of {total}", time.monotonic()
        with self._lock:
            if self._redraws and done == total:
                self._wipe()
            elif (self._redraws and not self._drawn) or now - self._told >= (_REDRAWN if self._redraws else _A_MINUTE):
                self._told = now
                if self._redraws:
                    draw(line)
                    self._drawn = True
                else:
                    self.say("info", line, text=line, done=done, total=total)

    def stopped(self, what: str, left: "Sequence[str]", total: int, stop: KeyboardInterrupt) -> None:
        """Tell what is left; the command tells what is done, and its exit status is that of a stopped one."""
        with self._lock:
            self._wipe()
        if self._context is not None:
            self._context.stopped_by = 143 if stop.args else 130
        names = ", ".join(left[:_MOST_LEFT]) + (f" and {len(left) - _MOST_LEFT} more" if len(left) > _MOST_LEFT else "")
        line = f"stopped: {total - len(left)} of {total} {what}; not {what}: {names}"
        self.say("warning", output.wrapped(line, "", "  "), text=one_line(line), left=list(left))

    def _wipe(self) -> None:
        if self._drawn:
            draw("")
            self._drawn = False

    def say(self, level: str, line: str, **more: object) -> None:
        """Write one entry."""
        if self._drawn:
            self._wipe()
        if self._json:
            line = as_line(level, **more)
        elif self._journal and isinstance(sys.stderr, HarmlessStream):
            sys.stderr.write_entry(_JOURNAL[level], line)
            sys.stderr.flush()
            return
        sys.stderr.write(f"{line}\n")  # in one piece: several threads tell at the same time
        sys.stderr.flush()


def as_line(level: str, **content: object) -> str:
    """Write an entry as one line of JSON."""
    from datetime import UTC, datetime

    from inkstamp.clock import stamp

    return output.json_text({"at": stamp(datetime.now(UTC)), "level": level, **content})


def tell_error(context: "Context", trouble: InkStampError, about: str = "inkstamp") -> None:
    """Tell an error on stderr, as the run's `--log` says."""
    if context.log == "json":
        print(as_line("error", about=about, **output.error_data(trouble)), file=sys.stderr, flush=True)
    else:
        output.error(trouble, about=about)


def each_apart(
    context: "Context", items: "Iterable[_T]", work: "Callable[[_T], _R]", about: "Callable[[_T], str]"
) -> "tuple[list[_R], list[InkStampError]]":
    """Do something with each, where one that fails stops no other and is told; returns results, and what failed."""
    from inkstamp.bulkhead import attempt

    done: list[_R] = []
    failed: list[InkStampError] = []
    for each in items:
        result = attempt(work, each)
        if isinstance(result, InkStampError):
            failed.append(result)
            tell_error(context, result, about(each))
        else:
            done.append(result)
    return done, failed
