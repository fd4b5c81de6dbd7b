"""Where the names that one can buy begin, by the public suffix list (the registries' part of it)."""

import functools
import re
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from publicsuffixlist import PublicSuffixList

_BEGIN, _END = "// ===BEGIN ICANN DOMAINS===", "// ===END ICANN DOMAINS==="
_NO_RULE = re.compile(r"^//.*\n|[ \t\r].*$", re.MULTILINE)


@functools.cache
def _list() -> str:
    """Return the rules, one a line: what stands before the first white space of lines that are no comments."""
    import publicsuffixlist  # noqa: PLC0415  for those alone who ask

    text = Path(publicsuffixlist.__file__).with_name("public_suffix_list.dat").read_text("utf-8")
    return _NO_RULE.sub("", text.partition(_BEGIN)[2].partition(_END)[0])


@functools.lru_cache(maxsize=1024)
def _known(top: str) -> "PublicSuffixList":
    """Return the part of the list that is about one top-level domain: reading all of it takes a tenth of a second."""
    from publicsuffixlist import PublicSuffixList  # noqa: PLC0415  for those alone who ask

    try:
        readable = top.encode().decode("idna") if top.startswith("xn--") else top  # the list has names in Unicode
    except UnicodeError:
        readable = top
    rules = [readable] if f"\n{readable}\n" in _list() else []
    ends = _list().split(f".{readable}\n")
    below = (each.rpartition("\n")[2] for each in ends[:-1])
    return PublicSuffixList([*rules, *(f"{each}.{readable}" for each in below)])


def registrable(name: str) -> str:
    """Return the registrable name that a normalised DNS name is or lies below; empty for a registry's own.

    It is what the Baseline Requirements call the Base Domain Name. A suffix that the list does not have counts as
    one label.
    """
    return _known(name.rpartition(".")[2]).privatesuffix(name.removeprefix("*.")) or ""


def is_delegated_suffix(name: str) -> bool:
    """Tell whether the top-level domain of a normalised DNS name is one that there is, by the public suffix list."""
    top = name.rpartition(".")[2]
    return _known(top).publicsuffix(top, accept_unknown=False) is not None
