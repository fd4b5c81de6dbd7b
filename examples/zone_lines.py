#!/usr/bin/env python3
"""Keep records as lines of a file that a zone includes, and have the nameserver take it; see docs/programs.md.

    [program.zonefile]
    command = ["/usr/local/lib/inkstamp/zone_lines.py", "/etc/bind/proofs.inc", "rndc", "reload"]

The zone file has `$INCLUDE /etc/bind/proofs.inc` in it. Raising its serial number is left to the command.
"""

import json
import os
import subprocess
import sys
from pathlib import Path


def main(file: Path, reload: list[str]) -> dict[str, object]:
    told = json.load(sys.stdin)
    lines = file.read_text().splitlines() if file.exists() else []
    for record in told["records"]:
        value = f'"{record["value"]}"' if record["type"] == "TXT" else f"{record['value']}."
        line = f"{record['name']}. {record['ttl']} IN {record['type']} {value}"
        if told["action"] == "put" and line not in lines:
            lines.append(line)
        elif told["action"] == "drop":
            lines = [each for each in lines if each != line]
    beside = file.with_name(f"{file.name}.new")
    beside.write_text("".join(f"{line}\n" for line in lines))
    os.replace(beside, file)
    if reload:
        done = subprocess.run(reload, capture_output=True, text=True, check=False)
        if done.returncode:
            return {"error": f"{' '.join(reload)}: {done.stdout}{done.stderr}"[:500]}
    return {"done": True}


if __name__ == "__main__":
    print(json.dumps(main(Path(sys.argv[1]), sys.argv[2:])))
