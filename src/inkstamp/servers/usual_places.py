"""Servers that are in their usual places on this machine."""

import os
from itertools import count

from inkstamp.config.model import Configuration, Server
from inkstamp.config.server_kinds import KINDS
from inkstamp.reach.local import find_program


def found_beside(config: Configuration) -> dict[str, Server]:
    """Return an entry for each server in its usual place on this machine that is not configured yet, by a name."""
    here = [each for each in config.server.values() if not each.reach]
    known = {(each.kind, each.main_file or next(iter(KINDS[each.kind].main_files), "")) for each in here}
    found: dict[str, Server] = {}
    for kind, facts in KINDS.items():  # the first place that there is counts
        program = next(filter(None, map(find_program, facts.programs)), None)
        main_file = next(filter(os.path.isfile, facts.main_files), None)
        if program is None or main_file is None or (kind, main_file) in known:
            continue
        taken = {*config.server, *config.program, *config.nameserver}
        name = kind if kind not in taken else next(n for i in count(2) if (n := f"{kind}-{i}") not in taken)
        found[name] = Server(kind=kind, program=program, main_file=main_file)
    return found
