"""Look at a proof the way the CA will, and say in findings what was seen."""

from collections.abc import Callable

from inkstamp.findings import Finding, bad, good, note
from inkstamp.proof.web_file import FileProof
from inkstamp.view.addresses import Addresses, address_book
from inkstamp.view.point import View
from inkstamp.view.web import Sight, fetch

_TOPIC = "proof"
_SHOWN = 80
"""Characters of a wrong answer that are shown."""


def look_at(proof: FileProof, view: View, is_ours: Callable[[str, str], bool]) -> list[Finding]:
    """Fetch the proof from every address of its name; one finding an address, `bad` where a CA would fail.

    Args:
        proof: What should be there.
        view: How the public sees it.
        is_ours: Tells for a name and an address whether the server that carries the proof answers there.

    """
    addresses = address_book(view).look_up(proof.name)
    return judge(
        proof, addresses, lambda address: fetch(proof.url, address, view), lambda address: is_ours(proof.name, address)
    )


def judge(
    proof: FileProof,
    addresses: Addresses,
    fetch_from: Callable[[str], Sight],
    is_ours: Callable[[str], bool],
) -> list[Finding]:
    """Say what the CA would see of `proof` at `addresses`; the two functions do the looking."""
    if not addresses.all:
        return [
            bad(
                _TOPIC,
                proof.name,
                addresses.trouble,
                f"make an A or AAAA record for {proof.name} that leads to this server",
            )
        ]
    findings = [_judge_sight(proof, fetch_from(address), is_ours) for address in addresses.all]
    if all(finding.severity == "note" for finding in findings):
        return [
            bad(
                _TOPIC,
                proof.name,
                f"none of its addresses can be reached from here: {', '.join(addresses.all)}",
                "give this machine a way to at least one of them, since nothing can be seen otherwise",
            )
        ]
    return findings


def _judge_sight(proof: FileProof, sight: Sight, is_ours: Callable[[str], bool]) -> Finding:
    at = f"{proof.name} at {sight.address}"
    if sight.no_route:
        return note(_TOPIC, at, f"was not looked at: this machine has no way there ({sight.trouble})")
    via = f" after a redirect to {sight.hops[-1]}" if len(sight.hops) > 1 else ""
    if sight.trouble:
        return bad(
            _TOPIC,
            at,
            sight.trouble + via,
            _elsewhere(sight, is_ours) or "see that the web server is up and that no firewall is in front of its port",
        )
    if sight.status == 200 and proof.is_shown_by(sight.body):
        return good(_TOPIC, at, f"shows the proof{via}")
    return bad(
        _TOPIC,
        at,
        f"answers {sight.status}{via}, beginning “{_start(sight.body)}”",
        _elsewhere(sight, is_ours) or _remedy(sight, proof),
    )


def _start(body: bytes) -> str:
    text = " ".join(body[: _SHOWN * 4].decode("utf-8", "replace").split())
    clean = "".join(char if char.isprintable() else "·" for char in text)
    return clean[:_SHOWN] + ("…" if len(clean) > _SHOWN else "")


def _elsewhere(sight: Sight, is_ours: Callable[[str], bool]) -> str:
    """Say that the address leads elsewhere, which is the usual reason; empty when it is our server's."""
    if is_ours(sight.address):
        return ""
    return (
        f"the web server that carries the proof does not answer at {sight.address}: correct the record in DNS, "
        "or add that address to its virtual host"
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
