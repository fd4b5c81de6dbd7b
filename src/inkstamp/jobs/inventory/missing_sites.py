"""Certificates whose sites are gone: they are renewed, and nobody is served them."""

from collections.abc import Iterable, Mapping
from datetime import datetime

from inkstamp.config.model import Certificate
from inkstamp.findings import Finding, bad, warn
from inkstamp.pki.names import is_covered_by_wildcard
from inkstamp.servers.interface import Site


class SiteNames:
    """The names that one server's sites have, to look up thousands in."""

    def __init__(self, sites: Iterable[Site]) -> None:
        self._names = {name.lower() for site in sites for name in site.names}
        dotted = (f"*{name}" if name.startswith(".") else name for name in self._names)
        self._wildcards = frozenset(name for name in dotted if name.startswith("*."))
        self._served_by = {f"*.{name.partition('.')[2]}" for name in self._names if not name.startswith(("*", "."))}
        """The wildcards that would cover one of the names."""
        self.is_certain = not any(set(name.removeprefix("*.")) & set("*~^$(\\") for name in self._names)
        """Whether no name is a pattern, which might match any."""

    def has(self, name: str) -> bool:
        """Tell whether a site has a name of a certificate, or lies below it where that is a wildcard."""
        return name in self._names or is_covered_by_wildcard(name, self._wildcards) or name in self._served_by


def without_sites(
    certificates: Iterable[tuple[str, Certificate]], hosts: Mapping[str, SiteNames]
) -> list[tuple[str, tuple[str, ...]]]:
    """Return the certificates that are for servers of which none has a site with one of their names.

    Args:
        certificates: The entries by name.
        hosts: By server, the names of its sites; servers without virtual hosts are not among them.

    """
    found = []
    for name, entry in certificates:
        servers = tuple(each for each in entry.install if each in hosts)
        if servers != entry.install or not servers or not all(hosts[each].is_certain for each in servers):
            continue  # one of them could not be read, or need not have a site for it
        if not any(hosts[server].has(each) for server in servers for each in entry.names):
            found.append((name, servers))
    return found


def missing_site(name: str, servers: tuple[str, ...], due: datetime | None, now: datetime) -> Finding:
    """Tell that the sites of a certificate are gone; `due` is from when it is renewed, None for one without edition."""
    seen = f"no site of {', '.join(servers)} has any of its names"
    remedy = f"add the site again, or: inkstamp remove {name}"
    return (bad if due is not None and due <= now else warn)("site", name, seen, remedy)
