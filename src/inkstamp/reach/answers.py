"""A program of the user's own, told what to do and heard (docs/programs.md)."""

import json
from collections.abc import Mapping, Sequence
from typing import Any

import msgspec

from inkstamp.printable import one_line, printable
from inkstamp.reach.interface import Host, Ran

_SHOWN = 500


def ask_program(host: Host, command: Sequence[str], seconds: float, told: Mapping[str, Any]) -> str:
    """Run a program that is told something as JSON on standard input; returns what is wrong, empty when it is done."""
    return _trouble_in(host.run(command, seconds, json.dumps({"format": 1, **told}).encode()))


def read_json(data: bytes) -> Any:
    """Read what a stranger's program or server wrote as JSON; None for whatever is none."""
    try:
        return msgspec.json.decode(data)
    except (msgspec.MsgspecError, ValueError, RecursionError):
        return None


def _trouble_in(ran: Ran) -> str:
    """Return what is wrong with a program's answer; empty when it ended well and says `{"done": true}`."""
    if ran.status != 0:
        return printable(ran.output) or f"exit status {ran.status}"
    answer = read_json(ran.output.encode("utf-8", "replace"))
    if answer is None:
        return one_line(f"its answer is no JSON: {ran.output}", _SHOWN)
    if not isinstance(answer, dict) or answer.get("done") is not True:
        error = answer.get("error") if isinstance(answer, dict) else None
        return one_line(str(error or f"its answer does not say that it is done: {ran.output}"), _SHOWN)
    return ""
