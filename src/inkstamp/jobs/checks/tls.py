"""The deeper look of `check`: keys, revocation, protocols; plain HTTP and DNS by their own modules."""

from collections.abc import Collection, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from cryptography import x509
from msgspec import Struct
from msgspec.structs import replace
from OpenSSL import SSL

from inkstamp.clock import stamp
from inkstamp.findings import Finding, bad, note, ok, warn
from inkstamp.jobs.checks.context import ChecksContext
from inkstamp.jobs.checks.dns import look_at_caa, look_at_tlsa
from inkstamp.jobs.checks.each_address import at_each_address, for_each_chain
from inkstamp.jobs.checks.http import look_at_web
from inkstamp.jobs.checks.served_chain import Fetch, judge_chain
from inkstamp.pki.certificates import key_kind, subject_names
from inkstamp.pki.chain import Roots, arrange, find_paths
from inkstamp.pki.quality import judge_keys, judge_serial, judge_stapling, judge_transparency, short_lived
from inkstamp.pki.revocation import Status, read_ocsp
from inkstamp.pki.verifying import second_opinion
from inkstamp.severity import Severity
from inkstamp.view.handshake import Served, shake_hands
from inkstamp.view.protocols import VERSIONS, Readiness, group_name, try_versions
from inkstamp.view.revocation_status import NotAsked, RevocationStatus
from inkstamp.view.upgrade import Upgrade

if TYPE_CHECKING:
    from inkstamp.clock import Clock

_OLD = {"TLS 1.0", "TLS 1.1"}
_HYBRID = "MLKEM"
"""In the names of groups that later quantum computers do not open (draft-ietf-tls-ecdhe-mlkem)."""
_KNOWS_HYBRID = SSL.OPENSSL_VERSION_NUMBER >= 0x30500000


class TlsCheck(Struct, frozen=True, kw_only=True):
    """What is looked at, and what it is looked at with."""

    name: str
    port: int
    upgrade: Upgrade
    """In which protocol TLS is asked for; empty for HTTPS."""
    certificate: str
    """The configured certificate that has the name; empty for none."""
    roots: Roots
    now: datetime
    fetch: Fetch | None

    @property
    def again(self) -> str:
        """The command that gets another certificate."""
        return f"inkstamp stamp {self.certificate or self.name}"


def look_deeper(
    context: ChecksContext,
    subject: TlsCheck,
    answered: Sequence[Served],
    trusted: Collection[tuple[x509.Certificate, ...]],
) -> list[Finding]:
    """Find what a first handshake does not show, at every address: a forgotten one is the usual surprise.

    Args:
        context: The parts of the run.
        subject: What is looked at.
        answered: One handshake for each address that had one.
        trusted: The chains for which our own builder found a path to a trusted root.

    """
    name = subject.name
    found = for_each_chain(
        name, answered, lambda chain: _about_chain(context, subject, chain, trusted=chain in trusted)
    )
    found += at_each_address(name, answered, lambda each: _about_address(context.clock, subject, each))
    found += look_at_caa(context, name, subject.certificate)
    if subject.upgrade:
        return found + for_each_chain(
            name, answered, lambda chain: look_at_tlsa(context, name, subject.port, chain, subject.certificate)
        )
    return found + at_each_address(name, answered, lambda each: look_at_web(context, name, each.address))


def _about_address(clock: "Clock", subject: TlsCheck, served: Served) -> list[Finding]:
    """Judge what an address staples, speaks and serves besides."""
    name = subject.name
    ready = try_versions(
        served.address, served.port, name, upgrade=subject.upgrade, protocol=served.protocol, group=served.group
    )
    return [
        *_about_stapling(clock, subject, served),
        *judge_readiness(name, ready, mail=bool(subject.upgrade)),
        *judge_sessions(name, ready, served.group),
        *_other_certificates(subject, served),
    ]


def _about_chain(
    context: ChecksContext, subject: TlsCheck, chain: tuple[x509.Certificate, ...], *, trusted: bool
) -> list[Finding]:
    """Judge keys, serial number, transparency and revocation of a chain as it is served."""
    name, leaf = subject.name, chain[0]
    found = [*judge_keys(name, chain, subject.again), judge_serial(name, leaf)]
    if not context.view.is_private and not _is_of_private_ca(context, subject, chain):  # which has no logs
        found.append(judge_transparency(name, leaf))
    found.append(_compare_verifiers(subject, chain, trusted=trusted))
    issuer = _issuer_in(chain)
    if issuer is not None and trusted:
        found += _revocation(context.revocation_status, name, leaf, issuer, subject.again)
    elif issuer is not None:  # where it says to ask is then anybody's word
        found.append(note("revocation", name, "was not checked: the chain leads to no trusted root"))
    return [each for each in found if each is not None]


def _is_of_private_ca(context: ChecksContext, subject: TlsCheck, chain: tuple[x509.Certificate, ...]) -> bool:
    """Tell whether a chain leads to a root that the authority of the name's certificate has of its own."""
    entry = context.certificates.get(subject.certificate) if subject.certificate else None
    own = context.trust.private(entry.authority) if entry is not None else []
    return bool(own) and bool(find_paths(chain[0], chain[1:], own, subject.now))


def _issuer_in(chain: tuple[x509.Certificate, ...]) -> x509.Certificate | None:
    above = arrange(chain[0], chain[1:])
    return above[0] if above else None


def _compare_verifiers(subject: TlsCheck, chain: Sequence[x509.Certificate], *, trusted: bool) -> Finding | None:
    """Tell where a verifier of another make sees the chain in another way than ours; None where they agree."""
    refused = second_opinion(subject.name, chain, subject.roots, subject.now)
    if trusted and refused:
        seen = f"a second verifier, strict about the Baseline Requirements' profile, rejects the chain: {refused}"
        return note("second verifier", subject.name, seen)
    if not trusted and not refused:
        return note("second verifier", subject.name, "a second verifier finds a path to a trusted root")
    return None


def _other_certificates(subject: TlsCheck, first: Served) -> list[Finding]:
    """Find what else the same address serves: with another sort of key, and to who does not say a name."""
    found: list[Finding] = []
    leaf, at = first.chain[0], (first.address, first.port)
    for algorithm in ("rsa", "ecdsa"):
        if key_kind(leaf).startswith(algorithm):
            continue
        other = shake_hands(*at, subject.name, upgrade=subject.upgrade, algorithm=algorithm)
        if other.chain and other.chain[0] != leaf:
            found.append(ok("two keys", subject.name, f"clients that want {algorithm} are served another certificate"))
            judged = judge_chain(subject.name, other.chain, subject.roots, subject.now, fetch=subject.fetch)
            found += [replace(each, subject=f"{subject.name} ({algorithm})") for each in judged.findings]
    if subject.upgrade:
        return found
    unnamed = shake_hands(*at, "")
    if not unnamed.chain:
        found.append(note("without SNI", subject.name, "clients without SNI get no handshake"))
    elif unnamed.chain[0] == leaf:
        found.append(ok("without SNI", subject.name, "clients without SNI are served the same certificate"))
    else:
        whose = ", ".join(subject_names(unnamed.chain[0])[:3]) or "no name"
        seen = f"clients without SNI are served the certificate for {whose}"
        found.append(note("without SNI", subject.name, seen))
    return found


def explain_failure(name: str, served: Served, upgrade: Upgrade) -> list[Finding]:
    """Say why no handshake came about with a server that speaks TLS: our own library refuses old versions."""
    if not served.refused:
        return []
    ready = try_versions(served.address, served.port, name, upgrade=upgrade)
    if not ready.versions:
        return []
    at = f"{served.address}:{served.port}"
    return [each for each in judge_readiness(at, ready, mail=True) if each.severity is not Severity.OK]


def judge_readiness(at: str, ready: Readiness, *, mail: bool) -> list[Finding]:
    """Judge what an address speaks; a mail server's HTTP versions do not matter."""
    old = [each for each in ready.versions if each in _OLD]
    new = [each for each in ready.versions if each not in _OLD]
    found = []
    if not new:
        told = ", ".join(old) or "no version that is known here"
        found.append(bad("protocols", at, f"accepts {told} only; browsers refuse that", "enable TLS 1.2 and 1.3"))
    elif old:
        seen = f"still accepts {' and '.join(old)} (deprecated by RFC 8996)"
        found.append(warn("protocols", at, seen, "enable only TLS 1.2 and 1.3 in the server's configuration"))
    elif VERSIONS[-1][0] not in new:
        found.append(note("protocols", at, "accepts TLS 1.2 and not 1.3", "enable TLS 1.3"))
    else:
        found.append(ok("protocols", at, f"accepts {' and '.join(new)}"))
    if ready.old:
        found.append(
            warn("ciphers", at, "accepts broken ciphers (3DES, RC4 or weaker)", "remove them from the cipher list")
        )
    if ready.static:
        seen = "accepts key exchange without forward secrecy"
        found.append(warn("ciphers", at, seen, "remove RSA key exchange from the cipher list"))
    if not mail:
        offers = ready.alpn == "h2"
        found.append(ok("http/2", at, "offers HTTP/2") if offers else note("http/2", at, "does not offer HTTP/2"))
    return found


def judge_sessions(at: str, ready: Readiness, group: str) -> list[Finding]:
    """Judge how an address agrees on keys and whether session resumption works."""
    found = []
    agreed = group_name(group)
    taken = ", ".join(dict.fromkeys([*([agreed] if agreed else []), *ready.groups]))
    if _HYBRID in group:
        found.append(ok("key exchange", at, f"key exchange by {taken}; the first is a post-quantum (hybrid) group"))
    elif taken:
        hybrid = "" if _KNOWS_HYBRID else ", as far as this machine's OpenSSL can try"
        found.append(note("key exchange", at, f"key exchange by {taken}; no post-quantum (hybrid) group{hybrid}"))
    if ready.resumes is not None:
        words = "session resumption works" if ready.resumes else "no session resumption: each visit is a full handshake"
        found.append(ok("resumption", at, words) if ready.resumes else note("resumption", at, words))
    return found


def _about_stapling(clock: "Clock", subject: TlsCheck, served: Served) -> list[Finding]:
    """Judge the OCSP answer that an address staples, or that it staples none."""
    name, leaf = subject.name, served.chain[0]
    found = [judge_stapling(name, leaf, stapled=bool(served.stapled))]
    issuer = _issuer_in(served.chain)
    if served.stapled and issuer is not None:
        try:
            status = read_ocsp(served.stapled, leaf, issuer, clock.now())
            found.append(_judge_status(name, status, "stapled", subject.again))
        except ValueError as error:
            seen = f"the stapled OCSP response is not valid: {error}"
            found.append(warn("stapling", name, seen, "see the server's log; it fetches that answer itself"))
    return [each for each in found if each is not None]


def _revocation(
    statuses: RevocationStatus, name: str, leaf: x509.Certificate, issuer: x509.Certificate, again: str
) -> list[Finding]:
    """Judge what the CA says of a certificate."""
    try:
        return [_judge_status(name, statuses.ask(leaf, issuer), "asked", again)]
    except NotAsked as none:
        if none.tried:
            said = none.said.splitlines()[0] if none.said else "no answer"
            return [note("revocation", name, f"the revocation status is unknown: {said}")]
        if not short_lived(leaf):
            return [note("revocation", name, "the certificate has no OCSP or CRL URL")]
        return []


def _judge_status(name: str, status: Status, how: str, again: str) -> Finding:
    if status.revoked is None:
        return ok("revocation", name, f"is not revoked ({how})")
    why = f", {status.reason}" if status.reason else ""
    return bad("revocation", name, f"was revoked {stamp(status.revoked)}{why} ({how})", f"{again} --reissue")
