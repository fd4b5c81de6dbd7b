"""Before an install: which server takes the certificate for which names, and what is to be changed there."""

import functools
from collections.abc import Callable, Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from cryptography import x509
from msgspec import Struct, field
from msgspec.structs import replace

from inkstamp.bulkhead import submit, threads
from inkstamp.config.carrying import is_away
from inkstamp.config.model import Certificate
from inkstamp.config.server_kinds import KINDS
from inkstamp.errors import InkStampError, ReachTrouble, ServerTrouble
from inkstamp.files import read_bytes, read_secret
from inkstamp.jobs.deployment.context import DeploymentContext
from inkstamp.jobs.status.editions import expect_pair
from inkstamp.key_files import read_passphrases
from inkstamp.ledger.records import EditionRecord
from inkstamp.pki.certificates import key_kind
from inkstamp.pki.names import uncovered
from inkstamp.pki.packing import Goods, contents_of
from inkstamp.reach.interface import Host, Rights
from inkstamp.servers import backup
from inkstamp.servers.common import plain_names, present
from inkstamp.servers.interface import FileChange, Supply, Taker

if TYPE_CHECKING:
    from inkstamp.ledger.shelf import Shelf

T = TypeVar("T")
_MODES = {"served": 0o644, "key": 0o600, "leaf": 0o644, "issuers": 0o644, "combined": 0o600}
"""The files of an edition, and who may read copies of them."""
_PROGRAM = ".passphrases-"
"""Begins the name of the program that tells a server its passphrases, beside the folders of certificates."""


class Group(Struct, frozen=True):
    """Servers that change together, and what is to be changed."""

    names: Mapping[str, tuple[str, ...]]
    """By server, those of the certificate's names that it serves."""
    copied: bool
    """Whether what is served are copies of its own; otherwise the shelf's current edition."""
    changes: tuple[backup.Change, ...]
    held: Mapping[str, str] = field(default_factory=dict)
    """Where an install is taken back: what those had before it that are handed editions, by server."""

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
    with threads(max(at_once, 1)) as pool:

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
            return _changes(context, server, taken[server], supply, entry)

        taken = ask(places, wanted)
        _check_all_taken(context, name, entry, taken, whole=not away)
        changes = ask(change, taken)
    here = {each: taken[each] for each in changes if not _stands_alone(context, each, entry)}
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


def _stands_alone(context: DeploymentContext, server: str, entry: Certificate) -> bool:
    """Tell whether a server has an edition of its own, and not the shelf's current one."""
    return _takes_copies(context, server, entry) or isinstance(context.servers.get(server), Taker)


def _takes_copies(context: DeploymentContext, server: str, entry: Certificate) -> bool:
    """Tell whether copies are made for a server: on another machine, or of a key that it is to have in plain."""
    return is_away(context.config, server) or _is_decrypted(context, server, entry)


def _is_decrypted(context: DeploymentContext, server: str, entry: Certificate) -> bool:
    configured = context.config.server.get(server)
    return bool(entry.key_passphrase_file) and configured is not None and configured.decrypt


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
    """Return what a server is given: paths on the shelf, or of copies, and the edition to make copies of."""
    away, decrypted = is_away(context.config, server), _is_decrypted(context, server, entry)
    copies = context.config.server[server].certificate_folder.rstrip("/") if away else str(context.home.given)
    folder = f"{copies}/{name}" if _takes_copies(context, server, entry) else str(context.local_copy.folder(name))
    supply = _supply(context, name, folder, edition, decrypted=decrypted)
    if edition is None:
        supply = replace(supply, names=entry.names, algorithm=entry.key.partition("-")[0])
    if entry.key_passphrase_file and not decrypted and _is_encrypted(context, edition):
        alone = _takes_passphrase_alone(context, server)
        copy = f"{copies}/{name}/{'passphrase' if alone else 'passphrases'}"
        file = copy if away or alone else entry.key_passphrase_file
        supply = replace(supply, passphrase_file=file, passphrase_program=f"{copies}/{_PROGRAM}{server}")
    others = functools.partial(_others, context, name, server)
    ours = (copies,) if away else (copies, str(context.home.shelf))
    return replace(supply, others=others, own_site=entry.own_site, ours=tuple(f"{each}/" for each in ours))


def _takes_passphrase_alone(context: DeploymentContext, server: str) -> bool:
    configured = context.config.server.get(server)
    return configured is not None and KINDS[configured.kind].takes_passphrase_alone


def _is_encrypted(context: DeploymentContext, edition: EditionRecord | None) -> bool:
    """Tell whether an edition's key is encrypted on the shelf; one that there is not yet will be."""
    return edition is None or context.shelf.is_encrypted(edition.certificate, edition.number)


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
    supply = _supply(context, edition.certificate, folder, edition, decrypted=False)
    entry = context.certificates.get(edition.certificate)
    if entry is None:
        return supply
    if entry.key_passphrase_file and _is_encrypted(context, edition):
        supply = replace(supply, passphrase_file=entry.key_passphrase_file)
    return replace(supply, keep=entry.keep)


def _supply(
    context: DeploymentContext, name: str, folder: str, edition: EditionRecord | None, *, decrypted: bool
) -> Supply:
    paths = {each: f"{folder}/{each}.pem" for each in _MODES}
    if decrypted:  # beside it may lie the encrypted one, for another server of that machine
        paths |= {each: f"{folder}/decrypted-{each}.pem" for each in ("key", "combined")}
    bare = Supply(certificate=name, served=paths["served"], key=paths["key"], leaf=paths["leaf"],
                  issuers=paths["issuers"], combined=paths["combined"])  # fmt: skip
    if edition is None:
        return bare
    chain = context.shelf.chain(edition)
    goods = functools.cache(lambda: _goods(context.shelf, edition, chain, decrypted=decrypted))
    algorithm = key_kind(chain[0]).partition("-")[0]
    beside = functools.partial(_beside, context, edition, decrypted=decrypted)
    return replace(bare, edition=edition.number, names=tuple(edition.names), algorithm=algorithm, goods=goods,
                   beside=beside)  # fmt: skip


def _goods(shelf: "Shelf", edition: EditionRecord, chain: tuple[x509.Certificate, ...], *, decrypted: bool) -> Goods:
    """Load an edition, with its key as a server is to have it in a file."""
    name, number = edition.certificate, edition.number
    key = shelf.key(name, number) if shelf.has_key(name, number) else None  # else the server itself has it
    closed = key is not None and not decrypted and shelf.is_encrypted(name, number)
    text = read_bytes(shelf.edition(name, number) / "key.pem") if closed else b""
    return Goods(base=name, leaf=chain[0], issuers=chain[1:], key=key, key_text=text,
                 friendly_name=edition.names[0], number=number)  # fmt: skip


def _beside(context: DeploymentContext, edition: EditionRecord, *, decrypted: bool) -> list[Goods]:
    """Load the other editions of a certificate that are on the shelf, as far as they can be read; the newest first."""
    found = []
    for number in reversed(context.shelf.numbers(edition.certificate)):
        other = context.ledger.edition(edition.certificate, number) if number != edition.number else None
        if other is not None:
            with suppress(InkStampError):
                found.append(_goods(context.shelf, other, context.shelf.chain(other), decrypted=decrypted))
    return found


def _changes(
    context: DeploymentContext, server: str, names: tuple[str, ...], supply: Supply, entry: Certificate
) -> list[backup.Change]:
    """Work out the edits of one server for names that it serves, and the copies of the edition that it takes."""
    kind = context.servers.installable(server)
    found = kind.plan_install(names, supply)
    copies = []
    if supply.goods is not None and _takes_copies(context, server, entry):
        shelf = context.shelf.edition(supply.certificate, supply.edition)
        decrypted = _is_decrypted(context, server, entry)
        for each in (each for each in _MODES if each in kind.points_at):
            data = contents_of(each, supply.goods()) if decrypted else read_bytes(shelf / f"{each}.pem")
            copies.append(_copy(kind.host, getattr(supply, each), data, _MODES[each]))
    if supply.goods is not None and supply.passphrase_file not in {"", entry.key_passphrase_file}:
        known = Path(entry.key_passphrase_file)
        data = read_passphrases(known)[0] if _takes_passphrase_alone(context, server) else read_secret(known)
        copies.append(_copy(kind.host, supply.passphrase_file, data, 0o600))
    return [backup.Change(server, each) for each in (*copies, *found)]


def _copy(host: Host, path: str, data: bytes, mode: int) -> FileChange:
    before, there = present(host, path)
    return FileChange(path, before, data, Rights(mode), there, own_folder=True)
