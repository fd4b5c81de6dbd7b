"""`check`'s look at plain HTTP beside HTTPS: where it leads, whether proofs would pass, what browsers are told."""

import re
import secrets
from typing import TYPE_CHECKING

from inkstamp.findings import Finding, good, note, warn
from inkstamp.proof.web_file import http_proof
from inkstamp.urls import web_url
from inkstamp.view.web import Sight, fetch

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace

_HALF_A_YEAR = 180 * 86_400
_MAX_AGE = re.compile(r'max-age\s*=\s*"?(\d{1,12})', re.IGNORECASE)


def look_at_web(workplace: "Workplace", name: str, address: str) -> list[Finding]:
    """Find what plain HTTP does at one address, and what HTTPS says of it."""
    view = workplace.view
    plain = fetch(f"http://{name}/", address, view)
    found = [judge_redirect(name, plain)]
    if plain.status:
        url = http_proof(name, f"look-{secrets.token_hex(8)}", "").url
        found.append(judge_proof_path(name, url, fetch(url, address, view)))
    secure = fetch(f"https://{name}/", address, view)
    ours = secure.status and secure.last.host == name  # another name speaks for itself
    return [*found, judge_hsts(name, secure.hsts)] if ours else found


def judge_redirect(name: str, sight: Sight) -> Finding:
    """Judge where plain HTTP leads; it may well be closed."""
    steps = len(sight.hops) - 1
    last = sight.last
    if not sight.status and not steps:
        return note("plain HTTP", name, f"plain HTTP does not answer: {sight.trouble}")
    if last.scheme != "https":
        remedy = "have the web server send visitors on to https, but for /.well-known/acme-challenge/"
        return warn("plain HTTP", name, "plain HTTP is answered and does not lead to HTTPS", remedy)
    if last.host != name:
        return note("plain HTTP", name, f"plain HTTP leads to {last.host}, another name, in {_count(steps)}")
    return good("plain HTTP", name, f"plain HTTP leads to HTTPS in {_count(steps)}")


def _count(steps: int) -> str:
    return "one step" if steps == 1 else f"{steps} steps"


def judge_proof_path(name: str, url: str, sight: Sight) -> Finding:
    """Judge whether a file proof would be found: a redirect may go elsewhere, but has to keep the path."""
    asked, last = web_url(url).target, sight.last
    if last.target.partition("?")[0] != asked:
        seen = f"the path of proofs is sent on to {sight.hops[-1]}, where no CA finds one"
        remedy = "have the redirect keep the path, or leave /.well-known/acme-challenge/ out of it"
        return warn("proof path", name, seen, f"{remedy}; inkstamp precheck {name} tries it with a file")
    if sight.trouble:
        return warn("proof path", name, f"the path of proofs: {sight.trouble}", f"inkstamp precheck {name}")
    if last.host != name:
        return note("proof path", name, f"proofs are looked for at {last.host}, which a redirect leads to")
    return good("proof path", name, "redirects keep the path of proofs" if len(sight.hops) > 1 else "proofs would pass")


def judge_hsts(name: str, header: str) -> Finding:
    """Judge what browsers are told of coming back by HTTPS alone (RFC 6797)."""
    age = _MAX_AGE.search(header)
    if age is None:
        return note("hsts", name, "browsers are not told to come back by HTTPS alone (HSTS)")
    seconds = int(age[1])
    days = f"browsers come back by HTTPS alone for {seconds // 86_400} days (HSTS)"
    return good("hsts", name, days) if seconds >= _HALF_A_YEAR else note("hsts", name, f"{days}, which is short")
