"""A standing answer: what a server says to every `http-01` challenge for one account key.

The answer is the token, a dot, and the thumbprint of the account key (RFC 8555 sections 8.1 and 8.3), so that a server
which knows the thumbprint needs no file. It proves nothing for anybody else: only who has that account's key can make
use of it.
"""

import itertools
import re
from collections.abc import Iterator, Sequence

from inkstamp.servers.text import Directive, Splice
from inkstamp.servers.tls_edits import without

REMARK = "# answers http-01 challenges for one ACME account key; put here by `inkstamp prove --standing`"
"""Stands above what makes a server answer."""
CHALLENGES = r"/\.well-known/acme-challenge/"
"""The challenge path, as a regular expression."""
TOKEN = "[A-Za-z0-9_-]{1,128}"  # noqa: S105  an expression
"""What a token looks like: base64url (RFC 8555 section 8.1), as a regular expression."""


def but_for_thumbprint(present: str, choices: Sequence[str], answers: re.Pattern[str]) -> str:
    """Return the choice that is there already but for the thumbprint, which `answers` finds; else the first one."""
    bare = answers.sub("", present)
    return next((each for each in choices if answers.sub("", each) == bare), choices[0])


def in_place_of(present: Sequence[Directive], text: str, made: str) -> Iterator[Splice]:
    """Put lines into the place of directives of one file; nothing where they are there already."""
    first, last = present[0], present[-1]
    if text[first.start : last.end] == made:
        return
    gaps = (text[each.end : after.start] for each, after in itertools.pairwise(present))
    if not any(gap.strip() for gap in gaps):
        yield Splice(first.file, first.start, last.end, made)
        return
    yield Splice(first.file, first.start, first.end, made)
    yield from (without(each, text) for each in present[1:])
