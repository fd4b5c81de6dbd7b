"""Put records into DNS, wait until every nameserver of their zones has them, take them out again."""

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, nullcontext
from typing import TYPE_CHECKING

from msgspec import Struct

from inkstamp.errors import CarrierTrouble, InkStampError
from inkstamp.findings import Finding, bad, note, ok
from inkstamp.jobs.validation.context import ValidationContext, WaitingContext
from inkstamp.ledger.dns_proofs import DnsProof
from inkstamp.parts import WithConfiguration, WithLocks
from inkstamp.proof import dns_persist
from inkstamp.proof.carriers import RecordCarrier, carrier_of
from inkstamp.proof.dns01 import account_record_name, record_name
from inkstamp.proof.record import MAKE_IT, RecordProof, look_at_record
from inkstamp.proof.record_changes import DnsRecord
from inkstamp.severity import Severity
from inkstamp.view.authoritative import ServerAnswer, Sought, ask_server, watch
from inkstamp.view.questions import Answer
from inkstamp.view.zones import Zone, Zones
from inkstamp.wording import counted

if TYPE_CHECKING:
    from inkstamp.proof.recipe_api import Exchange

Told = Callable[["Exchange"], None]

LEAST_WAIT = 5.0
"""Seconds that records made by hand are looked for in one run."""
_SHOWN = 3


class Placed(Struct, frozen=True, kw_only=True):
    """A record where it really goes: aliases followed, the zone found."""

    asked: str
    """The name that the CA will ask for."""
    record: DnsRecord
    zone: Zone


def place(context: ValidationContext, proofs: Sequence[RecordProof]) -> list[Placed]:
    """Find where each record goes, changing nothing.

    An `_acme-challenge` name may be an alias (RFC 8555 section 8.4 allows it, CNAME or a chain of them) or lie in a
    zone of its own; the record goes where that leads. So may the name of a portal's record.

    Raises:
        ProofFailed: A name is in no zone that can be found, or its aliases lead nowhere.

    """
    zones = Zones(context.view)
    found = []
    for proof in dict.fromkeys(proofs):
        # A portal's own CNAME is what is to be made, so an alias counts for it only where it delegates the name.
        name = zones.follow(proof.place) if proof.kind == "txt" else zones.follow_delegated(proof.place)
        zone = zones.of(name)
        record = DnsRecord(zone=zone.apex, primary=zone.primary, name=name, kind=proof.kind.upper(), value=proof.value)
        found.append(Placed(asked=proof.place, record=record, zone=zone))
    return found


def place_challenges(
    context: ValidationContext, names: Sequence[str], method: str = "dns-01", authority: str = ""
) -> list[Placed]:
    """Find where the records of names go, before their values are known; raises as `place` does."""
    return place(
        context, [RecordProof("txt", challenge_record(context, method, authority, name), "") for name in names]
    )


def challenge_record(context: ValidationContext, method: str, authority: str, name: str) -> str:
    """Return the name of a record by which a CA validates; the account's own label needs an account."""
    if method == "dns-persist-01":
        return dns_persist.record_name(name)
    account = context.ledger.account(authority) if method == "dns-account-01" else None
    return account_record_name(account.url, name) if account is not None else record_name(name)


def put_up(
    context: ValidationContext, order_id: int, via: str, placed: Sequence[Placed], told: Told | None = None
) -> None:
    """Put the records into DNS; each is in the ledger before it is asked for.

    Args:
        context: The parts of the run.
        order_id: Whose records they are.
        via: A nameserver or program; `by-hand` puts none.
        placed: The records.
        told: Is called after each request to an API that a recipe describes.

    Raises:
        CarrierTrouble: The nameserver or program could not.

    """
    carrier = carrier_of(via, context.config, context.view, told)
    if carrier is None:
        return  # by hand
    records = list(dict.fromkeys(each.record for each in placed))
    context.ledger.dns.plan([_as_proof(order_id, via, each) for each in records])
    try:
        with alone(context, via, carrier):
            context.locks.expect()
            carrier.put(records)
    except CarrierTrouble as error:
        unmade = set(error.not_made)
        context.ledger.dns.forget([each for each in context.ledger.dns.of(order_id) if _as_record(each) in unmade])
        raise


def observe(
    context: ValidationContext, via: str, placed: Sequence[Placed], wait: float = 0.0
) -> dict[Placed, list[Finding]]:
    """Wait until every authoritative nameserver answers with every record, and say what each answered.

    Args:
        context: The parts of the run.
        via: What put the records into DNS, which says how long that may take.
        placed: The records.
        wait: Seconds to wait at least.

    """
    sought = {each: Sought(each.zone, each.record.name, each.record.kind, each.record.value) for each in placed}
    told = watch(sought.values(), context.view.dns_port, context.clock, max(wait, patience(context, via)))
    return {each: _judge(context, each, what, told[what]) for each, what in sought.items()}


def in_one_line(placed: Placed, found: Sequence[Finding]) -> Finding:
    """Say what is wrong with a record that a person makes: a slip as one nameserver has it, or that it is not there."""
    wrong = (each for each in found if each.severity is Severity.BAD and not each.remedy.startswith(MAKE_IT))
    lacking = sum(1 for each in found if each.severity is Severity.BAD)
    not_yet = f"is not at {lacking} of {counted(len(placed.zone.servers), 'nameserver')} yet"
    return next(wrong, None) or note("validation", placed.asked, not_yet)


def take_down_of(context: ValidationContext, order_id: int, told: Told | None = None) -> None:
    """Take the order's records out of DNS, those of killed runs included; `told` is as of `put_up`.

    What cannot be taken out now stays in the ledger and is tried again by the next run: a nameserver that is down
    must not hide what else went wrong.
    """
    proofs = context.ledger.dns.of(order_id)
    for name in dict.fromkeys(each.carrier for each in proofs):
        mine = [each for each in proofs if each.carrier == name]
        try:
            carrier = carrier_of(name, context.config, context.view, told)
            if carrier is None:
                continue
            with alone(context, name, carrier):
                context.locks.expect()
                carrier.drop([_as_record(each) for each in mine])
        except InkStampError as error:
            context.progress.found(
                f"order {order_id}",
                note("validation", name, f"could not remove {counted(len(mine), 'record')} from DNS: {error.what}"),
            )
            continue
        context.ledger.dns.forget(mine)


def alone(context: WithLocks, name: str, carrier: RecordCarrier) -> AbstractContextManager[None]:
    """Keep others from changing record sets by the same carrier, where it replaces whole ones."""
    return context.locks.record_sets(name) if carrier.changes_sets else nullcontext()


def patience(context: WithConfiguration, via: str) -> float:
    """Return how many seconds to wait until every nameserver has what something put into DNS."""
    config = context.config
    entry = config.nameserver.get(via) or config.program.get(via)
    return entry.seconds if entry is not None else LEAST_WAIT


def lacking_at(context: WaitingContext, via: str, sought: Sequence[Sought], topic: str) -> list[Finding]:
    """Wait until every nameserver has records that stay; returns a finding for each that lacks one.

    Args:
        context: The parts of the run.
        via: What put the records into DNS, which says how long that may take.
        sought: The records.
        topic: Of the findings.

    """
    told = watch(sought, context.view.dns_port, context.clock, patience(context, via))
    return [
        bad(topic, what.name, f"{each.host} ({each.address}) {each.trouble or 'does not have the record'}")
        for what, answers in told.items() for each in answers if not each.has(what)
    ]  # fmt: skip


def _judge(context: ValidationContext, placed: Placed, sought: Sought, told: Sequence[ServerAnswer]) -> list[Finding]:
    """One finding when all nameservers have the record; one for each that lacks it, with what is near."""
    subject = placed.asked
    lacking = [each for each in told if not each.has(sought)]
    if not lacking:
        alias = f" (as {sought.name})" if sought.name != placed.asked else ""
        which = f"all {len(told)} nameservers of {placed.zone.apex} have" if told[1:] else f"{told[0].host} has"
        return [ok("validation", subject, f"{which} the record{alias}")]
    findings = []
    for each in lacking[:_SHOWN]:
        at = f"{each.host} ({each.address})"
        if each.trouble:
            findings.append(
                bad("validation", subject, f"{at} {each.trouble}", "correct that nameserver, or its delegation")
            )
            continue
        near = look_at_record(
            RecordProof(sought.kind.lower(), sought.name, sought.value), _asker(context, each, sought)
        )
        old = f"; its answer may be cached elsewhere for {each.ttl} s" if each.ttl else ""
        findings.append(bad("validation", subject, f"{at}: {near.seen}{old}", near.remedy))
    return findings


def _asker(context: ValidationContext, server: ServerAnswer, sought: Sought) -> Callable[[str], Answer]:
    """Return a question to that one nameserver, for what stands near the record's name."""

    def ask(name: str) -> Answer:
        if name == sought.name:
            return Answer(server.values)
        return Answer(ask_server(server.host, server.address, context.view.dns_port, name, sought.kind).values)

    return ask


def _as_proof(order_id: int, carrier: str, record: DnsRecord) -> DnsProof:
    return DnsProof(
        order_id=order_id,
        carrier=carrier,
        zone=record.zone,
        primary=record.primary,
        name=record.name,
        kind=record.kind,
        value=record.value,
    )


def _as_record(proof: DnsProof) -> DnsRecord:
    return DnsRecord(zone=proof.zone, primary=proof.primary, name=proof.name, kind=proof.kind, value=proof.value)
