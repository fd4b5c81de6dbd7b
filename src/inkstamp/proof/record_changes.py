"""Records to put into DNS, as all carriers have them."""

from collections.abc import Iterable

from msgspec import Struct

TTL = 60
"""Seconds: a proof is gone soon after it was needed."""


class DnsRecord(Struct, frozen=True, kw_only=True):
    """A record to put into DNS, or to take out of it again."""

    zone: str
    """The zone's apex, without a dot at the end."""
    primary: str
    """IP address of the zone's primary nameserver; empty when DNS does not tell it."""
    name: str
    kind: str
    """`TXT`, `CNAME`, `CAA` or `TLSA`."""
    value: str
    """Of CAA and TLSA as zone files have it."""
    ttl: int = TTL
    """Seconds."""


def by_zone(records: Iterable[DnsRecord]) -> dict[tuple[str, str], list[DnsRecord]]:
    """Group records by zone and primary, each once."""
    found: dict[tuple[str, str], list[DnsRecord]] = {}
    for record in dict.fromkeys(records):
        found.setdefault((record.zone, record.primary), []).append(record)
    return found


def presented(record: DnsRecord) -> str:
    """Write a record's value as zone files have it (RFC 1035 section 5.1)."""
    if record.kind in {"CAA", "TLSA"}:
        return record.value
    if record.kind != "TXT":
        return record.value.rstrip(".") + "."
    escaped = record.value.replace("\\", "\\\\").replace('"', '\\"')
    pieces = [escaped[at : at + 255] for at in range(0, len(escaped), 255)] or [""]
    return " ".join(f'"{piece}"' for piece in pieces)
