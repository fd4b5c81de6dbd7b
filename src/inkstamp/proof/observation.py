"""Look at a proof the way the CA will, and say in findings what was seen."""

from collections.abc import Callable, Sequence

from msgspec import Struct
from msgspec.structs import replace

from inkstamp.bulkhead import side_by_side
from inkstamp.deadline import within
from inkstamp.findings import Finding, bad, note, ok, warn
from inkstamp.printable import one_line
from inkstamp.proof.tls_alpn import ALPN, TlsProof
from inkstamp.proof.web_file import FileProof
from inkstamp.severity import Severity
from inkstamp.view.addresses import Addresses, address_book
from inkstamp.view.point import View
from inkstamp.view.web import MOST_BODY, Sight, fetch

_TOPIC = "validation"
_AT_ONCE = 8
"""Addresses of one name that are looked at in the same moment."""
_NAME_SECONDS = 60.0
"""For a look at all addresses of a name together."""
_SHOWN = 80
"""Characters of a wrong answer that are shown."""
_BYTE_ORDER_MARK = b"\xef\xbb\xbf"
_REDIRECT_REMEDY = "exclude the challenge path from the redirect, or have it lead to the same name on port 80 or 443"


class Caution(Struct, frozen=True):
    """What counts where one address of a name serves the expected response and another one does not answer."""

    whole: bool = False
    """Whether an address that this machine has no route to is `bad`: the CA may ask there."""
    anyway: bool = False
    """Whether the CA is asked although an address does not answer: it may fall back to another one."""
    ours_alone: bool = False
    """Whether addresses where our server does not answer are other machines', and are tested by these."""


_NONE = Caution()


def look_at(
    proof: FileProof, view: View, is_ours: Callable[[str, str], bool], caution: Caution = _NONE
) -> list[Finding]:
    """Fetch the proof from every address of its name; one finding an address, `bad` where a CA would fail.

    Args:
        proof: What should be there.
        view: How the public sees it.
        is_ours: Tells for a name and an address whether the server that carries the proof answers there.
        caution: What counts where one address serves the expected response.

    """
    with within(_NAME_SECONDS):
        addresses = address_book(view).look_up(proof.name)
        if caution.ours_alone:
            addresses = replace(
                addresses, ipv6=tuple(each for each in addresses.ipv6 if is_ours(proof.name, each)),
                ipv4=tuple(each for each in addresses.ipv4 if is_ours(proof.name, each)),
            )  # fmt: skip
        return judge(
            proof,
            addresses,
            lambda address: fetch(proof.url, address, view),
            lambda address: is_ours(proof.name, address),
            caution,
        )


def look_at_handshake(proof: TlsProof, view: View, caution: Caution = _NONE) -> list[Finding]:
    """Shake hands with every address of the name as RFC 8737 section 3 has it; a finding each."""
    with within(_NAME_SECONDS):
        addresses = address_book(view).look_up(proof.name)
        if not addresses.all:
            return [_no_address(proof.name, addresses)]
        looks = side_by_side(lambda address: _judge_handshake(proof, address, view), addresses.all, _AT_ONCE)
        return _weigh(proof.name, addresses, looks, caution)


def _judge_handshake(proof: TlsProof, address: str, view: View) -> "_Look":
    at = f"{proof.name} at {address}"
    from inkstamp.view.handshake import shake_hands  # noqa: PLC0415  most proofs are files or records

    served = shake_hands(address, view.https_port, proof.server_name, alpn=ALPN)
    if served.no_route:
        return _Look(_not_looked_at(at, served.trouble), no_route=True)
    if served.chain and proof.is_shown_by(served.chain[0]):
        return _Look(ok(_TOPIC, at, "presents the validation certificate (tls-alpn-01)"))
    wrong = bad(
        _TOPIC,
        at,
        served.trouble or "presents another certificate than that of tls-alpn-01",
        f"check that {address} leads to this machine, with nothing in between that ends TLS",
    )
    return _Look(wrong, unanswered=served.unanswered)


def _no_address(name: str, addresses: Addresses) -> Finding:
    return bad(_TOPIC, name, addresses.trouble, addresses.remedy(name))


def _not_looked_at(at: str, trouble: str) -> Finding:
    return note(_TOPIC, at, f"not tested: this machine has no route there ({trouble})")


def judge(
    proof: FileProof,
    addresses: Addresses,
    fetch_from: Callable[[str], Sight],
    is_ours: Callable[[str], bool],
    caution: Caution = _NONE,
) -> list[Finding]:
    """Say what the CA would see of `proof` at `addresses`; the two functions do the looking."""
    if not addresses.all:
        return [_no_address(proof.name, addresses)]
    sights = side_by_side(fetch_from, addresses.all, _AT_ONCE)
    looks = [_Look(_judge_sight(proof, each, is_ours), each.no_route, each.unanswered) for each in sights]
    return _weigh(proof.name, addresses, looks, caution)


class _Look(Struct, frozen=True):
    """What was seen at one address."""

    finding: Finding
    no_route: bool = False
    """Whether this machine has no way there."""
    unanswered: bool = False
    """Whether nobody answered there at all."""


def _weigh(name: str, addresses: Addresses, looks: Sequence[_Look], caution: Caution) -> list[Finding]:
    """Return the findings of all addresses, each in the light of the others."""
    if all(each.no_route for each in looks):
        return [
            bad(
                _TOPIC,
                name,
                f"none of its addresses can be reached from here: {', '.join(addresses.all)}",
                "give this machine a route to at least one of them",
            )
        ]
    shown = any(each.finding.severity in {Severity.OK, Severity.WARN} for each in looks)
    return [_beside_others(each, caution) if shown else each.finding for each in looks]


def _beside_others(look: _Look, caution: Caution) -> Finding:
    """Return the finding of an address where another one serves the expected response."""
    found = look.finding
    if not (look.no_route or look.unanswered):
        return found
    if caution.anyway:
        seen = f"{found.seen}; the CA is asked anyway"
        return warn(found.topic, found.subject, seen, "it fails unless the CA falls back to another address")
    if not caution.whole:
        return found
    if look.no_route:
        return _unseen(found)
    return bad(
        found.topic, found.subject, found.seen, f"{found.remedy}; `stamp` with --anyway asks the CA nevertheless"
    )


def _unseen(found: Finding) -> Finding:
    family = "AAAA" if found.subject.count(":") > 1 else "A"
    return bad(
        found.topic,
        found.subject,
        f"{found.seen}, and the CA may well ask there first",
        f"remove the {family} record if nothing answers there; if it does, from elsewhere: `stamp` with --anyway",
    )


def _judge_sight(proof: FileProof, sight: Sight, is_ours: Callable[[str], bool]) -> Finding:
    at = f"{proof.name} at {sight.address}"
    if sight.no_route:
        return _not_looked_at(at, sight.trouble)
    via = f" after a redirect to {_short(sight.hops[-1], proof)}" if len(sight.hops) > 1 else ""
    elsewhere = _elsewhere(sight, is_ours)
    if sight.trouble:
        # A redirect is the server's own doing, whoever it is: where it leads is what has to be fixed.
        remedy = _REDIRECT_REMEDY if sight.astray else elsewhere or _no_answer_remedy(sight, proof)
        return bad(_TOPIC, at, sight.trouble + ("" if sight.astray else via), remedy)
    if sight.status == 200 and proof.is_shown_by(sight.body):
        if sight.untrusted:
            return warn(
                _TOPIC,
                at,
                f"serves the expected response{via}, with a certificate that is not valid ({sight.untrusted})",
                "most CAs ignore that; some portals do not",
            )
        return ok(_TOPIC, at, f"serves the expected response{via}")
    if sight.status == 200 and proof.content.strip() in sight.body:
        what, remedy = _around(proof, sight)
        return bad(_TOPIC, at, f"serves the expected response{via} {what}", remedy)
    return bad(
        _TOPIC,
        at,
        f"answers {sight.status}{via}, {_beginning(sight)}",
        elsewhere or _remedy(sight, proof),
    )


def _no_answer_remedy(sight: Sight, proof: FileProof) -> str:
    if len(sight.hops) > 1:
        return f"fix what answers at {_short(sight.hops[-1], proof)}, or exclude the challenge path from the redirect"
    return f"check that the web server runs, and the firewall in front of {sight.address}"


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
            "uncached, or use dns-01"
        )
    return (
        f"the web server that has the challenge response does not answer at {sight.address}: correct the {record} "
        "record in DNS, or add that address to its virtual host"
    )


def _remedy(sight: Sight, proof: FileProof) -> str:
    if sight.status in {401, 403}:
        return f"allow everybody to read {proof.folder} on this site"
    if sight.status == 404:
        return (
            f"another virtual host or another document root answers for {proof.name}; "
            "see `inkstamp survey` for the ones there are"
        )
    if sight.status == 200:
        return f"something answers every path with a page of its own; let {proof.folder} through to files"
    return f"let the web server answer {proof.folder} with the files of its document root"
