"""`check`'s look at plain HTTP beside HTTPS: where it leads, whether challenge responses would be found, HSTS."""

import re
import secrets

from inkstamp.findings import Finding, note, ok, warn
from inkstamp.jobs.checks.context import ChecksContext
from inkstamp.proof.web_file import http_proof
from inkstamp.urls import web_url
from inkstamp.view.web import Sight, fetch

_HALF_A_YEAR = 180 * 86_400
_MAX_AGE = re.compile(r'max-age\s*=\s*"?(\d{1,12})', re.IGNORECASE)


def look_at_web(context: ChecksContext, name: str, address: str) -> list[Finding]:
    """Find what plain HTTP does at one address, and what HTTPS says of it."""
    view = context.view
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
        return note("plain HTTP", name, f"no answer over HTTP: {sight.trouble}")
    if last.scheme != "https":
        remedy = "redirect to https in the web server, except /.well-known/acme-challenge/"
        return warn("plain HTTP", name, "no redirect from HTTP to HTTPS", remedy)
    if last.host != name:
        return note("plain HTTP", name, f"HTTP redirects to {last.host}, another name, in {_count(steps)}")
    return ok("plain HTTP", name, f"HTTP redirects to HTTPS in {_count(steps)}")


def _count(steps: int) -> str:
    return "one redirect" if steps == 1 else f"{steps} redirects"


def judge_proof_path(name: str, url: str, sight: Sight) -> Finding:
    """Judge whether a file proof would be found: a redirect may go elsewhere, but has to keep the path."""
    asked, last = web_url(url).target, sight.last
    if last.target.partition("?")[0] != asked:
        seen = f"the challenge path is redirected to {sight.hops[-1]}, where no CA finds a response"
        remedy = "have the redirect keep the path, or exclude /.well-known/acme-challenge/ from it"
        return warn("challenge path", name, seen, f"{remedy}; inkstamp precheck {name} tries it with a file")
    if sight.trouble:
        return warn("challenge path", name, f"the challenge path: {sight.trouble}", f"inkstamp precheck {name}")
    if last.host != name:
        return note("challenge path", name, f"challenge responses are fetched from {last.host}, after a redirect")
    return ok(
        "challenge path",
        name,
        "redirects keep the challenge path" if len(sight.hops) > 1 else "challenge responses would be found",
    )


def judge_hsts(name: str, header: str) -> Finding:
    """Judge what browsers are told of coming back by HTTPS alone (RFC 6797)."""
    age = _MAX_AGE.search(header)
    if age is None:
        return note("hsts", name, "no HSTS header")
    seconds = int(age[1])
    days = f"HSTS header: browsers use HTTPS only for {seconds // 86_400} days"
    return ok("hsts", name, days) if seconds >= _HALF_A_YEAR else note("hsts", name, f"{days}, which is short")
