"""Put up proofs, look at them as the CA will, take them down."""

import math
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, TypeVar

import msgspec

from inkstamp.accounts.authorities import caa_names
from inkstamp.bulkhead import side_by_side
from inkstamp.config.model import Certificate
from inkstamp.deadline import poll
from inkstamp.errors import ConfigurationError, InkStampError, ProofFailed, ReachTrouble, ServerTrouble
from inkstamp.findings import Finding, bad, note
from inkstamp.jobs.validation import dns_records
from inkstamp.jobs.validation.context import ValidationContext
from inkstamp.ledger.records import OrderRecord, ProofRecord
from inkstamp.pki.names import as_address
from inkstamp.proof.caa import judge_caa
from inkstamp.proof.web_file import TRIAL_PARTS, FileProof
from inkstamp.servers.handed import StandingServer
from inkstamp.servers.interface import AnswersChallenges, FileCarrier, Obstacle
from inkstamp.severity import Severity, worst
from inkstamp.view.addresses import address_book
from inkstamp.view.lookups import Records
from inkstamp.view.point import is_own_address
from inkstamp.wording import first_and_count

if TYPE_CHECKING:
    from inkstamp.clock import Clock
    from inkstamp.servers.pool import ServerPool
    from inkstamp.view.point import View

_P = TypeVar("_P")
_T = TypeVar("_T")
_LOOK_SECONDS = 2.0
"""A web server that was reloaded a moment ago, or a shared folder, may need a second to show a new file."""
_PAUSE = 0.7
_STEADY_PAUSE, _STEADY_SECONDS = 0.2, 0.5
"""How long what is put into a configuration must be seen: workers of before take connections beside the new ones after
a reload, and a validation that meets one of them costs the whole order."""
_AT_ONCE = 16
_MOST_OBSTACLES = 3


def check_folders(
    context: ValidationContext, servers: Sequence[str], names: Sequence[str], thumbprint: str = ""
) -> None:
    """Make sure, before a CA is asked for anything, that each name has a place for its proof on each server.

    Args:
        context: The parts of the run.
        servers: Where proofs are put.
        names: What is to be proven.
        thumbprint: Of the account key, for ACME challenges: a standing answer for it needs no place.

    Raises:
        ServerTrouble: No virtual host answers for a name, or its challenges are answered for another account key.
        FileTrouble: A document root is missing, or cannot or must not be written to.

    """
    for via in servers:
        server = context.servers.get(via)
        for name in names:
            if thumbprint and answers_by_itself(server, name, thumbprint):
                continue
            if thumbprint and via in context.config.server and context.config.server[via].standing:
                raise ServerTrouble(
                    f"server “{via}” has no standing answer for {name}, and no file is put there (standing = true)",
                    where=str(context.configuration.path),
                    advice=f"put it, on each machine that has this server: inkstamp prove --standing {via}",
                )
            for place in server.places(name, TRIAL_PARTS):
                server.host.check_root(place.root, place.parts)


def answers_by_itself(server: FileCarrier, name: str, thumbprint: str) -> bool:
    """Tell whether a server has a standing answer for the challenges of a name.

    Raises:
        ServerTrouble: It has one for another account key, which would be given in the place of any file.

    """
    if isinstance(server, StandingServer):
        return True
    found = server.standing(name) if isinstance(server, AnswersChallenges) else frozenset()
    if found and found != {thumbprint}:
        raise ServerTrouble(
            f"server “{server.name}” answers the challenges of {name} for another account key than this CA's",
            where=f"its standing answer is for the thumbprint {', '.join(sorted(found - {thumbprint}))}",
            advice=f"have it answer for this one: inkstamp prove --standing {server.name} --authority AUTHORITY; where "
            "several CAs are asked, let their accounts have one key (account_key_of)",
        )
    return bool(found)


def check_addresses(view: "View", names: Sequence[str]) -> None:
    """Make sure that each name has an address; ProofFailed tells all that have none at once."""
    book = address_book(view)
    lost = [
        bad("address", name, found.trouble, found.remedy(name))
        for name in names
        if not (found := book.look_up(name)).all
    ]
    if lost:
        raise not_found(lost)


def forbidden(context: ValidationContext, entry: Certificate, methods: Mapping[str, Sequence[str]]) -> list[Finding]:
    """Find the names that CAA records keep the certificate's CA from certifying by any of its methods.

    Nothing is found where the CA's names in CAA are not known.
    """
    issuers = caa_names(context, entry.authority)
    if not issuers:
        return []
    known = context.ledger.account(entry.authority)
    records = Records(context.view)

    def judge(name: str) -> Finding:
        found = records.caa(name)
        judged = [
            judge_caa(name, found, issuers=issuers, method=method, account=known.url if known else "",
                      authority=entry.authority)
            for method in methods[name]
        ]  # fmt: skip
        return next((each for each in judged if each.severity is not Severity.BAD), judged[0])

    names = [name for name in entry.names if not as_address(name)]
    return [each for each in side_by_side(judge, names, _AT_ONCE) if each.severity is Severity.BAD]


def not_found(lost: Sequence[Finding]) -> ProofFailed:
    """Make the error for names that have no address."""
    return ProofFailed(
        f"the CA would not find {first_and_count([each.subject for each in lost])}",
        findings=lost,
        advice="create the records, then run the same command again",
    )


def put_up(context: ValidationContext, order_id: int, servers: Sequence[str], proofs: Sequence[FileProof]) -> None:
    """Write the proofs into the document roots of every server; each is in the ledger before it is on the disk.

    A server with a standing answer needs none.
    """
    places = [
        (proof, via, place)
        for via in servers
        for proof in proofs
        if not (proof.thumbprint and answers_by_itself(context.servers.get(via), proof.name, proof.thumbprint))
        for place in context.servers.get(via).places(proof.name, proof.parts)
    ]
    if not places:
        return
    records = context.ledger.files.plan(
        [
            ProofRecord(
                order_id=order_id,
                server=via,
                root=place.root,
                parts=place.parts,
                made=context.servers.get(via).host.missing_folders(place.root, place.parts),
            )
            for _, via, place in places
        ]
    )
    extra = []
    for (proof, via, place), record in zip(places, records, strict=True):
        planted = context.servers.get(via).host.plant(place.root, place.parts, proof.content)
        if set(planted.made) - set(record.made):  # another run's folders were cleared away in between
            extra.append(msgspec.structs.replace(record, made=planted.made))
    if extra:
        context.ledger.files.plan(extra)


def until_steady(look: Callable[[], _T], fails: Callable[[_T], bool], clock: "Clock", seconds: float) -> _T:
    """Look again and again until nothing fails, and nothing goes on to fail; returns what was seen last.

    For a moment after a reload the workers of before still answer, so that one look may meet a new one by chance.
    """
    since = math.inf
    for _ in poll(clock, pause=_STEADY_PAUSE, seconds=seconds):
        seen = look()
        since = math.inf if fails(seen) else min(since, clock.monotonic())
        if clock.monotonic() - since >= _STEADY_SECONDS:
            break
    return seen


def look_until_seen(
    clock: "Clock", proofs: Sequence[_P], look: Callable[[_P], list[Finding]]
) -> dict[_P, list[Finding]]:
    """Look at each proof from outside, more than once at those that are not seen at first."""
    seen: dict[_P, list[Finding]] = {}
    unseen = list(proofs)
    for _ in poll(clock, pause=_PAUSE, seconds=_LOOK_SECONDS):
        seen |= {proof: look(proof) for proof in unseen}
        unseen = [proof for proof in unseen if worst(seen[proof]) is Severity.BAD]
        if not unseen:
            break
    return seen


def in_the_way(context: ValidationContext, servers: Sequence[str], proof: FileProof) -> list[Finding]:
    """Say what in the servers' configurations keeps a proof from being answered by its file, as far as it is seen."""
    return [
        note("server", proof.name, f"by the configuration, {proof.folder}… {each.what} ({each.where})")
        for name in servers
        for each in _obstacles(context.servers, name, proof)
    ]


def _obstacles(servers: "ServerPool", server: str, proof: FileProof) -> tuple[Obstacle, ...]:
    try:
        return servers.get(server).obstacles(proof.name, proof.parts)[:_MOST_OBSTACLES]
    except InkStampError:
        return ()  # the configuration cannot be read, which is told where the proof was to be put up


def answers_at(context: ValidationContext, servers: Sequence[str]) -> Callable[[str, str], bool]:
    """Return what tells whether one of the servers, or this machine where there is none, answers at an address."""
    if not servers:
        return lambda _name, address: is_own_address(address)
    return lambda name, address: any(context.servers.get(each).answers_at(name, address) for each in servers)


def take_down(context: ValidationContext, order: OrderRecord) -> None:
    """Remove all proofs of an order and the folders made for them, those of killed runs included."""
    take_down_of(context, order.id)


def take_down_of(context: ValidationContext, order_id: int) -> None:
    """Remove all proofs of the order with that id."""
    for via in dict.fromkeys(each.server for each in context.ledger.files.of(order_id)):
        # Orders share folders: which of them is the last one there must be clear.
        with context.locks.challenge_responses(via):
            _take_down_from(context, order_id, via)
    if context.ledger.dns.of(order_id):
        dns_records.take_down_of(context, order_id)


def _take_down_from(context: ValidationContext, order_id: int, via: str) -> None:
    gone = []
    for record in reversed([each for each in context.ledger.files.of(order_id) if each.server == via]):
        try:
            context.servers.get(via).host.uproot(record.root, record.parts, record.made)
        except ConfigurationError:
            if context.config.mistake_in("server", via) is None:  # which is tried again once it is corrected
                path = "/".join((record.root.rstrip("/"), *record.parts))
                told = note("validation", via, f"is not configured any longer; what was placed there remains: {path}",
                            "remove that file by hand")  # fmt: skip
                context.progress.found(f"order {order_id}", told)
                gone.append(record)
        except ReachTrouble as error:
            # The machine is unreachable, which must not hide what else went wrong; the next run tries again.
            told = note("validation", via, f"a challenge response could not be removed: {error.what}")
            context.progress.found(f"order {order_id}", told)
        else:
            gone.append(record)
    context.ledger.files.forget(gone)
