"""A simulated PowerShell: takes a request of reach/windows as it is sent, and has a simulated machine carry it out.

    powershell MACHINE -NoProfile -NonInteractive -Command -

It can be told of faults, by operation, in the machine's state: the answer in UTF-16, cut off in the middle, slow,
refused with an error of a name.
"""

import base64
import json
import re
import sys
import time
from pathlib import Path
from typing import Any

from inkstamp.standins.windows_machine import MachineTrouble, WindowsMachine

_LINE = re.compile(r"FromBase64String\('([A-Za-z0-9+/=]+)'\)\)\)\) '([A-Za-z0-9+/=]*)' '([0-9a-f]+)'")
_OPERATION = re.compile(r"^# operation: (\w+)$", re.MULTILINE)


def main(arguments: list[str]) -> int:
    """Carry out what is sent on standard input; returns the exit status."""
    if arguments[1:] != ["-NoProfile", "-NonInteractive", "-Command", "-"]:
        sys.stderr.write("powershell: these arguments were not expected\n")
        return 1
    machine = WindowsMachine(Path(arguments[0]))
    sent = _LINE.search(sys.stdin.read())
    operation = _OPERATION.search(base64.b64decode(sent[1]).decode()) if sent else None
    if sent is None or operation is None:
        sys.stderr.write('Fehlendes schließendes "}" in einem Anweisungsblock.\n')
        return 1
    fault = machine.state()["faults"].get(operation[1], "")
    if fault == "slow":
        time.sleep(20)
    answer = _answer(machine, operation[1], json.loads(base64.b64decode(sent[2])), fault)
    text = base64.b64encode(json.dumps(answer, ensure_ascii=False).encode()).decode()
    lines = [f"inkstamp-begins {sent[3]}", text, f"{sent[3]} inkstamp-ends", ""]
    if fault == "cut":
        lines = [lines[0], text[: len(text) // 2]]
    said = "\r\n".join(lines)
    sys.stdout.buffer.write(said.encode("utf-16") if fault == "utf16" else said.encode())
    return 0


def _answer(machine: WindowsMachine, operation: str, request: dict[str, Any], fault: str) -> dict[str, Any]:
    try:
        if fault.startswith("refuse "):
            raise MachineTrouble("Der Zugriff wurde verweigert. ⚠ \x1b[31m", fault.removeprefix("refuse "))
        if fault == "after":  # all is done, and yet it fails
            machine.carry_out(operation, request)
            raise MachineTrouble("Der RPC-Server ist nicht verfügbar.", "COMException")
        return {"done": True, "answer": machine.carry_out(operation, request)}
    except MachineTrouble as error:
        return {"done": False, "error": str(error), "kind": error.kind, "exception": "System.Exception"}


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
