"""The deeper look of `check`: protocols, revocation, plain HTTP beside HTTPS."""

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from cryptography import x509

from inkstamp.clock import stamp
from inkstamp.findings import Finding, Severity, bad, good, note, warn
from inkstamp.jobs import revocation
from inkstamp.pki.quality import judge_keys, judge_serial, judge_stapling, judge_transparency, short_lived
from inkstamp.pki.revocation import Status, read_ocsp
from inkstamp.view.handshake import Served
from inkstamp.view.protocols import VERSIONS, Readiness, try_versions
from inkstamp.view.upgrade import Upgrade
from inkstamp.view.web import Sight, fetch

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace

_OLD = {"TLS 1.0", "TLS 1.1"}
_HALF_A_YEAR = 180 * 86_400
_MAX_AGE = re.compile(r'max-age\s*=\s*"?(\d{1,12})', re.IGNORECASE)


def look_deeper(
    workplace: "Workplace",
    name: str,
    answered: Sequence[Served],
    issuer: x509.Certificate | None,
    *,
    upgrade: Upgrade,
    again: str,
) -> list[Finding]:
    """Find what a first handshake does not show.

    Args:
        workplace: The run's surroundings.
        name: What is looked at.
        answered: One handshake for each address that had one.
        issuer: Who issued the leaf, where that is known.
        upgrade: In which protocol TLS is asked for; empty for HTTPS.
        again: The command that gets another certificate.

    """
    first = answered[0]
    leaf = first.chain[0]
    found = judge_keys(name, first.chain, again)
    more = [judge_serial(name, leaf), judge_stapling(name, leaf, stapled=bool(first.stapled))]
    if not workplace.is_private:  # a CA of one's own has no logs
        more.append(judge_transparency(name, leaf))
    found += [each for each in more if each is not None]
    found += _revocation(workplace, name, first, issuer, again)
    for each in answered:
        ready = try_versions(each.address, each.port, name, upgrade=upgrade)
        found += judge_readiness(f"{each.address}:{each.port}", ready, mail=bool(upgrade))
    if not upgrade:
        found += _plain_http(workplace, name, answered[0].address)
    return found


def explain_failure(name: str, served: Served, upgrade: Upgrade) -> list[Finding]:
    """Say why no handshake came about with a server that speaks TLS: our own library refuses old versions."""
    if not served.trouble.startswith("TLS failed"):
        return []
    ready = try_versions(served.address, served.port, name, upgrade=upgrade)
    if not ready.versions:
        return []
    at = f"{served.address}:{served.port}"
    return [each for each in judge_readiness(at, ready, mail=True) if each.severity is not Severity.GOOD]


def judge_readiness(at: str, ready: Readiness, *, mail: bool) -> list[Finding]:
    """Judge what an address speaks; a mail server's HTTP versions do not matter."""
    old = [each for each in ready.versions if each in _OLD]
    new = [each for each in ready.versions if each not in _OLD]
    found = []
    if not new:
        told = ", ".join(old) or "no version that is known here"
        found.append(bad("protocols", at, f"speaks {told} alone; browsers refuse that", "switch TLS 1.2 and 1.3 on"))
    elif old:
        seen = f"still speaks {' and '.join(old)} (deprecated by RFC 8996)"
        found.append(warn("protocols", at, seen, "leave TLS 1.2 and 1.3 alone in the server's configuration"))
    elif VERSIONS[-1][0] not in new:
        found.append(note("protocols", at, "speaks TLS 1.2 and not 1.3", "switch TLS 1.3 on"))
    else:
        found.append(good("protocols", at, f"speaks {' and '.join(new)}"))
    if ready.old:
        found.append(warn("ciphers", at, "takes broken ciphers (3DES, RC4 or weaker)", "take them out of the list"))
    if ready.static:
        seen = "takes key exchange without forward secrecy"
        found.append(warn("ciphers", at, seen, "take RSA key exchange out of the cipher list"))
    if not mail:
        offers = ready.alpn == "h2"
        found.append(good("http/2", at, "offers HTTP/2") if offers else note("http/2", at, "does not offer HTTP/2"))
    return found


def _revocation(
    workplace: "Workplace", name: str, first: Served, issuer: x509.Certificate | None, again: str
) -> list[Finding]:
    leaf, stapled = first.chain[0], first.stapled
    if issuer is None:
        return []
    found = []
    if stapled:
        try:
            found.append(_judge_status(name, read_ocsp(stapled, leaf, issuer, workplace.clock.now()), "stapled", again))
        except ValueError as error:
            seen = f"the stapled OCSP answer cannot be believed: {error}"
            found.append(warn("stapling", name, seen, "see the server's log; it fetches that answer itself"))
    try:
        found.append(_judge_status(name, revocation.ask(workplace, leaf, issuer), "asked", again))
    except revocation.NotAsked as none:
        if none.tried:
            said = none.said.splitlines()[0] if none.said else "no answer"
            found.append(note("revocation", name, f"the CA does not say whether it is revoked: {said}"))
        elif not short_lived(leaf):
            found.append(note("revocation", name, "the certificate names no place to ask whether it is revoked"))
    return found


def _judge_status(name: str, status: Status, how: str, again: str) -> Finding:
    if status.revoked is None:
        return good("revocation", name, f"is not revoked ({how})")
    why = f", {status.reason}" if status.reason else ""
    return bad("revocation", name, f"was revoked {stamp(status.revoked)}{why} ({how})", f"{again} --anew")


def _plain_http(workplace: "Workplace", name: str, address: str) -> list[Finding]:
    view = workplace.view
    found = [judge_redirect(name, fetch(f"http://{name}/", address, view))]
    secure = fetch(f"https://{name}/", address, view)
    ours = secure.status and urlsplit(secure.hops[-1]).hostname == name  # another name speaks for itself
    return [*found, judge_hsts(name, secure.hsts)] if ours else found


def judge_redirect(name: str, sight: Sight) -> Finding:
    """Judge where plain HTTP leads; it may well be closed."""
    steps = len(sight.hops) - 1
    last = urlsplit(sight.hops[-1])
    if not sight.status and not steps:
        return note("plain HTTP", name, f"plain HTTP does not answer: {sight.trouble}")
    if last.scheme != "https":
        remedy = "redirect = true in the server's table, or a redirect of your own that lets proofs pass"
        return warn("plain HTTP", name, "plain HTTP is answered and does not lead to HTTPS", remedy)
    if last.hostname != name:
        return note("plain HTTP", name, f"plain HTTP leads to {last.hostname}, another name, in {_count(steps)}")
    return good("plain HTTP", name, f"plain HTTP leads to HTTPS in {_count(steps)}")


def _count(steps: int) -> str:
    return "one step" if steps == 1 else f"{steps} steps"


def judge_hsts(name: str, header: str) -> Finding:
    """Judge what browsers are told of coming back by HTTPS alone (RFC 6797)."""
    age = _MAX_AGE.search(header)
    if age is None:
        return note("hsts", name, "browsers are not told to come back by HTTPS alone (HSTS)")
    seconds = int(age[1])
    days = f"browsers come back by HTTPS alone for {seconds // 86_400} days (HSTS)"
    return good("hsts", name, days) if seconds >= _HALF_A_YEAR else note("hsts", name, f"{days}, which is short")
