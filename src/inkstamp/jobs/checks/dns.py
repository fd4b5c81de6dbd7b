"""`check`'s look at DNS beside a live name: who may issue for it (CAA), which key mail servers expect (TLSA)."""

from collections.abc import Sequence

from cryptography import x509
from msgspec.structs import replace

from inkstamp.accounts.authorities import caa_names
from inkstamp.config.carrying import methods_for
from inkstamp.errors import InkStampError
from inkstamp.findings import Finding, bad, note, ok, warn
from inkstamp.jobs.checks.context import ChecksContext
from inkstamp.pki.certificates import public_key_of
from inkstamp.pki.names import as_address
from inkstamp.pki.tlsa import DANE_TA, Tlsa, matches, record_for
from inkstamp.proof.caa import judge_caa
from inkstamp.severity import Severity
from inkstamp.view.lookups import records_of

_TOPIC = "tlsa"


def look_at_caa(context: ChecksContext, name: str, certificate: str) -> list[Finding]:
    """Find whether CAA lets the next edition be issued.

    Args:
        context: The parts of the run.
        name: What is looked at.
        certificate: The configured certificate that has the name; empty for none.

    """
    if as_address(name):  # CAA is about names (RFC 8659 section 1)
        return []
    config = context.configuration.current_or_empty()
    entry = context.certificates.get(certificate)
    authority = config.authority.get(entry.authority) if entry is not None else None
    account = context.ledger.account(entry.authority) if entry is not None and context.has_ledger() else None
    acme = authority is not None and authority.is_acme
    ways = methods_for(entry, name) if entry is not None and acme else ()
    found = judge_caa(
        name,
        records_of(context.view).caa(name),
        issuers=caa_names(context, entry.authority) if entry is not None else (),
        method=next(iter(ways), ""),
        account=account.url if account is not None else "",
        authority=entry.authority if entry is not None else "its CA",
    )
    if found.severity is Severity.BAD:  # what is served is as good as before; the next one will not come
        return [replace(found, severity=Severity.WARN)]
    return [found if authority is not None else replace(found, remedy="")]


def look_at_tlsa(
    context: ChecksContext, name: str, port: int, chain: Sequence[x509.Certificate], certificate: str
) -> list[Finding]:
    """Compare what a mail host serves with its TLSA records (RFC 7672), and say what to publish.

    Args:
        context: The parts of the run.
        name: The mail host.
        port: The port that was looked at.
        chain: As served, leaf first.
        certificate: The configured certificate that has the name; empty for none.

    """
    if as_address(name):
        return []
    place = f"_{port}._tcp.{name}"
    answer = records_of(context.view).tlsa(place)
    if not answer.known:
        remedy = "fix the domain's DNS: senders that check TLSA do not deliver while it fails (RFC 7672 section 2.1)"
        return [warn(_TOPIC, name, f"its TLSA records cannot be looked up: {answer.trouble}", remedy)]
    records: tuple[Tlsa, ...] = answer.records
    found = [judge_tlsa(name, place, records, chain, secure=answer.secure)]
    coming = _coming_key(context, certificate) if records else None
    if coming is not None and not any(each == coming or each.usage == DANE_TA for each in records):
        seen = "the next edition, whose order is open, has another key, which no record matches yet"
        found.append(
            warn(_TOPIC, name, seen, f"publish beside the others, before it is installed: {place} TLSA {coming}")
        )
    return found


def judge_tlsa(
    name: str, place: str, records: Sequence[Tlsa], chain: Sequence[x509.Certificate], *, secure: bool
) -> Finding:
    """Judge TLSA records against a chain as served; without DNSSEC nobody heeds them."""
    key, above = public_key_of(chain[0]), public_key_of(chain[1]) if chain[1:] else None
    own = f"{place} TLSA {record_for(key) if key is not None else 'of its key, which cannot be read here'}"
    lasting = f"; one that holds for all keys of this CA: {record_for(above, DANE_TA)}" if above is not None else ""
    counting = [each for each in records if each.counts_for_mail]
    if not records:
        return note(_TOPIC, name, "no TLSA record",
                    f"where the zone is signed (DNSSEC): {own}{lasting}")  # fmt: skip
    if not counting:
        return warn(_TOPIC, name, "its TLSA records are of usages 0 and 1, which mail servers ignore", f"publish {own}")
    fitting = next((each for each in counting if matches(each, chain)), None)
    if fitting is None:
        told = f"none of its {len(counting)} TLSA records matches what is served"
        remedy = f"publish {own}{lasting}"
        if secure:
            return bad(_TOPIC, name, f"{told}: senders that check them do not deliver", remedy)
        return warn(_TOPIC, name, f"{told}; without DNSSEC senders ignore them", remedy)
    if not secure:
        return note(_TOPIC, name, f"TLSA {fitting.usage} {fitting.selector} {fitting.matching} matches what is "
                    "served; the resolver has not validated it (DNSSEC), so senders ignore it")  # fmt: skip
    return ok(_TOPIC, name, f"TLSA {fitting.usage} {fitting.selector} {fitting.matching} matches what is served")


def _coming_key(context: ChecksContext, certificate: str) -> Tlsa | None:
    """Return the record for the key of a certificate's open order; None where there is none."""
    if not certificate or not context.has_ledger():
        return None
    order = context.ledger.open_order(certificate)
    if order is None:
        return None
    try:
        return record_for(context.order_keys.read(order).public)
    except InkStampError:
        return None  # it has no key yet, or may not be read by this user
