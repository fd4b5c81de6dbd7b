"""How far work on many certificates is: one line that is redrawn on a terminal, a line a minute elsewhere."""

import sys
import threading

from inkstamp.cli.context import Context
from inkstamp.cli.log import Log
from inkstamp.cli.output import redraws
from inkstamp.cli.streams import draw
from inkstamp.clock import Clock

_FEW = 10
"""Up to so many certificates, their steps tell enough."""
_A_MINUTE = 60.0
_REDRAWN = 0.2


class Tally:
    """Counts what is done, and says how long the rest will take; safe to share between threads."""

    def __init__(self, context: Context, clock: Clock, *, quiet: bool) -> None:
        self._clock = clock
        self._redraws = redraws(sys.stderr) and context.log == "text" and not context.json
        self._log = Log(context.log)
        self._lock = threading.Lock()
        self._total = self._done = self._failed = 0
        self._began = self._told = clock.monotonic()
        self._quiet = quiet
        self._drawn = False

    def __enter__(self) -> "Tally":
        """Count from now on."""
        return self

    def __exit__(self, *_error: object) -> None:
        """Take the line off the terminal."""
        with self._lock:
            if self._drawn:
                draw("")
                self._drawn = False

    def begins(self, total: int) -> None:
        """Take note of how many there are."""
        with self._lock:
            self._total = total
            self._began = self._told = self._clock.monotonic()

    def ended(self, *, failed: bool, rests: float) -> None:
        """Take note that one has ended; `rests` are the seconds for which a CA wants to be left alone."""
        with self._lock:
            self._done += not failed
            self._failed += failed
            if self._quiet or self._total <= _FEW:
                return
            now = self._clock.monotonic()
            if now - self._told >= (_REDRAWN if self._redraws else _A_MINUTE):
                self._told = now
                self._tell(self._line(now, rests))

    def _line(self, now: float, rests: float) -> str:
        ended = self._done + self._failed
        left = (now - self._began) / ended * (self._total - ended) + rests if ended else 0.0
        limit = f", {_span(rests)} of it for a CA's rate limit" if rests >= 1 else ""
        return f"{self._done} done, {self._failed} failed of {self._total}; about {_span(left)} left{limit}"

    def _tell(self, line: str) -> None:
        if self._redraws:
            draw(line)
            self._drawn = True
        else:
            self._log.say("info", line, done=self._done, failed=self._failed, total=self._total)


def _span(seconds: float) -> str:
    if seconds < 90:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 5400 else f"{seconds / 3600:.1f} h"
