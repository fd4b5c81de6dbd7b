"""What is found at several addresses of a name: once where it is the same, else with where it is.

One forgotten server behind a name is the usual surprise, and who fixes it must know which one it is.
"""

from collections.abc import Callable, Mapping, Sequence

from cryptography import x509
from msgspec.structs import replace

from inkstamp.findings import Finding
from inkstamp.view.handshake import Served

Chain = tuple[x509.Certificate, ...]


def at_each_address(name: str, answered: Sequence[Served], look: Callable[[Served], list[Finding]]) -> list[Finding]:
    """Look at each address."""
    return _with_places(name, {_place(each): look(each) for each in answered})


def for_each_chain(name: str, answered: Sequence[Served], look: Callable[[Chain], Sequence[Finding]]) -> list[Finding]:
    """Judge each chain that is served."""
    served: dict[Chain, list[str]] = {}
    for each in answered:
        served.setdefault(each.chain, []).append(_place(each))
    return _with_places(name, {", ".join(places): look(chain) for chain, places in served.items()})


def _place(served: Served) -> str:
    return f"{served.address}:{served.port}"


def _with_places(name: str, found: Mapping[str, Sequence[Finding]]) -> list[Finding]:
    """Give findings about `name` their place as subject, unless they were made at all places."""
    first = next(iter(found.values()), ())
    everywhere = [finding for finding in first if all(finding in more for more in found.values())]

    def placed(place: str, finding: Finding) -> Finding:
        return replace(finding, subject=place if finding.subject == name else f"{finding.subject} at {place}")

    return everywhere + [
        placed(place, each) for place, more in found.items() for each in more if each not in everywhere
    ]
