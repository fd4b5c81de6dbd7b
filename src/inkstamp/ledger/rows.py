"""Rows of the ledger's tables as records."""

import sqlite3

import msgspec

from inkstamp.ledger.database import to_moment
from inkstamp.ledger.records import EditionRecord, InstallRecord, InstallState, OrderRecord, OrderState

strings = msgspec.json.Decoder(tuple[str, ...])


def as_order(row: sqlite3.Row) -> OrderRecord:
    """Read a row of `ca_order`."""
    return OrderRecord(
        id=row["id"],
        certificate=row["certificate"],
        authority=row["authority"],
        names=strings.decode(row["names"]),
        state=OrderState(row["state"]),
        url=row["url"],
        edition=row["edition"],
        opened=to_moment(row["opened"]),
        changed=to_moment(row["changed"]),
    )


def as_edition(row: sqlite3.Row) -> EditionRecord:
    """Read a row of `edition`."""
    return EditionRecord(
        certificate=row["certificate"],
        number=row["number"],
        names=strings.decode(row["names"]),
        issuer=row["issuer"],
        root=row["root"],
        serial=row["serial"],
        sha256=row["sha256"],
        not_before=to_moment(row["not_before"]),
        not_after=to_moment(row["not_after"]),
        authority=row["authority"],
        key=row["key_kind"],
    )


def as_install(row: sqlite3.Row) -> InstallRecord:
    """Read a row of `install`."""
    return InstallRecord(
        id=row["id"],
        certificate=row["certificate"],
        edition=row["edition"],
        servers=strings.decode(row["servers"]),
        state=InstallState(row["state"]),
        at=to_moment(row["at"]),
    )
