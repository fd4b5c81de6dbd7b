"""Which server answers for a name, by what the configurations say."""

from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec

from inkstamp.bulkhead import side_by_side
from inkstamp.errors import InkStampError, UsageError
from inkstamp.jobs.inventory.context import PlacementContext
from inkstamp.proof.web_file import TRIAL_PARTS
from inkstamp.servers.interface import AnswersChallenges

SERVERS_AT_ONCE = 10
"""Servers whose configurations are read at the same time: most of it is waiting for other machines."""
_Has = Callable[[PlacementContext, str, str], bool]


def nothing_found(config_file: Path) -> UsageError:
    """Return the error for a machine without any server that could be read."""
    return UsageError(
        "no server is configured, and none of a known kind is found on this machine",
        where=str(config_file),
        advice='add a table [server.NAME] with kind = "nginx" or "apache" and its main_file',
    )


def serving_server(context: PlacementContext, names: Sequence[str]) -> str:
    """Return the one server that answers for the first name; it is among the configured ones then.

    Those that are configured go before those that are found in their usual places on this machine, and one that has the
    very name before those that answer by a wildcard, or as the default.

    Raises:
        UsageError: There is none, or there are several.

    """
    configured, name = list(context.configuration.current_or_empty().server), names[0]
    found = [each for each in context.servers.found if each not in configured]
    if len(configured) == 1 and not found:
        return configured[0]
    if not configured and not found:
        raise nothing_found(context.configuration.path)
    serving: list[str] = []
    for has, servers in ((_names, configured), (_names, found), (has_place, configured), (has_place, found)):
        serving = serving or _having(context, has, servers, name)
    if len(serving) == 1:
        use_if_found(context, serving[0])
        return serving[0]
    if len(configured) == 1 and not serving:
        return configured[0]  # which says what it lacks
    raise UsageError(
        f"{len(serving)} of the servers {', '.join([*configured, *found])} answer for {name}",
        advice="say with --via where challenge responses go, and with --install which servers get the certificate",
    )


def _having(context: PlacementContext, has: _Has, servers: Sequence[str], name: str) -> list[str]:
    """Return those of some servers that have what a name needs."""
    told = side_by_side(lambda each: has(context, each, name), servers, SERVERS_AT_ONCE)
    return [each for each, is_so in zip(servers, told, strict=True) if is_so]


def use_if_found(context: PlacementContext, server: str) -> None:
    """Have a server that is found here, and not configured, count as configured."""
    config = context.configuration.current_or_empty()
    if server in context.servers.found and server not in config.server:
        known = {**config.server, server: context.servers.found[server]}
        context.configuration.use(msgspec.structs.replace(config, server=known))


def _names(context: PlacementContext, server: str, name: str) -> bool:
    """Tell whether a site of a server has the very name."""
    try:
        return any(name in site.names for site in context.servers.get(server).sites())
    except InkStampError:
        return False  # it cannot be read, which is told where it is named


def has_place(context: PlacementContext, server: str, name: str) -> bool:
    """Tell whether a server would show the proof of a name, as far as its configuration says: a file, or by itself."""
    try:
        found = context.servers.get(server)
        by_itself = isinstance(found, AnswersChallenges) and found.standing(name)
        return bool(by_itself or found.places(name, TRIAL_PARTS))
    except InkStampError:
        return False
