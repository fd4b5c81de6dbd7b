"""Before an install: which server takes the certificate for which names, and what is to be changed there."""

import functools
from collections.abc import Callable, Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, TypeVar

from cryptography import x509

from inkstamp.bulkhead import submit
from inkstamp.config.carrying import is_away
from inkstamp.config.model import Certificate
from inkstamp.errors import InkStampError, ReachTrouble, ServerTrouble
from inkstamp.files import read_bytes
from inkstamp.jobs.deployment.context import DeploymentContext
from inkstamp.jobs.status.editions import expect_pair
from inkstamp.ledger.records import EditionRecord
from inkstamp.pki.certificates import key_kind
from inkstamp.pki.names import uncovered
from inkstamp.pki.packing import Goods
from inkstamp.reach.interface import Rights
from inkstamp.servers import backup
from inkstamp.servers.common import plain_names, present
from inkstamp.servers.interface import FileChange, Supply, Taker

if TYPE_CHECKING:
    from inkstamp.ledger.shelf import Shelf

T = TypeVar("T")
_MODES = {"served": 0o644, "key": 0o600, "leaf": 0o644, "issuers": 0o644, "combined": 0o600}
"""The files of an edition, and who may read their copies on other machines."""


@dataclass(frozen=True, slots=True)
class Group:
    """Servers that change together, and what is to be changed."""

    names: Mapping[str, tuple[str, ...]]
    """By server, those of the certificate's names that it serves."""
    copied: bool
    """Whether what is served are copies of its own; otherwise the shelf's current edition."""
    changes: tuple[backup.Change, ...]

    @property
    def servers(self) -> tuple[str, ...]:
        """The servers."""
        return tuple(self.names)


def prepare(
    context: DeploymentContext,
    name: str,
    entry: Certificate,
    edition: EditionRecord | None,
    away: dict[str, ReachTrouble],
    *,
    tested_since: float,
    at_once: int = 1,
) -> list[Group]:
    """Test the servers as they stand and work out the edits, changing nothing.

    Args:
        context: The parts of the run.
        name: The certificate.
        entry: As configured.
        edition: What is copied; None while there is none yet.
        away: Those whose machine is known not to be reached; takes those that it turns out of.
        tested_since: Monotonic time; a server that this run found good after that is not tested again.
        at_once: How many machines are asked at the same time.

    Raises:
        ServerTrouble: A configuration is broken, or no server has a place for one of the names. With an edition, what
            is changed may fix it: the test afterwards tells.
        EditionUnfit: The edition's key is not the one of its certificate, or is encrypted.

    """
    if edition is not None and not entry.key_elsewhere:
        expect_pair(context.shelf, edition)
    wanted = [each for each in entry.install if each not in away]
    broken: dict[str, ServerTrouble] = {}
    with ThreadPoolExecutor(max_workers=max(at_once, 1)) as pool:

        def ask(work: Callable[[str], T], servers: Iterable[str]) -> dict[str, T]:
            return _ask(pool, work, servers, away)

        def places(server: str) -> tuple[str, ...]:
            try:
                context.servers.test(server, tested_since)
            except ServerTrouble as error:
                if edition is None:
                    raise
                broken[server] = error  # by what this install fixes, perhaps: a file that is not there, or does not fit
            return names_on(context, server, entry)

        def change(server: str) -> list[backup.Change]:
            supply = supply_for(context, name, server, edition, entry)
            return _changes(context, server, taken[server], supply, edition)

        taken = ask(places, wanted)
        _check_all_taken(context, name, entry, taken, whole=not away)
        changes = ask(change, taken)
    here = {each: taken[each] for each in changes if not _stands_alone(context, each)}
    switches = bool(here) and edition is not None and context.local_copy.current(name) != edition.number
    for server in broken.keys() & changes.keys():
        if not any(each.file.is_change for each in changes[server]) and not (switches and server in here):
            raise broken[server]
    groups = [Group(here, False, tuple(each for server in here for each in changes[server]))] if here else []
    apart = (each for each in changes if each not in here)
    return [*groups, *(Group({each: taken[each]}, True, tuple(changes[each])) for each in apart)]


def _ask(
    pool: ThreadPoolExecutor, work: Callable[[str], T], servers: Iterable[str], away: dict[str, ReachTrouble]
) -> dict[str, T]:
    """Do a piece of work for each server; those that are unreachable are left out, and put into `away`."""
    begun = {server: submit(pool, work, server) for server in servers}
    found = {}
    for server, answer in begun.items():
        try:
            found[server] = answer.result()
        except ReachTrouble as error:
            away[server] = error
    return found


def _stands_alone(context: DeploymentContext, server: str) -> bool:
    """Tell whether a server has an edition of its own, and not the shelf's current one."""
    return is_away(context.config, server) or isinstance(context.servers.get(server), Taker)


def names_on(context: DeploymentContext, server: str, entry: Certificate) -> tuple[str, ...]:
    """Return those of a certificate's names that a server has a place for."""
    kind = context.servers.installable(server)
    found: dict[str, None] = {}
    for each in entry.names:
        if each.startswith("*.") and kind.has_hosts:
            known = (own for site in kind.sites() for own in plain_names(site))
            under = [own for own in known if not uncovered([each], [own])]
            found |= dict.fromkeys(own for own in under if _is_chosen(context, server, entry, own))
        if kind.serves(each):
            found[each] = None
    return tuple(found)


def _is_chosen(context: DeploymentContext, server: str, entry: Certificate, name: str) -> bool:
    """Tell whether the site of a name gets the wildcard: it is asked for, or has no certificate of its own here."""
    if entry.sites:
        return name in entry.sites
    others = context.certificates.covering([name]).values()
    return not any(each is not entry and server in each.install for each in others)


def _check_all_taken(
    context: DeploymentContext, name: str, entry: Certificate, taken: Mapping[str, tuple[str, ...]], *, whole: bool
) -> None:
    """Have a server say what is missing where a name has no place on any, or a server has none of the names."""
    if not taken:
        return
    supply = supply_for(context, name, entry.install[0], None, entry)
    for server, names in taken.items():
        if not names:
            context.servers.installable(server).plan_install(entry.names, supply)
    everywhere = {each for names in taken.values() for each in names}
    lacking = tuple(each for each in entry.names if each not in everywhere and not _reaches(each, everywhere))
    if whole and lacking:
        context.servers.installable(entry.install[0]).plan_install(lacking, supply)


def _reaches(name: str, sites: Iterable[str]) -> bool:
    """Tell whether a name is a wildcard that some site is under."""
    return name.startswith("*.") and any(not uncovered([name], [each]) for each in sites)


def supply_for(
    context: DeploymentContext, name: str, server: str, edition: EditionRecord | None, entry: Certificate
) -> Supply:
    """Return what a server is given: paths on the shelf, or on its own machine, and the edition to make copies of."""
    folder = str(context.local_copy.folder(name))
    if is_away(context.config, server):
        folder = f"{context.config.server[server].certificate_folder.rstrip('/')}/{name}"
    supply = _supply(context, name, folder, edition)
    if edition is None:
        supply = replace(supply, names=entry.names, algorithm=entry.key.partition("-")[0])
    others = functools.partial(_others, context, name, server)
    return replace(supply, others=others, own_site=entry.own_site)


def _others(context: DeploymentContext, name: str, server: str) -> tuple[str, ...]:
    """Return the names of the other certificates that are for this server."""
    return tuple(
        each
        for other, entry in context.certificates.items()
        if other != name and server in entry.install
        for each in entry.names
    )


def handed(context: DeploymentContext, edition: EditionRecord) -> Supply:
    """Return what a server is handed that takes no files: paths of the edition itself."""
    folder = str(context.shelf.edition(edition.certificate, edition.number))
    return _supply(context, edition.certificate, folder, edition)


def _supply(context: DeploymentContext, name: str, folder: str, edition: EditionRecord | None) -> Supply:
    paths = {each: f"{folder}/{each}.pem" for each in _MODES}
    bare = Supply(certificate=name, served=paths["served"], key=paths["key"], leaf=paths["leaf"],
                  issuers=paths["issuers"], combined=paths["combined"])  # fmt: skip
    if edition is None:
        return bare
    chain = context.shelf.chain(edition)
    goods = functools.cache(lambda: _goods(context.shelf, edition, chain))
    algorithm = key_kind(chain[0]).partition("-")[0]
    beside = functools.partial(_beside, context, edition)
    return replace(bare, edition=edition.number, names=tuple(edition.names), algorithm=algorithm, goods=goods,
                   beside=beside)  # fmt: skip


def _goods(shelf: "Shelf", edition: EditionRecord, chain: tuple[x509.Certificate, ...]) -> Goods:
    return Goods(base=edition.certificate, leaf=chain[0], issuers=chain[1:], key=shelf.key(edition),
                 friendly_name=edition.names[0], number=edition.number)  # fmt: skip


def _beside(context: DeploymentContext, edition: EditionRecord) -> list[Goods]:
    """Load the other editions of a certificate that are on the shelf, as far as they can be read; the newest first."""
    found = []
    for number in reversed(context.shelf.numbers(edition.certificate)):
        other = context.ledger.edition(edition.certificate, number) if number != edition.number else None
        if other is not None:
            with suppress(InkStampError):
                found.append(_goods(context.shelf, other, context.shelf.chain(other)))
    return found


def _changes(
    context: DeploymentContext, server: str, names: tuple[str, ...], supply: Supply, edition: EditionRecord | None
) -> list[backup.Change]:
    """Work out the edits of one server for names that it serves; on another machine, copies of the edition as well."""
    kind = context.servers.installable(server)
    found = kind.plan_install(names, supply)
    copies = []
    if edition is not None and is_away(context.config, server):
        shelf = context.shelf.edition(edition.certificate, edition.number)
        for each in (each for each in _MODES if each in kind.points_at):
            path = getattr(supply, each)
            before, there = present(kind.host, path)
            data = read_bytes(shelf / f"{each}.pem")
            copies.append(FileChange(path, before, data, Rights(_MODES[each]), there, own_folder=True))
    return [backup.Change(server, each) for each in (*copies, *found)]
