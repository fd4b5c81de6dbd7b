"""CAA records (RFC 8659) of certificates' names: what is there, what would be right, and putting that into DNS.

Zones' own nameservers are asked, since a resolver may know answers of before.

1. make sure that the CA may issue by what is going to be there
2. add what is missing, and wait until every nameserver has it; otherwise take it out again
3. take out what lets others issue

What is killed in between lets more issue than wanted, never less; the next run goes on.
"""

from collections.abc import Iterable, Sequence

from msgspec import Struct
from msgspec.structs import replace

from inkstamp.accounts.authorities import caa_names
from inkstamp.bulkhead import side_by_side
from inkstamp.config.carrying import can_prove, methods_for
from inkstamp.config.model import Certificate
from inkstamp.deadline import poll
from inkstamp.errors import InkStampError, ServerTrouble, UsageError
from inkstamp.findings import Finding
from inkstamp.jobs.validation.context import ValidationContext
from inkstamp.jobs.validation.dns_records import alone, lacking_at, patience
from inkstamp.pki.names import as_address, normalise
from inkstamp.proof.caa import judge_caa
from inkstamp.proof.caa_plan import CaaIssuer, CaaPlan, in_zone_form, is_writable, plan_caa
from inkstamp.proof.carriers import expect_carrier
from inkstamp.proof.record_changes import DnsRecord
from inkstamp.severity import Severity
from inkstamp.view.authoritative import Sought, ask_server
from inkstamp.view.lookups import CaaRecord, CaaSet, Records, read_caa
from inkstamp.view.zones import Zone, Zones
from inkstamp.wording import first_and_count

_AT_ONCE = 16
_PAUSE = 0.5
_TTL = 3600
"""Seconds; CAs look at the record anew for each issuance."""


class CaaState(Struct, frozen=True, kw_only=True):
    """One name's records."""

    plan: CaaPlan
    authorities: tuple[str, ...]
    findings: tuple[Finding, ...]
    """Whether each of its CAs may issue now."""

    @property
    def differs(self) -> bool:
        """Whether what is there is another than what would be right."""
        return bool(self.plan.added or self.plan.removed)


class _Need(Struct, frozen=True):
    """What a name has certificates for."""

    entries: tuple[Certificate, ...]
    plain: bool
    wildcard: bool


def look_at_caa(context: ValidationContext, asked: Sequence[str], *, limits: bool) -> list[CaaState]:
    """Tell for each name what its CAA records are and what would be right for its certificates.

    Args:
        context: The parts of the run.
        asked: Names of certificates, for all of their names, or names that certificates have.
        limits: Whether the CA is limited to our account and our validation methods (RFC 8657).

    Raises:
        UsageError: A name is of no certificate, or it is not known what a CA is called in CAA.
        NameTrouble: One is no name at all.

    """
    names = dict.fromkeys(name for each in asked for name in _bare_names(context, each))
    records, zones, needs = Records(context.view), Zones(context.view), _needs(context, names)

    def look(name: str) -> CaaState:
        need = needs[name]
        found = _found(context, zones, records, name)
        asked_of = [each for entry in need.entries for each in (entry.authority, *entry.otherwise)]
        authorities = tuple(dict.fromkeys(asked_of))
        issuers = [_issuer(context, each, name, need, limits=limits) for each in authorities]
        plan = plan_caa(name, found, issuers, plain=need.plain, wildcard=need.wildcard)
        return CaaState(plan=plan, authorities=authorities, findings=tuple(_judged(context, plan, need)))

    return side_by_side(look, list(names), _AT_ONCE)


def _found(context: ValidationContext, zones: Zones, records: Records, name: str) -> CaaSet:
    """Climb from a name to the nearest domain with CAA records, as the zone's own nameservers have them."""
    if zones.follow(name) != name:  # what counts is where the alias leads, which may be anybody's
        return records.caa(name)
    zone, domain = zones.of(name), name
    while domain == zone.apex or domain.endswith(f".{zone.apex}"):
        for host, address in zone.servers:
            told = ask_server(host, address, context.view.dns_port, domain, "CAA")
            if not told.trouble:
                break
        else:
            return CaaSet("", (), f"no nameserver of {zone.apex} answers for {domain}")
        if told.values:
            return CaaSet(domain, tuple(map(read_caa, told.values)))
        if domain == zone.apex:
            break
        domain = domain.partition(".")[2]
    return records.caa(zone.apex.partition(".")[2])


def _bare_names(context: ValidationContext, asked: str) -> list[str]:
    entry = context.certificates.get(asked)
    names = entry.names if entry is not None else (normalise(asked),)
    bare = [name.removeprefix("*.") for name in names if not as_address(name)]
    if not bare:
        raise UsageError(f"“{asked}” has no domain names", advice="CAA is about names, not addresses (RFC 8659)")
    return bare


def _needs(context: ValidationContext, names: Iterable[str]) -> dict[str, _Need]:
    """Return for each name what has a certificate; UsageError where nothing has."""
    entries: dict[str, list[Certificate]] = {name: [] for name in names}
    covered = set[str]()
    every = (entry for _, entry in context.certificates.items())
    for entry in every:
        for name in dict.fromkeys(each.removeprefix("*.") for each in entry.names):
            if name in entries:
                entries[name].append(entry)
                covered.update(entry.names)
    lost = next((name for name, found in entries.items() if not found), "")
    if lost:
        raise UsageError(f"no certificate is for {lost}", advice="order one first: inkstamp stamp NAME")
    return {name: _Need(tuple(found), name in covered, f"*.{name}" in covered) for name, found in entries.items()}


def _issuer(context: ValidationContext, authority: str, name: str, need: _Need, *, limits: bool) -> CaaIssuer:
    names = caa_names(context, authority)
    known = context.ledger.account(authority)
    is_acme = context.config.authority[authority].is_acme
    methods = [method for entry in need.entries for method in methods_for(entry, name)] if is_acme and limits else []
    made = CaaIssuer(
        names=names,
        account=known.url if limits and known is not None else "",
        methods=tuple(dict.fromkeys(methods)),
        wild_methods=tuple(each for each in dict.fromkeys(methods) if can_prove(each, f"*.{name}")),
    )
    if not names or not is_writable(made):
        raise UsageError(
            f"it is not known what “{authority}” is called in CAA records",
            advice=f"its documentation tells; write caa = […] under [authority.{authority}]",
        )
    return made


def _judged(context: ValidationContext, plan: CaaPlan, need: _Need) -> list[Finding]:
    found = []
    for entry in need.entries:
        known = context.ledger.account(entry.authority)
        for name in (each for each in entry.names if each.removeprefix("*.") == plan.name):
            is_acme = context.config.authority[entry.authority].is_acme
            method = next(iter(methods_for(entry, name)), "") if is_acme else ""
            found.append(
                judge_caa(name, plan.found, issuers=caa_names(context, entry.authority), method=method,
                          account=known.url if known else "", authority=entry.authority)
            )  # fmt: skip
    return found


# Into DNS


def put_caa(context: ValidationContext, states: Sequence[CaaState], via: str) -> list[CaaState]:
    """Put what would be right into DNS through a nameserver or program; returns what is there afterwards.

    Raises:
        UsageError: `via` carries no records.
        CarrierTrouble: It refuses.
        ServerTrouble: The CA could not issue by what would be there, or a nameserver does not have the records in time:
            what was there is there again.

    """
    carrier = expect_carrier(via, context.config, context.view)
    zones = Zones(context.view)
    for each in states:
        _expect_known(each.plan, zones)
    todo = [(each, zones.of(each.plan.name)) for each in states if each.differs]
    after = [_afterwards(context, each) for each, _ in todo]
    _expect_allowed(after)
    plans = [(each.plan, zone) for each, zone in todo]
    added = [record for plan, zone in plans for record in _records(plan, zone, plan.added)]
    with alone(context, via, carrier):
        carrier.put(added)
        try:
            _expect_everywhere(context, via, plans)
        except InkStampError:
            carrier.drop(added)
            raise
        carrier.drop([record for plan, zone in plans for record in _records(plan, zone, plan.removed)])
    _expect_gone(context, via, zones, [plan for plan, _ in plans if plan.removed])
    for plan, _ in plans:
        context.ledger.note("CAA", f"{plan.name}: {len(plan.added)} added, {len(plan.removed)} removed by {via}")
    return after


def _expect_known(plan: CaaPlan, zones: Zones) -> None:
    """Raise ServerTrouble where it is not known what is there, or where no record can be."""
    if plan.found.trouble:
        raise ServerTrouble(f"the CAA records of {plan.name} cannot be read", where=plan.name, said=plan.found.trouble,
                            advice="correct that first; nothing was changed")  # fmt: skip
    target = zones.follow(plan.name)
    if target != plan.name:
        raise ServerTrouble(
            f"{plan.name} is an alias of {target}, and no other record can be beside a CNAME (RFC 1034 section 3.6.2)",
            where=plan.name, advice=f"have the CAA records put at {target}, or at a domain above; nothing was changed",
        )  # fmt: skip


def _afterwards(context: ValidationContext, state: CaaState) -> CaaState:
    """Return how it is going to be with what is wanted."""
    plan = replace(state.plan, found=CaaSet(state.plan.name, state.plan.wanted))
    need = _needs(context, [plan.name])[plan.name]
    return replace(state, plan=plan, findings=tuple(_judged(context, plan, need)))


def _records(plan: CaaPlan, zone: Zone, records: Sequence[CaaRecord]) -> list[DnsRecord]:
    return [
        DnsRecord(zone=zone.apex, primary=zone.primary, name=plan.name, kind="CAA", value=in_zone_form(each), ttl=_TTL)
        for each in records
    ]


def _expect_everywhere(context: ValidationContext, via: str, todo: Sequence[tuple[CaaPlan, Zone]]) -> None:
    sought = [Sought(zone, plan.name, "CAA", in_zone_form(each)) for plan, zone in todo for each in plan.added]
    lacking = lacking_at(context, via, sought, "caa")
    if lacking:
        raise ServerTrouble(
            f"not every nameserver has the new CAA records of {first_and_count([each.subject for each in lacking])}",
            where=via, findings=lacking, advice="see transfers of the zone; what was there is there again",
        )  # fmt: skip


def _expect_gone(context: ValidationContext, via: str, zones: Zones, plans: Sequence[CaaPlan]) -> None:
    """Wait until what was taken out is not there any more."""
    left: list[str] = []
    records = Records(context.view)
    for _ in poll(context.clock, pause=_PAUSE, seconds=patience(context, via)) if plans else ():
        left = [in_zone_form(each) for plan in plans for each in _found(context, zones, records, plan.name).records
                if each in plan.removed]  # fmt: skip
        if not left:
            return
    if left:
        raise ServerTrouble(
            "the new CAA records are there, and an old one is not taken out", where=via, said=left[0],
            advice="take it out by hand, at the name itself",
        )  # fmt: skip


def _expect_allowed(after: Sequence[CaaState]) -> None:
    failing = [found for each in after for found in each.findings if found.severity is Severity.BAD]
    if failing:
        raise ServerTrouble(
            f"the CA could not issue for {first_and_count([each.subject for each in failing])} with these records",
            where="CAA", findings=failing, advice="correct that by hand; nothing was changed",
        )  # fmt: skip


def usual_carrier(context: ValidationContext, asked: str) -> str:
    """Return what puts records into DNS: what was asked for, or the only nameserver or program there is.

    Raises:
        UsageError: There is none, or there are several.

    """
    config = context.config
    known = [*config.nameserver, *config.program]
    if asked and asked not in known:
        raise UsageError(f"there is no nameserver or program “{asked}”", where=str(context.configuration.path),
                         advice=f"known: {', '.join(known) or 'none'}")  # fmt: skip
    if not asked and len(known) != 1:
        raise UsageError(
            "it is not known which nameserver has the zone" if known else "no nameserver is configured",
            advice="name it with --via; or add one: inkstamp nameserver add NAME KEY=VALUE…",
        )
    return asked or known[0]
