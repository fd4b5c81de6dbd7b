"""Certificates that servers have already, whoever got them: taken over, so that they are renewed from now on."""

import shlex
from collections.abc import Iterable, Sequence
from datetime import datetime
from pathlib import Path

import msgspec
from cryptography import x509
from msgspec import Struct, field
from msgspec.structs import replace

from inkstamp.bulkhead import apart, attempt, reached
from inkstamp.config.carrying import is_away
from inkstamp.errors import EditionUnfit, InkStampError, UsageError
from inkstamp.files import read_bytes
from inkstamp.findings import Finding, note
from inkstamp.jobs.enrolment.context import EnrolmentContext
from inkstamp.jobs.enrolment.enrol import EnrolmentRequest, EnrolmentState, enrol
from inkstamp.jobs.enrolment.lists import WantedCertificate
from inkstamp.jobs.enrolment.other_renewers import other_renewers
from inkstamp.jobs.inventory.survey import survey
from inkstamp.jobs.issuance.acceptance import record_of
from inkstamp.jobs.issuance.renewal_plan import renewal_moment
from inkstamp.jobs.lifecycle.install import install_edition
from inkstamp.jobs.lifecycle.proposal import StampRequest, entry_name
from inkstamp.jobs.lifecycle.provisioning import settle, write_entries
from inkstamp.jobs.lifecycle.stamp_plans import make_plans
from inkstamp.jobs.status.overview import statuses_of
from inkstamp.ledger.shelf import EditionFiles
from inkstamp.pki import keys
from inkstamp.pki.certificates import read_pem, short_name, subject_names, to_pem
from inkstamp.pki.chain import Path as ChainPath
from inkstamp.pki.chain import find_paths, judge_edition
from inkstamp.reach.interface import FoundFile
from inkstamp.servers.common import plain_names
from inkstamp.servers.interface import Site
from inkstamp.severity import Severity, worst

_MOST_BYTES = 1 << 20


class CertificateInUse(Struct, frozen=True, kw_only=True):
    """A certificate that was found, with where it is used."""

    leaf: x509.Certificate
    pool: tuple[x509.Certificate, ...]
    """What stands beside it in its files."""
    certificate_file: str
    key_file: str
    """Where its key should be; empty where that is not known."""
    key: bytes | None
    """What is in that file; None where it cannot be read from here."""
    servers: tuple[str, ...]
    """Those that serve it by their configuration."""

    @property
    def names(self) -> tuple[str, ...]:
        """What it is for."""
        return subject_names(self.leaf)


class AdoptionRequest(Struct, frozen=True, kw_only=True):
    """What is to become of them."""

    group: str = ""
    """The group of the roster that they go into; empty to write entries into the configuration file."""
    customer: str = ""
    authority: str = ""
    """Who renews them; empty for the only one, or the group's."""
    via: tuple[str, ...] = ()
    entry_name: str = ""
    """What the only one is called; empty to call each like its first name."""
    installs: bool = False
    """Whether servers are given it from the shelf at once."""
    key_elsewhere: bool = False
    """Whether they are watched only: the key stays where it is, and renewal asks for a CSR from there."""


class Adopted(Struct, frozen=True, kw_only=True):
    """What became of one."""

    certificate: str
    names: tuple[str, ...]
    servers: tuple[str, ...]
    not_after: datetime
    """Aware, UTC."""
    state: str
    """Where it stands now (`ok`, `due`); empty for one that is not taken over."""
    findings: tuple[Finding, ...] = field(default=())
    error: InkStampError | None = None
    """Why it is not taken over."""


def of_files(certificate: Path, key: Path | None) -> CertificateInUse:
    """Read a certificate with its chain, and its key (None for one that is elsewhere), from files.

    Raises:
        EditionUnfit: There is no certificate in the file.
        FileTrouble: A file cannot be read.

    """
    leaf, *pool = read_pem(read_bytes(certificate, limit=_MOST_BYTES), str(certificate))
    return CertificateInUse(
        leaf=leaf, pool=tuple(pool), certificate_file=str(certificate), servers=(),
        key_file=str(key) if key is not None else "",
        key=read_bytes(key, limit=_MOST_BYTES) if key is not None else None,
    )  # fmt: skip


def of_sites(context: EnrolmentContext, names: Sequence[str]) -> list[CertificateInUse]:
    """Return the certificates that the sites with some names have, or those of all sites; each once.

    Those of all sites are without what is renewed already, self-signed or expired.

    Raises:
        UsageError: No site with TLS has one of the names.

    """
    reports = [each for each in survey(context).sites if each.certificate is not None and each.site.tls]
    for name in names:
        if not any(name in each.site.names for each in reports):
            raise UsageError(f"no site with a certificate has the name {name}", advice="inkstamp survey")
    shelf = f"{context.home.shelf}/"
    found: dict[str, CertificateInUse] = {}
    for each in reports:
        site, known = each.site, each.certificate
        if known is None or (names and not set(names) & set(plain_names(site))):
            continue
        ours = site.certificate_file.startswith(shelf)
        if not names and (ours or context.clock.now() > known.not_after or known.subject == known.issuer):
            continue
        one = found.get(known.sha256)
        if one is not None:
            servers = dict.fromkeys((*one.servers, site.server))
            found[known.sha256] = replace(one, servers=tuple(servers))
            continue
        read = attempt(_read, context, site)
        if not isinstance(read, InkStampError):
            found[known.sha256] = read
        elif names:
            raise read
        else:
            context.progress.step(site.names[0] if site.names else site.file, f"cannot be read: {read.what}")
    if names:
        return list(found.values())
    return [each for each in found.values() if not context.certificates.covering(each.names)]


def _read(context: EnrolmentContext, site: Site) -> CertificateInUse:
    """Read a site's files where they lie; keys are never fetched from another machine."""
    server, certificate, chain, key = site.server, site.certificate_file, site.chain_file, site.key_file
    host = context.servers.get(server).host
    away = server in context.config.server and is_away(context.config, server)
    files = host.gather(sorted({each for each in (certificate, chain) if each}), contents="certificates")
    secret = {} if away or not key else host.gather([key], contents="all")
    leaf, *pool = read_pem(_data(files.get(certificate)), certificate)
    apart_from_it = read_pem(_data(files.get(chain)), chain) if chain and files.get(chain) is not None else []
    return CertificateInUse(
        leaf=leaf, pool=(*pool, *apart_from_it), certificate_file=certificate, key_file=key,
        key=secret[key].data if key in secret else None, servers=(server,),
    )  # fmt: skip


def _data(found: FoundFile | None) -> bytes:
    return (found.data if found is not None else None) or b""


def adopt(
    context: EnrolmentContext, found: Iterable[CertificateInUse], request: AdoptionRequest, *, preview: bool
) -> list[Adopted]:
    """Take certificates over, one after the other; one that cannot be stops no other.

    What a server has now becomes the first edition; nothing on the server changes, unless `request` says so.
    """
    done = []
    for each in found:
        try:
            with apart():
                reached("adopt", each.names[0] if each.names else each.certificate_file)
                done.append(_adopt(context, each, request, preview=preview))
        except InkStampError as error:
            done.append(
                Adopted(certificate="", names=each.names, servers=each.servers, state="", error=error,
                        not_after=each.leaf.not_valid_after_utc)
            )  # fmt: skip
    return done


def _roots(context: EnrolmentContext, request: AdoptionRequest) -> "list[x509.Certificate]":
    """Return the roots that an adopted certificate may lead to: of the authority that is to renew it, too."""
    group = context.config.group.get(request.group)
    authority = request.authority or (group.authority if group is not None else context.config.usual_authority)
    return context.trust.of(authority)


def _adopt(context: EnrolmentContext, found: CertificateInUse, request: AdoptionRequest, *, preview: bool) -> Adopted:
    if not found.names:
        raise EditionUnfit("the certificate has no names", where=found.certificate_file,
                           advice="get another one: inkstamp stamp NAME")  # fmt: skip
    key = None if request.key_elsewhere else _own_key(found)
    public = key.public_key() if key is not None else found.leaf.public_key()
    paths = find_paths(found.leaf, found.pool, _roots(context, request), context.clock.now())
    judged = judge_edition(found.leaf, found.pool, public_key=public, names=found.names, paths=paths,
                           moment=context.clock.now())  # fmt: skip
    if worst(judged) is Severity.BAD:
        again = f"get a new one: inkstamp stamp {shlex.quote(found.names[0])}"
        raise EditionUnfit(f"the certificate for {found.names[0]} cannot be used", where=found.certificate_file,
                           findings=judged, advice=again)  # fmt: skip
    findings = (
        [] if key is None else other_renewers((found.certificate_file, found.key_file), short_name(found.leaf.issuer))
    )
    name = _half_adopted(context, found) or _entry(context, found, request, preview=preview)
    state = ""
    if not preview:
        _shelve(context, name, found, key, paths[0])
        if request.installs and found.servers:
            findings += install_edition(context, name, None, preview=False).findings
        (status,) = statuses_of(context, [name])
        state = status.state.value
        if status.wanted:
            findings.append(note("renewal", name, status.wanted, "inkstamp renew"))
    return Adopted(certificate=name, names=found.names, servers=found.servers, state=state, findings=tuple(findings),
                   not_after=found.leaf.not_valid_after_utc)  # fmt: skip


def _half_adopted(context: EnrolmentContext, found: CertificateInUse) -> str:
    """Return the certificate that a run which was interrupted wrote the entry of; empty where there is none.

    Raises:
        UsageError: Its names are in another certificate already.

    """
    for name, entry in context.certificates.covering(found.names).items():
        if set(entry.names) != set(found.names) or context.ledger.next_edition(name) > 1:
            shared = next(each for each in found.names if each in entry.names)
            raise UsageError(f"{shared} is in certificate “{name}” already", advice=f"inkstamp why {name}")
        return name
    return ""


def _own_key(found: CertificateInUse) -> keys.PrivateKey:
    """Return the key; EditionUnfit where it is not there, another one's, or encrypted."""
    where = found.key_file or found.certificate_file
    if found.key is None:
        raise EditionUnfit(
            f"the key of the certificate for {found.names[0]} cannot be read from here", where=where,
            advice="copy certificate and key here, then: inkstamp adopt --certificate FILE --key FILE; or have it "
            "watched only, with --key-elsewhere",
        )  # fmt: skip
    fits = keys.is_key_of(found.leaf, found.key)
    if not fits:
        why = "is encrypted" if fits is None else "is not that of the certificate"
        raise EditionUnfit(
            f"the key for {found.names[0]} {why}", where=where,
            advice="give it without a passphrase" if fits is None else "give the certificate's own key",
        )  # fmt: skip
    return keys.from_pem(found.key, where)


def _entry(context: EnrolmentContext, found: CertificateInUse, request: AdoptionRequest, *, preview: bool) -> str:
    """Write its entry, to the roster or the file; returns what it is called."""
    called = request.entry_name or entry_name(found.names)
    if request.group:
        wanted = WantedCertificate(
            names=found.names, certificate=called, customer=request.customer,
            settings=_own_settings(context, found, request),
        )  # fmt: skip
        (enrolled,) = enrol(
            context, EnrolmentRequest(group=request.group, lines=(wanted,), looks=False), preview=preview
        )
        if enrolled.state is EnrolmentState.REFUSED:
            raise UsageError(enrolled.why, advice=enrolled.advice)
        return enrolled.certificate
    asked = StampRequest(
        names=found.names,
        entry_name=called,
        authority=request.authority,
        via=request.via,
        install=() if request.key_elsewhere else found.servers or None,
    )
    (plan,) = make_plans(context, asked)
    if request.key_elsewhere:
        plan = replace(plan, entry=msgspec.structs.replace(plan.entry, key_elsewhere=True))
    if not preview:
        write_entries(context, plan)
        context.certificates.forget()
    return plan.name


def _own_settings(context: EnrolmentContext, found: CertificateInUse, request: AdoptionRequest) -> dict[str, object]:
    """Return what an adopted certificate says in the place of its group."""
    if request.key_elsewhere:
        return {"key_elsewhere": True, "install": []}
    group = context.configuration.current.group.get(request.group)
    same = group is None or group.install == found.servers
    return {"install": list(found.servers)} if found.servers and not same else {}


def _shelve(
    context: EnrolmentContext, name: str, found: CertificateInUse, key: keys.PrivateKey | None, path: ChainPath
) -> None:
    """Put it on the shelf as the next edition, and record that the servers have it."""
    ledger = context.ledger
    with context.locks.certificate(name):
        settle(context, name)
        entry, newest = context.certificates.entry(name), ledger.newest_edition(name)
        root, issuers = short_name(path.root.subject), [to_pem(each) for each in path.issuers]
        record = record_of(name, ledger.next_edition(name), entry.authority, found.leaf, root, ends=path.ends)
        if newest is None or newest.sha256 != record.sha256:
            pem = keys.to_pem(key) if key is not None else None
            context.shelf.put(name, record.number, EditionFiles(pem, to_pem(found.leaf), issuers))
            told = f"edition {record.number}, taken over from {found.certificate_file}"
            ledger.restore_edition(record, told, renewal=renewal_moment(context, entry, record))
            newest = record
        if found.servers or not entry.install:
            servers = () if entry.key_elsewhere else found.servers
            text = ", ".join(servers) or "the shelf only"
            ledger.installs.add_done(name, newest.number, servers, "adopted", text)
