"""What a portal wants to see: told, put up where a server of ours can carry it, looked at from outside."""

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from inkstamp.config.carrying import file_servers, record_carrier
from inkstamp.config.model import Certificate
from inkstamp.config.words import BY_HAND
from inkstamp.deadline import poll
from inkstamp.errors import UsageError
from inkstamp.findings import Finding, bad, ok
from inkstamp.jobs.portal.context import PortalContext
from inkstamp.jobs.portal.order import PortalOrder, rule_proofs, show_order, waiting_order
from inkstamp.jobs.validation import dns_records
from inkstamp.jobs.validation.web_files import answers_at, put_up, take_down
from inkstamp.ledger.records import OrderRecord, PortalProof, ProofMethod
from inkstamp.proof.email_validation import constructed, domains_of, is_allowed, judge_mail
from inkstamp.proof.observation import look_at
from inkstamp.proof.portal_validation import PortalDemand, file_for, record_for, wants_token
from inkstamp.proof.record import RecordProof, look_at_record
from inkstamp.proof.web_file import FileProof, portal_file
from inkstamp.severity import Severity, worst
from inkstamp.view.addresses import address_book
from inkstamp.view.lookups import Records

if TYPE_CHECKING:
    from inkstamp.config.model import Configuration
    from inkstamp.view.point import View

_RECORDS = frozenset({ProofMethod.CNAME, ProofMethod.TXT})
_PAUSE = 10.0
"""Seconds between two looks while somebody waits."""


class PortalInput(Struct, frozen=True, kw_only=True):
    """What the user brings back from the portal; empty fields leave it to what is known already."""

    method: ProofMethod | None = None
    place: str = ""
    content: str = ""
    names: tuple[str, ...] = ()
    """Those it is for; empty for all that it can prove."""
    token: str = ""
    """What the portal shows for this order, where its rule has a place for it."""
    sent: datetime | None = None
    """When the portal sent the e-mail; None when it has not."""
    approved: datetime | None = None
    """When somebody followed the link in it; None when nobody has."""


class Proven(Struct, frozen=True, kw_only=True):
    """What was found when the proofs were looked at."""

    order: PortalOrder
    findings: tuple[Finding, ...]
    by_hand: tuple[PortalProof, ...]
    """Proofs that a person has to put up and that are not seen yet."""

    @property
    def seen(self) -> bool:
        """Whether every proof is as the portal wants it."""
        return all(each.seen is not None for each in self.order.proofs)


class MailChoice(Struct, frozen=True, kw_only=True):
    """The addresses at one domain that a CA may write to."""

    domain: str
    addresses: tuple[str, ...]
    published: tuple[str, ...]
    """Those that the domain itself names in DNS for this purpose."""
    finding: Finding
    """Whether mail would arrive there."""


def prove(context: PortalContext, name: str, shown: PortalInput, *, wait: float = 0.0) -> Proven:
    """Take the validation file or record of the portal, put it up, look; the caller holds the certificate.

    Args:
        context: The parts of the run.
        name: The certificate.
        shown: What was brought back; nothing to look again at what is known.
        wait: Seconds to go on looking while something is not seen.

    Raises:
        UsageError: No order waits, what is told cannot prove the names, or nothing is told yet.

    """
    record = waiting_order(context.ledger, name)
    entry = context.certificates.entry(name)
    told = _told(context, record, entry, _resent(context, record, shown))
    if told:
        _switch(context, record, told)
    if shown.approved is not None:
        _approve(context, record, shown)
    proofs = context.ledger.portal.of(record.id)
    if not proofs:
        raise UsageError(
            "the validation file or record that the portal shows is not known yet",
            where=f"order {record.id}",
            advice="give it with --file, --cname, --txt or --email; or add the portal's rule to the configuration",
        )
    placed = _put_up_files(context, record, entry, proofs, anew=False)
    in_dns = _put_up_records(context, record, entry, proofs)

    def waits(seconds: float) -> None:
        context.progress.waits("validation files or records are missing", seconds)

    for _ in poll(context.clock, pause=_PAUSE, seconds=wait, waits=waits):
        findings = _look(context, entry, proofs, in_dns)
        unseen = [each for each in context.ledger.portal.of(record.id) if each.seen is None]
        if not placed and any(each.method is ProofMethod.FILE for each in unseen):
            placed = True  # what was put up earlier may have been cleared away
            if _put_up_files(context, record, entry, proofs, anew=True):
                findings = _look(context, entry, proofs, in_dns)
                unseen = [each for each in context.ledger.portal.of(record.id) if each.seen is None]
        if not unseen:
            break
    by_hand = [each for each in unseen if not _is_carried(context, entry, each)]
    return Proven(order=show_order(context, record), findings=tuple(findings), by_hand=tuple(by_hand))


def _told(context: PortalContext, record: OrderRecord, entry: Certificate, shown: PortalInput) -> list[PortalProof]:
    """Return what is new of the validation file or record of the portal."""
    if shown.method is None:
        if context.ledger.portal.of(record.id) and not shown.token:
            return []
        if shown.token and not wants_token(entry, context.config.authority[record.authority]):
            raise UsageError(
                f"no rule of “{record.authority}” uses {{token}}",
                where=str(context.configuration.path),
                advice="give what the portal shows with --file, --cname or --txt, or write {token} into the rule",
            )
        return rule_proofs(context, record, entry, show_order(context, record).facts, shown.token)
    strangers = [each for each in shown.names if each not in record.names]
    if strangers:
        raise UsageError(f"{strangers[0]} is not in the order", advice=f"its names are {', '.join(record.names)}")
    told = _as_told(context, record, shown)
    now = context.clock.now()
    return [
        PortalProof(
            order_id=record.id,
            name=each.name,
            method=each.method,
            place=each.place,
            content=each.content,
            told=now,
            seen=shown.sent,
        )
        for each in told
    ]


def _of_email(context: PortalContext, record: OrderRecord, names: Sequence[str]) -> list[PortalProof]:
    """Return the validations by e-mail of an order, of some names or all; UsageError when there are none."""
    known = [each for each in context.ledger.portal.of(record.id) if each.method is ProofMethod.EMAIL]
    found = [each for each in known if not names or each.name in names]
    if not found:
        raise UsageError(
            f"no name of order {record.id} is validated by e-mail" if not known else "not validated by e-mail: "
            + ", ".join(names),
            where=f"order {record.id}",
            advice=f"say where it was sent: inkstamp prove {record.certificate} --email ADDRESS --sent",
        )  # fmt: skip
    return found


def _resent(context: PortalContext, record: OrderRecord, shown: PortalInput) -> PortalInput:
    """Fill in to which address an e-mail was sent, where that was said before."""
    if shown.sent is None or shown.place:
        return shown
    known = _of_email(context, record, shown.names)
    places = list(dict.fromkeys(each.place for each in known))
    if len(places) > 1:
        raise UsageError(
            f"the e-mails go to {', '.join(places)}",
            where=f"order {record.id}",
            advice=f"say which one was sent: inkstamp prove {record.certificate} --email ADDRESS --sent",
        )
    return replace(shown, method=ProofMethod.EMAIL, place=places[0], names=tuple(each.name for each in known))


def _approve(context: PortalContext, record: OrderRecord, shown: PortalInput) -> None:
    """Record that the validation e-mails were answered."""
    if shown.approved is None or shown.approved > context.clock.now():
        raise UsageError("an approval cannot lie in the future", advice="say when it was given, or leave the time out")
    known = [
        each for each in _of_email(context, record, shown.names) if not shown.place or each.place == shown.place.lower()
    ]
    context.ledger.portal.approve(known, shown.approved)
    for place in dict.fromkeys(each.place for each in known):
        text = f"{place}: the e-mail was approved {shown.approved:%Y-%m-%d %H:%M} UTC"
        context.ledger.note("validation value given", text, record.certificate)


def _as_told(context: PortalContext, record: OrderRecord, shown: PortalInput) -> list[PortalDemand]:
    names = shown.names or record.names
    if shown.method is ProofMethod.FILE:
        return file_for(names, shown.place, shown.content)
    if shown.method is ProofMethod.EMAIL:
        return _mail_for(context.view, names, shown)
    if shown.method is None:
        return []
    if shown.names:  # the user says which names it proves
        place = shown.place.strip().rstrip(".").lower()
        return [PortalDemand(name=n, method=shown.method, place=place, content=shown.content.strip()) for n in names]
    return record_for(names, shown.method, shown.place, shown.content)


def _mail_for(view: "View", names: Sequence[str], shown: PortalInput) -> list[PortalDemand]:
    choices = mail_choices(view, names)
    published = [address for choice in choices for address in choice.published]
    allowed = [name for name in names if is_allowed(shown.place, name, published)]
    if not allowed or (shown.names and len(allowed) < len(names)):
        offered = ", ".join(address for choice in choices for address in (*choice.published, *choice.addresses))
        raise UsageError(
            f"a CA may not use {shown.place} to validate {', '.join(names)}",
            advice=f"choose one of: {offered}",
        )
    return [
        PortalDemand(name=each, method=ProofMethod.EMAIL, place=shown.place.lower(), content="") for each in allowed
    ]


def mail_choices(view: "View", names: Sequence[str]) -> list[MailChoice]:
    """Return the addresses that a CA may write to for control of `names`, by domain, and whether mail arrives."""
    records, book = Records(view), address_book(view)
    choices = []
    for domain in dict.fromkeys(domain for name in names for domain in domains_of(name)):
        contacts = [*records.caa_contacts(domain).records, *records.txt(f"_validation-contactemail.{domain}").records]
        choices.append(
            MailChoice(
                domain=domain,
                addresses=constructed(domain),
                published=tuple(dict.fromkeys(contacts)),
                finding=judge_mail(domain, records.mx(domain), bool(book.look_up(domain).all)),
            )
        )
    return choices


def _switch(context: PortalContext, record: OrderRecord, told: Sequence[PortalProof]) -> None:
    """Record new proofs in the place of others; what stood in document roots for those is taken down."""
    take_down(context, record)
    context.ledger.portal.tell(told)
    for each in told:
        what = f"{each.name}: {each.method.value} {each.place}"
        if each.method is ProofMethod.EMAIL:
            what += f", sent {each.seen:%Y-%m-%d %H:%M} UTC" if each.seen else ", not sent yet"
        context.ledger.note("validation value given", what, record.certificate)


def _put_up_files(
    context: PortalContext, record: OrderRecord, entry: Certificate, proofs: Sequence[PortalProof], *, anew: bool
) -> bool:
    """Put the files into the document roots of the server that carries proofs; True when that was done.

    Files that stand there are left alone unless `anew`: the CA may be looking at this moment.
    """
    files = [_as_file(each) for each in proofs if each.method is ProofMethod.FILE]
    servers = file_servers(context.config, entry)
    if not files or not servers:
        return False
    standing = {(each.server, each.root, each.parts) for each in context.ledger.files.of(record.id)}
    wanted = {
        (server, place.root, place.parts)
        for server in servers
        for each in files
        for place in context.servers.get(server).places(each.name, each.parts)
    }
    if not anew and standing >= wanted:
        return False
    take_down(context, record)
    put_up(context, record.id, servers, files)
    return True


def _is_carried(context: PortalContext, entry: Certificate, proof: PortalProof) -> bool:
    """Tell whether a proof is put up from here; otherwise a person has to."""
    if proof.method is ProofMethod.FILE:
        return bool(file_servers(context.config, entry))
    return proof.method in _RECORDS and _has_records(context.config, entry)


def _has_records(config: "Configuration", entry: Certificate) -> bool:
    """Tell whether what carries the certificate's proofs carries records; otherwise it is a server, or nobody."""
    return record_carrier(config, entry) != BY_HAND


def _as_record(proof: PortalProof) -> RecordProof:
    return RecordProof(proof.method.value, proof.place, proof.content)


def _put_up_records(
    context: PortalContext, record: OrderRecord, entry: Certificate, proofs: Sequence[PortalProof]
) -> list[dns_records.Placed]:
    """Put the records into DNS that do not stand there yet, and return all; none when a person makes them."""
    wanted = [_as_record(each) for each in proofs if each.method in _RECORDS]
    if not wanted or not _has_records(context.config, entry):
        return []
    placed = dns_records.place(context, wanted)
    standing = {(each.name, each.value) for each in context.ledger.dns.of(record.id)}
    missing = [each for each in placed if (each.record.name, each.record.value) not in standing]
    if missing:
        dns_records.put_up(context, record.id, record_carrier(context.config, entry), missing)
    return placed


def _as_file(proof: PortalProof) -> FileProof:
    return portal_file(proof.name, proof.place, proof.content)


def _look(
    context: PortalContext, entry: Certificate, proofs: Sequence[PortalProof], in_dns: Sequence[dns_records.Placed]
) -> list[Finding]:
    """Look at each proof as the CA will; what was seen is in the ledger afterwards.

    Records that were put into DNS from here are looked for at every authoritative nameserver, until the slowest has
    them; those that a person makes are asked of the resolver.
    """
    servers = file_servers(context.config, entry)
    ours = answers_at(context, servers) if servers else lambda _name, _address: True
    records = Records(context.view)
    findings: dict[Finding, None] = {}
    observed = dns_records.observe(context, record_carrier(context.config, entry), in_dns)
    known = {
        RecordProof(each.record.kind.lower(), each.asked, each.record.value): found for each, found in observed.items()
    }
    for proof in proofs:
        if proof.method is ProofMethod.EMAIL:
            findings[_judge_sent(proof)] = None
            continue
        if proof.method is ProofMethod.FILE:
            seen = look_at(_as_file(proof), context.view, ours)
        else:  # one record may prove several names
            wanted = _as_record(proof)
            ask = records.cname if proof.method is ProofMethod.CNAME else records.txt
            known[wanted] = known.get(wanted) or [look_at_record(wanted, ask)]
            seen = known[wanted]
        found = any(each.severity is Severity.OK for each in seen) and worst(seen) is not Severity.BAD
        context.ledger.portal.looked(proof, seen=found)
        findings |= dict.fromkeys(seen)
    return list(findings)


def _judge_sent(proof: PortalProof) -> Finding:
    if proof.seen is None:
        return bad(
            "validation",
            proof.name,
            f"the portal has not sent an e-mail to {proof.place} yet, as far as is known",
            "let it send one, then run this with --sent",
        )
    if proof.approved is not None:
        text = f"the e-mail to {proof.place} was approved on {proof.approved:%Y-%m-%d %H:%M} UTC"
        return ok("validation", proof.name, text)
    return ok(
        "validation", proof.name, f"the portal sent an e-mail to {proof.place} on {proof.seen:%Y-%m-%d %H:%M} UTC"
    )
