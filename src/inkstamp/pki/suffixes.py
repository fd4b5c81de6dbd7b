"""Where the names that one can buy begin, by the public suffix list (the registries' part of it)."""

import functools
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from publicsuffixlist import PublicSuffixList


@functools.cache
def _known() -> "PublicSuffixList":
    from publicsuffixlist import PublicSuffixList  # noqa: PLC0415  takes a tenth of a second to load

    return PublicSuffixList(only_icann=True)


def registrable(name: str) -> str:
    """Return the registrable name that a normalised DNS name is or lies below; empty for a registry's own.

    It is what the Baseline Requirements call the Base Domain Name. A suffix that the list does not have counts as
    one label.
    """
    return _known().privatesuffix(name.removeprefix("*.")) or ""


def is_delegated_suffix(name: str) -> bool:
    """Tell whether the top-level domain of a normalised DNS name is one that there is, by the public suffix list."""
    return _known().publicsuffix(name.rpartition(".")[2], accept_unknown=False) is not None
