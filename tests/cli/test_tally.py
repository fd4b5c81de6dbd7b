"""How far work on many is: a line that is redrawn on a terminal, a line a minute elsewhere, nothing when quiet."""

import argparse
import io
import sys
from datetime import UTC, datetime

import pytest
from hand_clock import HandClock

from inkstamp.cli.context import Context
from inkstamp.cli.streams import HarmlessStream
from inkstamp.cli.tally import Tally


class Screen(io.StringIO):
    """Standard error that is, or is no, terminal."""

    def __init__(self, *, terminal: bool) -> None:
        super().__init__()
        self._terminal = terminal

    def isatty(self) -> bool:
        return self._terminal


def told(monkeypatch: pytest.MonkeyPatch, *, terminal: bool, quiet: bool = False, total: int = 40) -> str:
    screen = Screen(terminal=terminal)
    monkeypatch.setattr(sys, "stderr", HarmlessStream(screen))
    clock = HandClock(datetime(2026, 11, 28, tzinfo=UTC))
    options = argparse.Namespace(config=None, home=None, json=False, debug=False, log="text", plain=False)
    with Tally(Context(options, "renew"), clock, quiet=quiet) as tally:
        tally.begins(total)
        for number in range(20):
            clock.sleep(10)
            tally.ended(failed=number == 3, rests=600 if number == 19 else 0)
    return screen.getvalue()


def test_a_terminal_has_one_line_that_is_redrawn_and_taken_off_at_the_end(monkeypatch: pytest.MonkeyPatch) -> None:
    text = told(monkeypatch, terminal=True)
    assert "\n" not in text
    assert text.endswith("\r\x1b[K")
    lines = text.split("\r\x1b[K")
    assert lines[1] == "1 done, 0 failed of 40; about 6 min left"
    assert lines[20] == "19 done, 1 failed of 40; about 13 min left, 10 min of it for a CA's rate limit"


def test_elsewhere_there_is_a_line_a_minute_and_few_certificates_need_none(monkeypatch: pytest.MonkeyPatch) -> None:
    assert told(monkeypatch, terminal=False).splitlines()[0] == "5 done, 1 failed of 40; about 6 min left"
    assert len(told(monkeypatch, terminal=False).splitlines()) == 3
    assert told(monkeypatch, terminal=False, total=10) == ""
    assert told(monkeypatch, terminal=True, quiet=True) == ""
