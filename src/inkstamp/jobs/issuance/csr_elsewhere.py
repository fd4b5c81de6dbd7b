"""Orders whose key another machine has: the CSR that was brought from there."""

from collections.abc import Sequence

from msgspec import Struct

from inkstamp.config.carrying import key_server
from inkstamp.config.model import Certificate
from inkstamp.errors import ServerTrouble, StillWaiting, UsageError
from inkstamp.jobs.issuance.context import IssuanceContext
from inkstamp.ledger.brought_csr import csr_of_edition, keep_brought, next_csr
from inkstamp.ledger.order_files import brought_for
from inkstamp.pki import csr
from inkstamp.servers.interface import MakesKeys
from inkstamp.severity import Severity

_MOST_NAMES = 1000


class BroughtRequest(Struct, frozen=True, kw_only=True):
    """A CSR from another machine that a CA may be asked with."""

    pem: bytes
    names: tuple[str, ...]
    """Normalised DNS names and IP addresses, the first one first."""


def read_brought(data: bytes, where: str, *, private: bool) -> BroughtRequest:
    """Read and judge a CSR (PEM or DER) before any CA sees it.

    Args:
        data: What stands in the file.
        where: The file, for messages.
        private: Whether names that only a private CA certifies will do.

    Raises:
        RequestUnreadable: There is none, or it is malformed.
        UsageError: A CA would reject it, or it has no names.

    """
    der = csr.read(data, where)
    known = csr.facts(der, where, private=private)
    if any(each.severity is Severity.BAD for each in known.findings):
        raise UsageError(
            "a CA would reject this CSR",
            where=where,
            findings=[each for each in known.findings if each.severity in {Severity.BAD, Severity.WARN}],
            advice="have a new one made where the key is",
        )
    names = csr.names_of(known)
    if not names or known.others:
        told = f"asks for {known.others[0]}" if known.others else "has no names"
        raise UsageError(
            f"the CSR {told}; only DNS names and IP addresses can be validated", where=where,
            advice="have a new one made where the key is",
        )  # fmt: skip
    if len(names) > _MOST_NAMES:
        advice = "have it made for fewer: CAs take about a hundred"
        raise UsageError(f"the CSR has {len(names)} names", where=where, advice=advice)
    csr.public_key(der, where)
    return BroughtRequest(pem=csr.to_pem(der), names=names)


def expect_names(brought: BroughtRequest, names: Sequence[str], where: str, *, of: str) -> None:
    """Raise UsageError when a CSR is not for exactly the names that are wanted; `of` says whose those are, in words."""
    lacking, more = (
        [each for each in names if each not in brought.names],
        [each for each in brought.names if each not in names],
    )
    if not lacking and not more:
        return
    told = [
        *([f"does not ask for {', '.join(lacking)}"] if lacking else []),
        *([f"asks for {', '.join(more)} as well"] if more else []),
    ]
    raise UsageError(
        f"the CSR {' and '.join(told)}; {of}: {', '.join(names)}",
        where=where,
        advice="have one made with exactly those names, or correct them here",
    )


def csr_for_order(context: IssuanceContext, name: str, entry: Certificate) -> bytes:
    """Return the CSR, as PEM, that the next order of a certificate is for; empty where its key is ours.

    Raises:
        StillWaiting: The key is elsewhere, and a new CSR has to be brought from there.

    """
    if not entry.key_elsewhere:
        return b""
    newest, order = context.ledger.newest_edition(name), context.ledger.open_order(name)
    number = newest.number if newest is not None else None
    pem, last = next_csr(context.home, context.shelf, name, entry, number), csr_of_edition(context.shelf, name, number)
    if pem is None and order is not None:
        context.store.bring_order(name, order.id)
        pem = brought_for(context.home, order)
    if pem is not None and pem == last and is_compromised(context, name, number):
        raise StillWaiting(
            f"“{name}” needs a new CSR for another key: edition {number} was revoked since others may have its key",
            advice=f"have a new key and CSR made on its machine, then: inkstamp stamp {name} --csr FILE",
        )
    if pem is None and key_server(entry):
        pem = _made_there(context, name, entry)
    if pem is None:
        again = f"; to go on with the CSR of edition {number}: inkstamp stamp {name} --same-request"
        raise StillWaiting(
            f"“{name}” needs a new CSR: its key is on another machine",
            advice=f"inkstamp stamp {name} --csr FILE{again if last is not None else ''}",
        )
    der = csr.read(pem, f"the CSR of “{name}”")
    names = csr.names_of(csr.facts(der, f"the CSR of “{name}”", private=True))
    if set(names) != set(entry.names):
        raise StillWaiting(
            f"“{name}” needs a new CSR: the one that was brought is for {', '.join(names)}",
            where=str(context.configuration.path),
            said=f"{', '.join(entry.names)} are configured",
            advice=f"inkstamp stamp {name} --csr FILE",
        )
    return pem


def _made_there(context: IssuanceContext, name: str, entry: Certificate) -> bytes:
    """Have the server that keeps the key make a new one and a CSR, and keep that; returns it as PEM.

    Raises:
        ServerTrouble: It refuses, or its CSR is another than was asked for.

    """
    server = context.servers.get(key_server(entry))
    if not isinstance(server, MakesKeys):
        raise ServerTrouble(f"“{server.name}” makes no keys", advice="take key_elsewhere out of the entry")
    der = server.make_csr(name, context.ledger.next_edition(name), entry.key, entry.names)
    where = f"the CSR of server “{server.name}”"
    known = csr.facts(der, where, private=True)
    if set(csr.names_of(known)) != set(entry.names) or known.key != entry.key:
        raise ServerTrouble(f"{where} is another than was asked for", where=server.name,
                            advice="see docs/windows.md on what has been tried")  # fmt: skip
    pem = csr.to_pem(der)
    keep_brought(context.home, context.store, name, pem)
    context.ledger.note("CSR", f"{server.name} made a key and a CSR", name)
    return pem


def is_compromised(context: IssuanceContext, name: str, edition: int | None) -> bool:
    """Tell whether an edition is revoked, or about to be, for a key that others may have (RFC 5280 section 5.3.1)."""
    return edition is not None and "compromise" in context.ledger.revocations.reason(name, edition).lower()
