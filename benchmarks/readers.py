"""The worst that a configuration file can hold, read for each kind of server.

    python benchmarks/readers.py [MIB [CONTENTS]]

Each kind reads MIB (16) of the worst of a dozen contents, each in a process of its own: seconds and memory beyond the
text itself, beside `str.split` of the same text. What a kind refuses, with one clear error, counts as read.
"""

import json
import resource
import subprocess
import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "tests"))

WORST = {
    "an unclosed quote": 'a "' + "x\\" * 20, "quotes": 'a "b" ', "directives": "a;", "lines": "a b\n", "words": "a ",
    "blocks": "a{", "closed blocks": "a{}", "variables": "a ${", "blanks": " ", "empty lines": "\n", "comments": "#\n",
    "continued lines": "\\\n", "sections": "<a>\n", "closed sections": "<a>\n</a>\n", "assignments": 'a = "b"\n',
    "lists": "a = (", "sums": 'a = "b" + "c" + ', "other line ends": "a\x0c",
}  # fmt: skip


def kinds() -> tuple[str, ...]:
    return ("nginx", "apache", "haproxy", "dovecot", "lighttpd", "postfix", "str.split")


def read_one(kind: str, content: str, size: int) -> dict[str, object]:
    """Read one content in this process; returns what it took."""
    from fuzzing import READERS

    text = (content * (size // len(content) + 1))[:size].encode()
    before, began = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, time.monotonic()
    came = "read"
    if kind == "str.split":
        text.decode().split()
    else:
        try:
            READERS[kind].work(text)
        except READERS[kind].refusals:
            came = "refused"
    took = time.monotonic() - began
    return {"seconds": took, "mib": (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024, "came": came}


def main() -> None:
    if len(sys.argv) > 3:
        print(json.dumps(read_one(sys.argv[1], WORST[sys.argv[2]], int(sys.argv[3]))))
        return
    size = int(float(sys.argv[1] if len(sys.argv) > 1 else 16) * 1_048_576)
    print(f"{size / 1_048_576:g} MiB of the worst      seconds  MiB more  of what")
    for kind in kinds():
        found = {}
        for name in list(WORST)[: int(sys.argv[2]) if len(sys.argv) > 2 else None]:
            command = [sys.executable, __file__, kind, name, str(size)]
            found[name] = json.loads(subprocess.run(command, capture_output=True, text=True, check=True).stdout)
        slow = max(found, key=lambda name: found[name]["seconds"])
        large = max(each["mib"] for each in found.values())
        print(f"{kind:<25}{found[slow]['seconds']:>9.2f}{large:>10.0f}  {slow}, {found[slow]['came']}")


if __name__ == "__main__":
    main()
