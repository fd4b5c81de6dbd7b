"""Download the issued certificate, or import it from files; verify and keep it.

From an ACME CA, without files: the open order is finished and the certificate
downloaded. From files of any kind and name: ZIP, PKCS#7, PEM, DER, PKCS#12,
directories, or - for text pasted on standard input. The certificate is found by
the order's key, the intermediates are sorted, and the chain is verified.

    inkstamp collect shop.saltmarsh.test ~/download.zip
"""

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.cli import output, passphrase
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime
from inkstamp.severity import Severity, worst_first

if TYPE_CHECKING:
    from inkstamp.jobs.portal.delivery import Received
    from inkstamp.jobs.portal.delivery_report import Piece, Way
    from inkstamp.ledger.records import EditionRecord

_LEVELS = {
    "DV": "the CA vetted control of the domain names",
    "IV": "the CA vetted an individual, too",
    "OV": "the CA vetted the organisation, too",
    "EV": "the CA vetted the organisation by the EV Guidelines",
}
_MOST_SHOWN = 15
_MOST_PASTED = 16_777_217


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp collect`."""
    parser.add_argument(
        "things",
        nargs="+",
        metavar="NAME|FILE",
        help="a configured certificate, then files from the portal (or - for standard input)",
    )
    parser.add_argument(
        "--fetch", action="store_true", help="fetch a missing intermediate from the URL in the certificate (AIA)"
    )
    parser.add_argument(
        "--root", default="", metavar="ROOT", help="prefer the path to this root: common name or SHA-256"
    )
    parser.add_argument("--preview", action="store_true", help="show what would be imported, write nothing")
    passphrase.options(parser, "PKCS#12 files")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp collect`; returns the exit status."""
    with open_runtime(context) as runtime:
        name, files = "", list(options.things)
        if files[0] in runtime.certificates:
            name = files.pop(0)
        if not files:
            from inkstamp.config.carrying import is_portal
            from inkstamp.errors import UsageError

            if is_portal(runtime.config, runtime.certificates.entry(name)):
                raise UsageError(
                    f"“{name}” comes from a portal, so its files must be named",
                    advice=f"download them there, then: inkstamp collect {name} FILE…",
                )
            if options.preview or options.fetch or options.root:
                raise UsageError("--preview, --fetch and --root are for files", advice="leave them out")
            from inkstamp.jobs.lifecycle.order_steps import collect_at_ca

            edition = collect_at_ca(runtime, name)
            if context.json:
                output.as_json("collect", edition=edition)
            else:
                print(f"{name}: edition {edition.number} is on the shelf")
                _tell_edition(edition, runtime.certificates.entry(name).install)
            return 0
        from inkstamp.jobs.portal.delivery import Bring, receive

        pasted = sys.stdin.buffer.read(_MOST_PASTED) if "-" in files else None
        bring = Bring(
            certificate=name,
            paths=tuple(Path(each) for each in files if each != "-"),
            pasted=pasted,
            fetch=options.fetch,
            root=options.root,
            preview=options.preview,
        )
        received = receive(runtime, bring, lambda where: _passphrase(options, where))
        servers = runtime.certificates.entry(received.certificate).install
    if context.json:
        output.as_json("collect", received=received)
    else:
        _tell(received, servers)
    return 0 if received.sound else 1


def _passphrase(options: argparse.Namespace, where: str) -> bytes | None:
    found = passphrase.given(options, where, new=False)
    if found is None and sys.stdin.isatty():
        return passphrase.ask(where, new=False)
    return found


def _tell(received: "Received", servers: tuple[str, ...]) -> None:
    edition = received.edition
    name = received.certificate
    if edition is not None and received.already:
        print(f"{name}: edition {edition.number} is on the shelf already; nothing to do")
    else:
        what = {
            "order": f"from order {received.order}",
            "reissue": f"a reissue for the CSR of edition {received.issued_before}, with the same key",
            "chain": f"the certificate of edition {received.issued_before} with another chain",
        }[received.use]
        if edition is None:
            print(f"{name}: this would be imported, {what}; nothing was written")
        else:
            print(f"{name}: edition {edition.number} is on the shelf, {what}")
    _tell_pieces(received.pieces)
    _tell_ways(received.ways)
    output.findings(worst_first(each for each in received.findings if each.severity is not Severity.OK))
    level = next((each.about.level for each in received.pieces if each.use == "leaf"), "")
    if level:
        print(output.field("level", f"{level}: {_LEVELS[level]}"))
    if edition is not None:
        _tell_edition(edition, servers)


def _tell_edition(edition: "EditionRecord", servers: tuple[str, ...]) -> None:
    print(output.field("names", ", ".join(edition.names)))
    print(output.field("issuer", f"“{edition.issuer}”, root “{edition.root}”"))
    print(output.field("valid", f"until {edition.not_after:%Y-%m-%d %H:%M} UTC"))
    where = f"installs it on {', '.join(servers)}" if servers else "makes it the current one"
    print(output.field("next", f"inkstamp stamp {edition.certificate}   ({where})"))


def _tell_pieces(pieces: "tuple[Piece, ...]") -> None:
    if not pieces:
        return
    shown = pieces[:_MOST_SHOWN]
    # Inside one archive its own name tells nothing and takes all the room.
    archives = {each.where.partition(": ")[0] for each in pieces}
    inside = f"{archives.pop()}: " if len(archives) == 1 else ""
    if inside and any(each.where.startswith(inside) for each in shown):
        print(output.field("from", inside[:-2]))
    rows = [
        (each.use, _named(each), f"{each.about.not_after:%Y-%m-%d}", each.where.removeprefix(inside)) for each in shown
    ]
    print()
    output.table(("used as", "certificate", "until", "found in"), rows)
    if len(pieces) > len(shown):
        print(f"and {len(pieces) - len(shown)} more that are not used")
    print()


def _named(piece: "Piece") -> str:
    """Name a certificate; a cross-certificate has its root's name, so who signed it tells the two apart."""
    return f"{piece.about.subject} by {piece.about.issuer}" if piece.use == "other path" else piece.about.subject


def _tell_ways(ways: "tuple[Way, ...]") -> None:
    if len(ways) > 1:
        print(f"{len(ways)} paths to trusted roots; old devices may know only the older root:")
    for way in ways:
        mark = "chosen" if way.chosen else "other"
        print(output.field(mark, f"ends {way.ends[:10]}, root “{way.subjects[-1]}” {way.root_sha256[:16]}…"))
        for depth, subject in enumerate(way.subjects):
            kind = "  (root, not served)" if depth == len(way.subjects) - 1 else ""
            print(output.clean(f"{'':14}{output.branch(depth)}{subject}{kind}"))
    if len(ways) > 1:
        print(output.field("to choose", '--root NAME here, or root = "NAME" under the authority'))
    if ways:
        print()
