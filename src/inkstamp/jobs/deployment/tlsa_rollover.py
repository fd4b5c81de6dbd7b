"""Keep TLSA records of mail servers right while a key changes (RFC 7671 section 8.1, RFC 7672).

1. add the record for the new key beside the others
2. wait until every nameserver has it, and then until no resolver can have the records without it (their TTL)
3. install
4. take out the records for keys of editions before

What is under way is in the ledger, so that a run that is killed is gone on with. Where nothing can write the zone, the
install waits for a person. A key that stays (`key_stays`) needs none of this.
"""

from collections.abc import Sequence
from contextlib import suppress
from datetime import timedelta

import msgspec
from cryptography import x509
from msgspec import Struct

from inkstamp.bulkhead import apart, side_by_side
from inkstamp.config.carrying import record_carrier
from inkstamp.config.model import Certificate
from inkstamp.config.words import BY_HAND
from inkstamp.deadline import poll, within
from inkstamp.errors import Busy, CarrierTrouble, InkStampError, StillWaiting, TtlNotExpired
from inkstamp.jobs.deployment.context import DeploymentContext
from inkstamp.jobs.deployment.plan import names_on
from inkstamp.jobs.validation import dns_records
from inkstamp.ledger.installs import has_edition
from inkstamp.ledger.records import EditionRecord
from inkstamp.ledger.tlsa_changes import TlsaChange
from inkstamp.pki.certificates import public_key_of
from inkstamp.pki.names import as_address
from inkstamp.pki.tlsa import DANE_EE, matches, read_tlsa, record_for
from inkstamp.proof.carriers import carrier_of
from inkstamp.proof.record_changes import DnsRecord
from inkstamp.view.authoritative import ServerAnswer, Sought, ask_server
from inkstamp.view.lookups import Records
from inkstamp.view.zones import Zone, Zones
from inkstamp.wording import first_and_count

_MAIL_KINDS = frozenset({"postfix", "dovecot"})
INLINE = 90.0
"""Seconds of a TTL that a run waits; for a longer one the next run goes on."""
_LOOK_SECONDS = 120.0
_AT_ONCE = 8
_PAUSE = 1.0


class _RecordSet(Struct, frozen=True, kw_only=True):
    """The TLSA records of one service."""

    place: str
    name: str
    """Where they are: aliases of the place followed (RFC 7671 section 7)."""
    zone: Zone
    told: tuple[ServerAnswer, ...]

    @property
    def ttl(self) -> int:
        """For how long resolvers may have them, in seconds."""
        return max((each.ttl for each in self.told), default=0)

    @property
    def values(self) -> tuple[str, ...]:
        """What any nameserver has."""
        return tuple(dict.fromkeys(value for each in self.told for value in each.values))

    def stands_for(self, chain: Sequence[x509.Certificate]) -> bool:
        """Whether every nameserver that answers has a record for a chain."""
        answering = [each for each in self.told if not each.trouble]
        return bool(answering) and all(any(_fits(value, chain) for value in each.values) for each in answering)


def _fits(value: str, chain: Sequence[x509.Certificate]) -> bool:
    record = read_tlsa(value)
    return record is not None and record.counts_for_mail and matches(record, chain)


def await_records(
    context: DeploymentContext,
    name: str,
    entry: Certificate,
    edition: EditionRecord,
    places: Sequence[str],
    *,
    longest: float | None,
) -> None:
    """Have the TLSA records of a certificate's mail services stand for an edition before it is installed.

    Args:
        context: The parts of the run.
        name: The certificate, which the caller holds.
        entry: As configured.
        edition: What is to be installed.
        places: Where senders look (`tlsa_places`).
        longest: Seconds to wait at most for resolvers' caches; None to put the records, and wait for nothing.

    Raises:
        StillWaiting: A person has to publish a record.
        TtlNotExpired: Resolvers may have the records of before; the next run goes on.
        CarrierTrouble: The nameserver or program could not change them, or not every nameserver has them in time.

    """
    with within(_LOOK_SECONDS):
        found = _published(context, places) if places else []
    if not found:
        return
    chain = context.shelf.chain(edition)
    known = {each.place: each for each in context.ledger.tlsa.all(name)}
    lacking = [each for each in found if not each.stands_for(chain)]
    key = public_key_of(chain[0])
    if key is None:
        return  # of a sort that no record can be made for here
    value, now = str(record_for(key)), context.clock.now()
    for each in found:
        other = known.get(each.place)
        if each in lacking or (other is not None and other.edition != edition.number):
            # What was there when another edition was published, as before an undo, is in caches already.
            seen = now - timedelta(seconds=each.ttl) if other is not None and value in other.before else None
            known[each.place] = TlsaChange(
                certificate=name, place=each.place, edition=edition.number, value=value,
                before=_of_before(context, edition, each), ttl=each.ttl, seen=None if each in lacking else seen,
            )  # fmt: skip
            context.ledger.tlsa.keep(known[each.place])
    if lacking:
        _publish(context, name, entry, lacking, value, patient=longest is not None)
    changes = [known[each.place] for each in found if each.place in known]
    if longest is not None and changes:
        _await_caches(context, edition, [_seen(context, each) for each in changes], longest)


def _published(context: DeploymentContext, places: Sequence[str]) -> list[_RecordSet]:
    """Return the records that senders heed, of those places that have some."""
    records, zones = Records(context.view), Zones(context.view)
    found: list[str] = []
    for place, told in zip(places, side_by_side(records.tlsa, places, _AT_ONCE), strict=True):
        if not told.known:
            context.progress.step(place, f"its TLSA records cannot be looked up: {told.trouble}")
        elif any(each.counts_for_mail for each in told.records):
            found.append(place)
    return side_by_side(lambda place: _look_at(context, zones, place), found, _AT_ONCE)


def _look_at(context: DeploymentContext, zones: Zones, place: str) -> _RecordSet:
    name = zones.follow(place)
    zone = zones.of(name)
    told = tuple(ask_server(host, address, context.view.dns_port, name, "TLSA") for host, address in zone.servers)
    return _RecordSet(place=place, name=name, zone=zone, told=told)


def tlsa_places(context: DeploymentContext, entry: Certificate) -> list[str]:
    """Return where senders look for TLSA records of a certificate's mail services, as its servers are configured."""
    found: dict[str, None] = {}
    for server in entry.install:
        settings = context.config.server.get(server)
        if settings is None or not (settings.kind in _MAIL_KINDS or any("://" in each for each in settings.look)):
            continue  # a program, or one of the web
        try:
            mine = [each for each in names_on(context, server, entry) if "*" not in each and not as_address(each)]
            for name in mine:
                for endpoint in context.servers.installable(server).tls_endpoints(name) or ():
                    if settings.kind in _MAIL_KINDS or endpoint.upgrade:
                        found[f"_{endpoint.port}._tcp.{name}"] = None
        except InkStampError as error:  # the install tells more of it
            context.progress.step(server, f"its mail services are not known: {error.what}")
    return list(found)


def _publish(
    context: DeploymentContext,
    name: str,
    entry: Certificate,
    lacking: Sequence[_RecordSet],
    value: str,
    *,
    patient: bool,
) -> None:
    """Put the record for a new key beside the others, and wait until every nameserver has it."""
    via = entry.tlsa_via or record_carrier(context.config, entry)
    carrier = carrier_of(via, context.config, context.view)
    where = first_and_count([each.place for each in lacking])
    if carrier is None:
        told = "\n".join(f"record   {each.name}\ntype     TLSA\nvalue    {value}" for each in lacking)
        if not patient:
            context.progress.step(name, f"create these records beside the others:\n{told}")
            return
        raise StillWaiting(
            f"the install of “{name}” waits for TLSA records that you create: its key is a new one",
            where=where, said=told,
            advice="create them beside the present ones, then: inkstamp renew; or let `tlsa_via` name a nameserver",
        )  # fmt: skip
    context.progress.step(name, f"TLSA record for the new key at {where}, by {via}")
    with dns_records.alone(context, via, carrier):
        carrier.put([_record(each, value) for each in lacking])
    sought = [Sought(each.zone, each.name, "TLSA", value) for each in lacking]
    late = dns_records.lacking_at(context, via, sought, "tlsa")
    if late:
        raise CarrierTrouble(
            f"not every nameserver has the TLSA record for the new key of “{name}”", where=where, said=late[0].seen,
            advice="see transfers of the zone; nothing was installed, and the next run goes on",
        )  # fmt: skip


def _record(found: _RecordSet, value: str) -> DnsRecord:
    ttl = found.ttl or 3600
    return DnsRecord(
        zone=found.zone.apex, primary=found.zone.primary, name=found.name, kind="TLSA", value=value, ttl=ttl
    )


def _seen(context: DeploymentContext, change: TlsaChange) -> TlsaChange:
    """Write down that every nameserver has a record, where that is new."""
    if change.seen is not None:
        return change
    grown = msgspec.structs.replace(change, seen=context.clock.now())
    context.ledger.tlsa.keep(grown)
    return grown


def _await_caches(
    context: DeploymentContext, edition: EditionRecord, changes: Sequence[TlsaChange], longest: float
) -> None:
    """Wait until no resolver can have the records of before; TtlNotExpired where that takes too long for one run."""
    until = max(each.seen + timedelta(seconds=each.ttl) for each in changes if each.seen is not None)
    left = (until - context.clock.now()).total_seconds()
    if left > longest:
        raise TtlNotExpired(
            f"edition {edition.number} of “{edition.certificate}” is installed from {until:%Y-%m-%d %H:%M} UTC on: "
            "until then resolvers may have its TLSA records without the new key", where=changes[0].place,
            advice="nothing to do: the next `inkstamp renew` after that installs it",
        )  # fmt: skip
    if left > 0:
        context.progress.waits("resolvers may have the TLSA records of before", left)
    for _ in poll(context.clock, pause=_PAUSE, seconds=max(left, 0.0)):
        if context.clock.now() >= until:
            break


# Afterwards


def tidy_records(context: DeploymentContext, name: str, entry: Certificate) -> None:
    """Take out the records for keys of editions before, once the newest one is everywhere; the caller holds it.

    What goes wrong is told, and the next run tries again: the records do no harm.
    """
    try:
        with apart(), within(_LOOK_SECONDS):
            _tidy(context, name, entry)
    except InkStampError as error:
        context.progress.step(name, f"TLSA records of keys before are left for the next run: {error.what}")


def _tidy(context: DeploymentContext, name: str, entry: Certificate) -> None:
    changes = context.ledger.tlsa.all(name)
    if not changes:
        return
    installs = context.ledger.installs.by_server([name]).get(name, {})
    zones = Zones(context.view)
    for change in changes:
        if not has_edition(installs, entry.install, change.edition):
            continue
        found = _look_at(context, zones, change.place)
        old = [each for each in change.before if each in found.values and each != change.value]
        via = entry.tlsa_via or record_carrier(context.config, entry)
        carrier = carrier_of(via, context.config, context.view)
        if old and (carrier is None or via == BY_HAND):
            context.progress.step(name, f"these TLSA records at {found.name} may be removed: {', '.join(old)}")
        elif old and carrier is not None:
            with dns_records.alone(context, via, carrier):
                carrier.drop([_record(found, value) for value in old])
            context.progress.step(name, f"TLSA records of keys before are taken out at {found.name}")
        context.ledger.tlsa.forget(change)


def _of_before(context: DeploymentContext, edition: EditionRecord, found: _RecordSet) -> tuple[str, ...]:
    """Return the records for keys of other editions of a certificate; those of anything else stay."""
    chains = []
    for number in context.shelf.numbers(edition.certificate):
        other = context.ledger.edition(edition.certificate, number) if number != edition.number else None
        if other is not None:
            with suppress(InkStampError):  # its files are gone
                chains.append(context.shelf.chain(other))
    read = {value: read_tlsa(value) for value in found.values}
    return tuple(
        value
        for value, record in read.items()
        if record is not None and record.usage == DANE_EE and any(matches(record, chain) for chain in chains)
    )


def go_on_with_changes(context: DeploymentContext) -> None:
    """Go on with what a killed run left: records of keys before whose successors are installed."""
    for name in dict.fromkeys(each.certificate for each in context.ledger.tlsa.all()):
        try:
            with apart(), suppress(Busy):  # another run is at it
                entry = context.certificates.get(name)
                if entry is not None:
                    with context.locks.certificate(name):
                        tidy_records(context, name, entry)
        except InkStampError as error:
            context.progress.step(name, f"TLSA records of keys before are left for the next run: {error.what}")
