"""Validation records that stay in DNS (`dns-persist-01`): looked at everywhere, put once, taken out again when told."""

from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta

from msgspec import Struct
from msgspec.structs import replace

from inkstamp.accounts.authorities import caa_names
from inkstamp.bulkhead import side_by_side
from inkstamp.config.carrying import record_carrier
from inkstamp.config.config_file import expect_known
from inkstamp.config.words import BY_HAND
from inkstamp.deadline import poll, within
from inkstamp.errors import InkStampError, ProofFailed, UsageError
from inkstamp.findings import Finding, bad, ok, warn
from inkstamp.jobs.validation.context import ValidationContext
from inkstamp.jobs.validation.dns_records import LEAST_WAIT, Placed, alone, observe, place
from inkstamp.pki.names import as_address
from inkstamp.proof.carriers import expect_carrier
from inkstamp.proof.dns_persist import (
    PersistentRecord,
    WantedRecord,
    can_name,
    good_record,
    is_ours,
    reasons,
    record_name,
    usable_issuers,
    write_record,
)
from inkstamp.proof.record import MAKE_IT, RecordProof
from inkstamp.severity import Severity, worst
from inkstamp.view.authoritative import ServerAnswer, ask_server
from inkstamp.wording import counted, first_and_count

LEAD = timedelta(days=45)
"""How long before a record's end somebody is told."""
_TTL = 3600
"""Seconds; the record stays, and CAs ask the zone's own nameservers."""
_AT_ONCE = 16
_PAUSE = 1.0
"""Seconds between two looks."""
_LOOK_SECONDS = 60.0


class PersistentState(Struct, frozen=True, kw_only=True):
    """How the record of one name is."""

    name: str
    """Without an asterisk."""
    placed: Placed
    """Where the record goes, with the value to put there."""
    wanted: WantedRecord
    findings: tuple[Finding, ...]
    """One where all is well; else one for each nameserver that lacks it."""
    record: PersistentRecord | None
    """The record by which the CA validates, the one that ends first of those at several nameservers."""
    ours: tuple[str, ...]
    """Values for our account at that CA, good or not."""
    outdated: tuple[str, ...]
    """Values for our account at that CA that do not count any more."""
    renewing: bool
    """Whether another record is wanted although one counts."""

    @property
    def passes(self) -> bool:
        """Whether the CA validates by what every nameserver answers."""
        return worst(self.findings) is not Severity.BAD

    def ends_soon(self, now: datetime) -> bool:
        """Whether the record has to be renewed by now."""
        until = self.record.until if self.record is not None else None
        return until is not None and until - LEAD <= now


def look_at_persistent(
    context: ValidationContext,
    authority: str,
    identifiers: Sequence[str],
    issuers: Sequence[str] = (),
    until: datetime | None = None,
) -> list[PersistentState]:
    """Ask every nameserver for the records of some names, and judge them as the CA will.

    Args:
        context: The parts of the run.
        authority: Which CA.
        identifiers: DNS names; a wildcard and its bare name have one record.
        issuers: The CA's issuer domain names, as its challenge has them; empty to go by what it is called in CAA.
        until: When a record that is to be put ends; None for never.

    Raises:
        UsageError: There is no account at the CA that a record can name, or its drafts are not to be used.
        ProofFailed: A name is in no zone that can be found.

    """
    expect_known("authority", context.config.authority, [authority], context.configuration.path)
    if not context.config.authority[authority].draft:
        raise UsageError("dns-persist-01 is an IETF draft, which may change", where=f"[authority.{authority}]",
                         advice=f"if that CA offers it: draft = true under [authority.{authority}]")  # fmt: skip
    account = context.ledger.account(authority)
    if account is not None and not can_name(account.url):
        raise UsageError("the URL of our account cannot be in a validation record", where=account.url,
                         advice="use another method for this CA")  # fmt: skip
    if account is None:
        raise UsageError(f"there is no account at “{authority}”, which the records would name",
                         advice=f"open it first: inkstamp authority show {authority}")  # fmt: skip
    names = dict.fromkeys(each.removeprefix("*.") for each in identifiers if not as_address(each))
    known = usable_issuers(issuers) or usable_issuers(caa_names(context, authority))
    wanted = {
        each: WantedRecord(issuers=known, account=account.url, wildcard=f"*.{each}" in identifiers) for each in names
    }
    proofs = [RecordProof("txt", record_name(each), write_record(what, until) if known else "")
              for each, what in wanted.items()]  # fmt: skip
    now = context.clock.now()

    def look(found: Placed) -> PersistentState:
        name = found.asked.removeprefix(record_name(""))
        placed = replace(found, record=replace(found.record, ttl=_TTL))
        with within(_LOOK_SECONDS):
            told = [ask_server(host, address, context.view.dns_port, placed.record.name, "TXT")
                    for host, address in placed.zone.servers]  # fmt: skip
        return _state(name, placed, wanted[name], told, now, renewing=until is not None)

    return side_by_side(look, place(context, proofs), _AT_ONCE)


def _state(
    name: str, placed: Placed, wanted: WantedRecord, told: Sequence[ServerAnswer], now: datetime, *, renewing: bool
) -> PersistentState:
    good = [good_record(each.values, wanted, now) for each in told]
    findings = [_lacks(placed, wanted, each, now) for each, record in zip(told, good, strict=True) if record is None]
    records = [each for each in good if each is not None]
    ending = [each for each in records if each.until is not None]
    record = min(ending, key=lambda each: each.until or now, default=next(iter(records), None))
    if not findings and record is not None:
        which = f"all {len(told)} nameservers of {placed.zone.apex} have" if told[1:] else f"{told[0].host} has"
        end = f"until {record.until:%Y-%m-%d}" if record.until is not None else "without an end"
        findings = [ok("validation", placed.asked, f"{which} the record for {record.account}, {end}")]
    ours = tuple(sorted({value for each in told for value in each.values if is_ours(value, wanted)}))
    others = [each for each in ours if not renewing or each != placed.record.value]
    outdated = tuple(each for each in others if renewing or good_record([each], wanted, now) is None)
    return PersistentState(
        name=name, placed=placed, wanted=wanted, findings=tuple(findings), record=record if told else None,
        ours=ours, outdated=outdated, renewing=renewing,
    )  # fmt: skip


def _lacks(placed: Placed, wanted: WantedRecord, answer: ServerAnswer, now: datetime) -> Finding:
    at = f"{answer.host} ({answer.address})"
    if answer.trouble:
        return bad("validation", placed.asked, f"{at} {answer.trouble}", "correct that nameserver, or its delegation")
    near = reasons(answer.values, wanted, now)
    seen = f"; {near[0]}" if near else ""
    value = placed.record.value
    begin = "add there a" if near else MAKE_IT
    remedy = f"{begin} TXT record with the value {value}" if value else "say what the CA is called: caa = […]"
    return bad("validation", placed.asked, f"{at}: has no record that counts{seen}", remedy)


def watch_persistent(
    context: ValidationContext, authority: str, states: Sequence[PersistentState], seconds: float
) -> dict[Placed, list[Finding]]:
    """Look at records that a person makes until all are there; where one is wrong, no longer than was asked for.

    Args:
        context: The parts of the run.
        authority: Which CA.
        states: How the records were.
        seconds: For how long; records that are not at every nameserver yet are given a moment in any case.

    """
    found: dict[Placed, list[Finding]] = {}
    until = context.clock.monotonic() + seconds
    for _ in poll(context.clock, pause=_PAUSE, seconds=max(seconds, LEAST_WAIT)):
        for each in states:
            names = [each.name, *([f"*.{each.name}"] if each.wanted.wildcard else [])]
            (seen,) = look_at_persistent(context, authority, names, each.wanted.issuers)
            found[each.placed] = list(seen.findings)
        lacking = [one for many in found.values() for one in many if one.severity is Severity.BAD]
        wrong = any(not each.remedy.startswith(MAKE_IT) for each in lacking)
        if not lacking or (wrong and context.clock.monotonic() >= until):
            break
    return found


def put_persistent(context: ValidationContext, via: str, states: Sequence[PersistentState]) -> list[PersistentState]:
    """Put the records that are wanted, wait until every nameserver has them, then take out what they replace.

    Raises:
        UsageError: `via` carries no records, or it is not known what the CA is called.
        CarrierTrouble: The nameserver or program could not.
        ProofFailed: Not every nameserver has them in time; they stay, and another run looks again.

    """
    carrier = expect_carrier(via, context.config, context.view)
    expect_known_issuer(states)
    placed = [each.placed for each in states if each.renewing or not each.passes]
    if placed:
        with alone(context, via, carrier):
            carrier.put([each.record for each in placed])
    seen = observe(context, via, placed) if placed else {}
    lacking = [finding for found in seen.values() for finding in found if finding.severity is Severity.BAD]
    if lacking:
        raise ProofFailed(
            f"not every nameserver has the validation record of {first_and_count([each.name for each in states])}",
            findings=lacking, advice="see transfers of the zone, then run the same command again",
        )  # fmt: skip
    old = [replace(each.placed.record, value=value) for each in states for value in each.outdated]
    if old:
        with alone(context, via, carrier):
            carrier.drop(old)
    for each in states:
        context.ledger.note("DNS", f"{each.placed.record.name}: validation record put by {via}")
    return [
        replace(each, findings=tuple(seen.get(each.placed, each.findings)), outdated=(), renewing=False)
        for each in states
    ]


def expect_known_issuer(states: Sequence[PersistentState]) -> None:
    """Raise UsageError where it is not known what the CA is called, so that no record can be written."""
    if not all(each.placed.record.value for each in states):
        raise UsageError("it is not known what the CA is called in validation records that stay",
                         advice="its documentation tells; write caa = […] under its [authority.…]")  # fmt: skip


def take_back_persistent(context: ValidationContext, via: str, states: Sequence[PersistentState]) -> int:
    """Take all records for our account out of DNS; returns how many.

    Raises:
        UsageError: `via` carries no records.
        CarrierTrouble: The nameserver or program could not.

    """
    carrier = expect_carrier(via, context.config, context.view)
    ours = [replace(each.placed.record, value=value) for each in states for value in each.ours]
    if ours:
        with alone(context, via, carrier):
            carrier.drop(ours)
        context.ledger.note("DNS", f"{counted(len(ours), 'validation record')} taken out by {via}")
    return len(ours)


def ensure_persistent(
    context: ValidationContext, via: str, states: Sequence[PersistentState]
) -> Mapping[str, Sequence[Finding]]:
    """Have records there that count, putting what lacks where something can; returns what was seen, by bare name.

    Raises:
        UsageError, CarrierTrouble, ProofFailed: As of `put_persistent`.

    """
    now = context.clock.now()
    soon = [replace(each, renewing=each.ends_soon(now)) for each in states]
    lacking = [each for each in soon if not each.passes or each.renewing]
    put = put_persistent(context, via, lacking) if lacking and via != BY_HAND else []
    return {each.name: each.findings for each in (*states, *put)}


def persistent_findings(context: ValidationContext, authority: str, identifier: str) -> list[Finding]:
    """Say how the record of one name is, and that it ends soon."""
    try:
        (state,) = look_at_persistent(context, authority, [identifier])
    except InkStampError as error:
        return [bad("validation", identifier, error.what, error.advice)]
    if state.passes and state.record is not None and state.record.until and state.ends_soon(context.clock.now()):
        told = f"the record ends on {state.record.until:%Y-%m-%d}"
        return [*state.findings, warn("validation", state.placed.asked, told, "inkstamp prove NAME --persistent")]
    return list(state.findings)


def condition_of_records(context: ValidationContext, certificate: str) -> tuple[str, str]:
    """Return how the records of a certificate are, a line each, and what a person has to do about them.

    What a nameserver is asked to put by the next renewal is no trouble of a person's.
    """
    entry, now = context.certificates.entry(certificate), context.clock.now()
    states = look_at_persistent(context, entry.authority, entry.names)
    lines, trouble = [], ""
    for each in states:
        seen = next((finding for finding in each.findings if finding.severity is Severity.BAD), each.findings[0])
        lines.append(f"{each.placed.asked}: {seen.seen}")
        if not each.passes:
            trouble = trouble or f"create the TXT record {each.placed.asked}: {seen.seen}"
        elif each.record is not None and each.record.until is not None and each.ends_soon(now):
            end = f"{each.record.until:%Y-%m-%d}"
            trouble = trouble or f"renew the TXT record {each.placed.asked}, which ends on {end}"
    return "\n".join(lines), trouble if record_carrier(context.config, entry) == BY_HAND else ""


def carrier_for(context: ValidationContext, certificate: str, asked: str) -> str:
    """Return what puts the records of a certificate into DNS: what was asked for, else what its `via` names."""
    return asked or record_carrier(context.config, context.certificates.entry(certificate))
