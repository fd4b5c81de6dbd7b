"""Look at a proof the way the CA will, and say in findings what was seen."""

from collections.abc import Callable

from inkstamp.bulkhead import side_by_side
from inkstamp.deadline import within
from inkstamp.findings import Finding, Severity, bad, good, note, warn
from inkstamp.printable import one_line
from inkstamp.proof.tls_alpn import ALPN, TlsProof
from inkstamp.proof.web_file import FileProof
from inkstamp.view.addresses import Addresses, address_book
from inkstamp.view.handshake import shake_hands
from inkstamp.view.point import View
from inkstamp.view.web import MOST_BODY, Sight, fetch

_TOPIC = "proof"
_AT_ONCE = 8
"""Addresses of one name that are looked at in the same moment."""
_NAME_SECONDS = 60.0
"""For a look at all addresses of a name together."""
_SHOWN = 80
"""Characters of a wrong answer that are shown."""
_BYTE_ORDER_MARK = b"\xef\xbb\xbf"
_REDIRECT_REMEDY = "take the proof's path out of the redirect, or have it lead to the same name on port 80 or 443"


def look_at(proof: FileProof, view: View, is_ours: Callable[[str, str], bool], *, whole: bool = False) -> list[Finding]:
    """Fetch the proof from every address of its name; one finding an address, `bad` where a CA would fail.

    Args:
        proof: What should be there.
        view: How the public sees it.
        is_ours: Tells for a name and an address whether the server that carries the proof answers there.
        whole: Whether an address that cannot be reached from here is `bad` where others can: the CA may ask there.

    """
    with within(_NAME_SECONDS):
        addresses = address_book(view).look_up(proof.name)
        return judge(
            proof,
            addresses,
            lambda address: fetch(proof.url, address, view),
            lambda address: is_ours(proof.name, address),
            whole=whole,
        )


def _unseen(found: Finding) -> Finding:
    family = "AAAA" if found.subject.count(":") > 1 else "A"
    return bad(
        found.topic,
        found.subject,
        f"{found.seen}, and the CA may well ask there first",
        f"take the {family} record out if nothing answers there; if it does, seen from elsewhere, say so with --anyway",
    )


def look_at_handshake(proof: TlsProof, view: View) -> list[Finding]:
    """Shake hands with every address of the name as RFC 8737 section 3 has it; a finding each."""
    with within(_NAME_SECONDS):
        addresses = address_book(view).look_up(proof.name)
        if not addresses.all:
            return [_no_address(proof.name, addresses)]
        return [_judge_handshake(proof, address, view) for address in addresses.all]


def _judge_handshake(proof: TlsProof, address: str, view: View) -> Finding:
    at = f"{proof.name} at {address}"
    served = shake_hands(address, view.https_port, proof.server_name, alpn=ALPN)
    if served.chain and proof.is_shown_by(served.chain[0]):
        return good(_TOPIC, at, "shows the proof in a handshake")
    return bad(
        _TOPIC,
        at,
        served.trouble or "shows another certificate than the proof",
        f"see that {address} leads to this machine, with nothing in between that ends TLS",
    )


def _no_address(name: str, addresses: Addresses) -> Finding:
    return bad(_TOPIC, name, addresses.trouble, addresses.remedy(name))


def judge(
    proof: FileProof,
    addresses: Addresses,
    fetch_from: Callable[[str], Sight],
    is_ours: Callable[[str], bool],
    *,
    whole: bool = False,
) -> list[Finding]:
    """Say what the CA would see of `proof` at `addresses`; the two functions do the looking. `whole`: see `look_at`."""
    if not addresses.all:
        return [_no_address(proof.name, addresses)]
    sights = side_by_side(fetch_from, addresses.all, _AT_ONCE)
    findings = [_judge_sight(proof, sight, is_ours) for sight in sights]
    if all(finding.severity == "note" for finding in findings):
        return [
            bad(
                _TOPIC,
                proof.name,
                f"none of its addresses can be reached from here: {', '.join(addresses.all)}",
                "give this machine a way to at least one of them, since nothing can be seen otherwise",
            )
        ]
    return [_unseen(each) if whole and each.severity is Severity.NOTE else each for each in findings]


def _judge_sight(proof: FileProof, sight: Sight, is_ours: Callable[[str], bool]) -> Finding:
    at = f"{proof.name} at {sight.address}"
    if sight.no_route:
        return note(_TOPIC, at, f"was not looked at: this machine has no way there ({sight.trouble})")
    via = f" after a redirect to {_short(sight.hops[-1], proof)}" if len(sight.hops) > 1 else ""
    elsewhere = _elsewhere(sight, is_ours)
    if sight.trouble:
        # A redirect is the server's own doing, whoever it is: where it leads is what has to be mended.
        remedy = _REDIRECT_REMEDY if "redirect" in sight.trouble else elsewhere or _no_answer_remedy(sight, proof)
        return bad(_TOPIC, at, sight.trouble + (via if "redirect" not in sight.trouble else ""), remedy)
    if sight.status == 200 and proof.is_shown_by(sight.body):
        if sight.untrusted:
            return warn(
                _TOPIC,
                at,
                f"shows the proof{via}, with a certificate that is not good ({sight.untrusted})",
                "most CAs pass over that, since it is what the new certificate is for; some portals do not",
            )
        return good(_TOPIC, at, f"shows the proof{via}")
    if sight.status == 200 and proof.content.strip() in sight.body:
        what, remedy = _around(proof, sight)
        return bad(_TOPIC, at, f"shows the proof{via} {what}", remedy)
    return bad(
        _TOPIC,
        at,
        f"answers {sight.status}{via}, {_beginning(sight)}",
        elsewhere or _remedy(sight, proof),
    )


def _no_answer_remedy(sight: Sight, proof: FileProof) -> str:
    if len(sight.hops) > 1:
        return f"mend what answers at {_short(sight.hops[-1], proof)}, or take the proof's path out of the redirect"
    return f"see that the web server is up, and that no firewall is in front of {sight.address}"


def _short(url: str, proof: FileProof) -> str:
    """Return a URL without the proof's own path, which is long and known."""
    return url.replace("/" + "/".join(proof.parts), "/…")


def _around(proof: FileProof, sight: Sight) -> tuple[str, str]:
    """Say what stands around the proof where it must stand alone, and what to do about it."""
    body = sight.body
    if body.startswith(_BYTE_ORDER_MARK) and proof.is_shown_by(body.removeprefix(_BYTE_ORDER_MARK)):
        return "behind a byte order mark", "save the file without one (UTF-8 without BOM, or plain ASCII)"
    return (
        f"with something around it, {_beginning(sight)}",
        f"serve {proof.folder} as it is: a template, filter or editor adds to the file",
    )


def _beginning(sight: Sight) -> str:
    body = sight.body
    if not body:
        return "with nothing in it"
    if sight.internal:  # whoever chose the address may be after what is said there
        return f"{len(body)} bytes that are not shown: {sight.address} is an address inside of a network"
    much = f"with more than {MOST_BODY // 1024} KiB, " if len(body) >= MOST_BODY else ""
    return f"{much}beginning “{_start(body)}”"


def _start(body: bytes) -> str:
    return one_line(" ".join(body[: _SHOWN * 4].decode("utf-8", "replace").split()), _SHOWN + 1)


def _elsewhere(sight: Sight, is_ours: Callable[[str], bool]) -> str:
    """Say that the address leads elsewhere, which is the usual reason; empty when it is our server's."""
    if is_ours(sight.address):
        return ""
    record = "AAAA" if ":" in sight.address else "A"
    if sight.proxy:
        return (
            f"a proxy or CDN answers at {sight.address} ({sight.proxy}): have it pass the path on to the web server, "
            "uncached, or prove by a record in DNS"
        )
    return (
        f"the web server that carries the proof does not answer at {sight.address}: correct the {record} record in "
        "DNS, or add that address to its virtual host"
    )


def _remedy(sight: Sight, proof: FileProof) -> str:
    if sight.status in {401, 403}:
        return f"let everybody read {proof.folder} on this site"
    if sight.status == 404:
        return (
            f"another virtual host or another document root answers for {proof.name}; "
            "see `inkstamp survey` for the ones there are"
        )
    if sight.status == 200:
        return f"something answers every path with a page of its own; let {proof.folder} through to files"
    return f"let the web server answer {proof.folder} with the files of its document root"
