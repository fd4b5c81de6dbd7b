"""What a program of the user's own answers (docs/programs.md)."""

import json

from inkstamp.reach.interface import Ran

_SHOWN = 500


def trouble_in(ran: Ran) -> str:
    """Return what is wrong with a program's answer; empty when it ended well and says `{"done": true}`."""
    if ran.status != 0:
        return ran.output or f"exit status {ran.status}"
    try:
        answer = json.loads(ran.output)
    except ValueError:
        return f"its answer is no JSON: {ran.output[:_SHOWN]}"
    if not isinstance(answer, dict) or answer.get("done") is not True:
        error = answer.get("error") if isinstance(answer, dict) else None
        return str(error or f"its answer does not say that it is done: {ran.output[:_SHOWN]}")
    return ""
