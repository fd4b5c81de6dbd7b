"""Which servers have the sites that are meant, and what would change their TLS settings; changes nothing."""

from collections.abc import Iterable, Sequence

from msgspec import Struct

from inkstamp.bulkhead import attempt
from inkstamp.errors import InkStampError, UsageError
from inkstamp.jobs.inventory.context import HardeningPlanContext
from inkstamp.pki.names import as_address, normalise, uncovered
from inkstamp.servers.interface import Hardenable, Hardening
from inkstamp.servers.tls_policy import TlsChange


class SitesOfServer(Struct, frozen=True, kw_only=True):
    """Sites of one server, by their names."""

    server: str
    names: tuple[str, ...]


def sites_meant(
    context: HardeningPlanContext, asked: Sequence[str], *, each_needs_one: bool = True
) -> list[SitesOfServer]:
    """Return the sites with TLS that are meant, by server.

    Args:
        context: The parts of the run.
        asked: Domain names of sites, names of certificates (all their sites), names of servers (all their sites); none
            for all sites of all servers.
        each_needs_one: Whether one that no site is meant by is an error, and not left out.

    Raises:
        UsageError: No site with TLS of a server that is known here is meant.
        NameTrouble: One is no name at all.

    """
    found: dict[str, dict[str, None]] = {}
    for each in asked or _servers(context):
        mine = _of_one(context, each)
        if asked and not mine and each_needs_one:
            raise UsageError(
                f"no site with TLS is found for {each}, or its server has no settings that can be changed from here",
                advice="inkstamp survey shows which sites there are",
            )
        for server, names in mine.items():
            found.setdefault(server, {}).update(dict.fromkeys(names))
    if not found:
        raise UsageError("no site with TLS is found", advice="inkstamp survey")
    return [SitesOfServer(server=server, names=tuple(names)) for server, names in found.items()]


def _servers(context: HardeningPlanContext) -> list[str]:
    return list(dict.fromkeys((*context.configuration.current_or_empty().server, *context.servers.found)))


def _of_one(context: HardeningPlanContext, asked: str) -> dict[str, list[str]]:
    if asked in _servers(context):
        return _at([asked], _names_of(context, asked), context)
    entry = context.certificates.get(asked)
    names = list(entry.names) if entry is not None else [as_address(asked) or normalise(asked)]
    return _at(_servers(context), names, context)


def _names_of(context: HardeningPlanContext, server: str) -> list[str]:
    one = context.servers.get(server)
    return [name for site in one.sites() if site.tls for name in site.names or ("",)]


def _at(servers: Iterable[str], names: Sequence[str], context: HardeningPlanContext) -> dict[str, list[str]]:
    """Return which of some names are of sites with TLS of which servers."""
    found: dict[str, list[str]] = {}
    for server in servers:
        one = attempt(context.servers.get, server)
        if isinstance(one, InkStampError) or not isinstance(one, Hardenable):
            continue
        sites = attempt(one.sites)
        if isinstance(sites, InkStampError):
            continue  # it cannot be read, which `survey` tells
        named = [name for site in sites if site.tls for name in site.names or ("",)]
        mine = [name for name in dict.fromkeys(names) if not uncovered(named, [name]) or name in named]
        if mine:
            found[server] = mine
    return found


def plan_hardening(context: HardeningPlanContext, sites: SitesOfServer, wanted: TlsChange) -> Hardening:
    """Work out what would change at the sites of one server.

    Raises:
        ServerTrouble: That cannot be done there.

    """
    server = context.servers.get(sites.server)
    if not isinstance(server, Hardenable):  # pragma: no cover  sites_meant returns no other
        raise UsageError(f"the settings of “{sites.server}” cannot be changed from here", advice="change them by hand")
    return server.plan_hardening(sites.names, wanted)


def planned_for(context: HardeningPlanContext, name: str, wanted: TlsChange) -> list[Hardening]:
    """Return what would change for a name at each server, without an error of its own: none where nothing can."""

    def plan() -> list[Hardening]:
        return [plan_hardening(context, each, wanted) for each in sites_meant(context, [name])]

    result = attempt(plan)
    return [] if isinstance(result, InkStampError) else result
