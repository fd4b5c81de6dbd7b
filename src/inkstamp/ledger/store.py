"""The ledger: typed questions and entries over SQLAlchemy Core.

Every entry is one transaction, durable when the method returns. The database is SQLite in HOME; no statement
uses what only SQLite has.
"""

from collections.abc import Iterable, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Row, delete, func, insert, select, update

from inkstamp.clock import Clock
from inkstamp.errors import LedgerTrouble
from inkstamp.ledger import schema
from inkstamp.ledger.database import Database
from inkstamp.ledger.records import (
    OPEN_STATES,
    AccountRecord,
    EditionRecord,
    EventRecord,
    InstallRecord,
    InstallState,
    OrderRecord,
    OrderState,
    ProofRecord,
    check_order_move,
)


def _seconds(moment: datetime) -> int:
    return int(moment.timestamp())


def _moment(seconds: int) -> datetime:
    return datetime.fromtimestamp(seconds, UTC)


class Ledger(Database):
    """One open ledger, written by one run; safe to share between threads."""

    def __init__(self, file: Path, clock: Clock) -> None:
        super().__init__(file)
        self._clock = clock
        self._run: int | None = None
        self._command = ""

    # Runs and events

    def begin_run(self, command: str) -> None:
        """Name the command that the following entries belong to; it is written with the first of them."""
        self._command = command

    def _run_id(self, connection: Connection) -> int:
        if self._run is None:
            row = connection.execute(insert(schema.run).values(began=self._now(), command=self._command))
            self._run = row.inserted_primary_key[0]  # type: ignore[index]
        return self._run

    def end_run(self, exit_status: int) -> None:
        """Record how the run ended, if it left anything in the ledger."""
        if self._run is not None:
            with suppress(LedgerTrouble), self._write() as connection:  # the run's own error is told already
                connection.execute(
                    update(schema.run)
                    .where(schema.run.c.id == self._run)
                    .values(ended=self._now(), exit_status=exit_status)
                )

    def _now(self) -> int:
        return _seconds(self._clock.now())

    def _note(self, connection: Connection, what: str, text: str, certificate: str) -> None:
        connection.execute(
            insert(schema.event).values(
                at=self._now(), run=self._run_id(connection), certificate=certificate, what=what, text=text
            )
        )

    def note(self, what: str, text: str, certificate: str = "") -> None:
        """Record that something happened."""
        with self._write() as connection:
            self._note(connection, what, text, certificate)

    def events(self, certificate: str = "", limit: int = 100) -> list[EventRecord]:
        """Return the latest events, the oldest of them first."""
        query = select(schema.event, schema.run.c.command).join(schema.run).order_by(schema.event.c.id.desc())
        if certificate:
            query = query.where(schema.event.c.certificate == certificate)
        with self._read() as connection:
            rows = connection.execute(query.limit(limit)).all()
        return [
            EventRecord(
                at=_moment(row.at),
                run=row.run,
                command=row.command,
                certificate=row.certificate,
                what=row.what,
                text=row.text,
            )
            for row in reversed(rows)
        ]

    # Accounts

    def account(self, authority: str) -> AccountRecord | None:
        """Return the account at an authority."""
        with self._read() as connection:
            row = connection.execute(select(schema.account).where(schema.account.c.authority == authority)).first()
        if row is None:
            return None
        return AccountRecord(
            authority=row.authority,
            directory=row.directory,
            url=row.url,
            contact=row.contact,
            opened=_moment(row.opened),
        )

    def save_account(self, authority: str, *, directory: str, url: str, contact: str) -> None:
        """Record the account at an authority, in the place of an earlier one."""
        with self._write() as connection:
            connection.execute(delete(schema.account).where(schema.account.c.authority == authority))
            connection.execute(
                insert(schema.account).values(
                    authority=authority, directory=directory, url=url, contact=contact, opened=self._now()
                )
            )
            self._note(connection, "account", f"account at {authority}: {url}", "")

    # Orders

    def open_order(self, certificate: str) -> OrderRecord | None:
        """Return the order that is not ended yet, the newest if there should be several."""
        query = select(schema.order).where(
            schema.order.c.certificate == certificate, schema.order.c.state.in_(OPEN_STATES)
        )
        with self._read() as connection:
            row = connection.execute(query.order_by(schema.order.c.id.desc())).first()
        return None if row is None else _order(row)

    def certificates_with_open_orders(self) -> set[str]:
        """Return the certificates whose order is not ended."""
        query = select(schema.order.c.certificate).where(schema.order.c.state.in_(OPEN_STATES))
        with self._read() as connection:
            return set(connection.execute(query).scalars())

    def certificates_of_orders(self, orders: set[int]) -> dict[int, str]:
        """Return which certificate each of these orders is for."""
        query = select(schema.order.c.id, schema.order.c.certificate).where(schema.order.c.id.in_(orders))
        with self._read() as connection:
            return {row.id: row.certificate for row in connection.execute(query)}

    def ended_orders(self, certificate: str) -> list[int]:
        """Return the ids of the certificate's orders that are ended."""
        query = select(schema.order.c.id).where(
            schema.order.c.certificate == certificate, schema.order.c.state.not_in(OPEN_STATES)
        )
        with self._read() as connection:
            return list(connection.execute(query).scalars())

    def order_urls(self, authority: str) -> set[str]:
        """Return the URLs of all orders at an authority that are known here."""
        query = select(schema.order.c.url).where(schema.order.c.authority == authority)
        with self._read() as connection:
            return set(connection.execute(query).scalars())

    def orders(self) -> dict[str, tuple[OrderRecord, datetime]]:
        """Return the newest order of each certificate, and when it last changed."""
        newest = select(func.max(schema.order.c.id)).group_by(schema.order.c.certificate)
        with self._read() as connection:
            rows = connection.execute(select(schema.order).where(schema.order.c.id.in_(newest))).all()
        return {row.certificate: (_order(row), _moment(row.changed)) for row in rows}

    def intend_order(self, certificate: str, authority: str, names: Sequence[str]) -> OrderRecord:
        """Record that an order is about to be opened, and reserve its edition's number."""
        with self._write() as connection:
            last = connection.execute(
                select(func.max(schema.order.c.edition)).where(schema.order.c.certificate == certificate)
            ).scalar()
            now, number = self._now(), (last or 0) + 1
            row = connection.execute(
                insert(schema.order).values(
                    certificate=certificate,
                    authority=authority,
                    names=list(names),
                    url="",
                    edition=number,
                    state=OrderState.INTENDED.value,
                    opened=now,
                    changed=now,
                )
            )
            identity = row.inserted_primary_key[0]  # type: ignore[index]
        return OrderRecord(
            id=identity,
            certificate=certificate,
            authority=authority,
            names=tuple(names),
            state=OrderState.INTENDED,
            url="",
            edition=number,
            opened=_moment(now),
        )

    def move_order(
        self, order: OrderRecord, state: OrderState, what: str = "", text: str = "", url: str | None = None
    ) -> OrderRecord:
        """Move an order to another state, with an event when `what` is given; returns the record as it now is."""
        check_order_move(order.state, state, order.id)
        values: dict[str, Any] = {"state": state.value, "changed": self._now()}
        if url is not None:
            values["url"] = url
        with self._write() as connection:
            connection.execute(update(schema.order).where(schema.order.c.id == order.id).values(values))
            if what:
                self._note(connection, what, text, order.certificate)
        return OrderRecord(
            id=order.id,
            certificate=order.certificate,
            authority=order.authority,
            names=order.names,
            state=state,
            url=order.url if url is None else url,
            edition=order.edition,
            opened=order.opened,
        )

    # Proofs

    def plan_proofs(
        self, proofs: Iterable[tuple[int, str, str, tuple[str, ...], tuple[int, ...]]]
    ) -> list[ProofRecord]:
        """Record proofs before they are put up: order, server, root, parts, folders that will be made."""
        records = []
        with self._write() as connection:
            for order_id, server, root, parts, made in proofs:
                row = connection.execute(
                    insert(schema.proof).values(
                        order_id=order_id, server=server, root=root, parts=list(parts), made=list(made)
                    )
                )
                identity = row.inserted_primary_key[0]  # type: ignore[index]
                records.append(
                    ProofRecord(id=identity, order_id=order_id, server=server, root=root, parts=parts, made=made)
                )
        return records

    def proofs(self, order_id: int | None = None) -> list[ProofRecord]:
        """Return the proofs that may stand somewhere, of one order or of all."""
        query = select(schema.proof)
        if order_id is not None:
            query = query.where(schema.proof.c.order_id == order_id)
        with self._read() as connection:
            rows = connection.execute(query).all()
        return [
            ProofRecord(
                id=row.id,
                order_id=row.order_id,
                server=row.server,
                root=row.root,
                parts=tuple(row.parts),
                made=tuple(row.made),
            )
            for row in rows
        ]

    def forget_proofs(self, proofs: Sequence[ProofRecord]) -> None:
        """Strike out proofs that were taken down."""
        if proofs:
            with self._write() as connection:
                connection.execute(delete(schema.proof).where(schema.proof.c.id.in_([each.id for each in proofs])))

    # Editions

    def add_edition(self, order: OrderRecord, edition: EditionRecord, text: str) -> None:
        """Record an issued certificate and end its order, in one transaction."""
        check_order_move(order.state, OrderState.ISSUED, order.id)
        with self._write() as connection:
            connection.execute(
                insert(schema.edition).values(
                    certificate=edition.certificate,
                    number=edition.number,
                    names=list(edition.names),
                    authority=edition.authority,
                    issuer=edition.issuer,
                    root=edition.root,
                    serial=edition.serial,
                    sha256=edition.sha256,
                    not_before=_seconds(edition.not_before),
                    not_after=_seconds(edition.not_after),
                )
            )
            connection.execute(
                update(schema.order)
                .where(schema.order.c.id == order.id)
                .values(state=OrderState.ISSUED.value, changed=self._now())
            )
            self._note(connection, "issued", text, order.certificate)

    def newest_editions(self, certificate: str = "") -> dict[str, EditionRecord]:
        """Return the newest edition of each certificate, or of the one named."""
        newest = select(schema.edition.c.certificate, func.max(schema.edition.c.number).label("number"))
        if certificate:
            newest = newest.where(schema.edition.c.certificate == certificate)
        top = newest.group_by(schema.edition.c.certificate).subquery()
        query = select(schema.edition).join(
            top, (schema.edition.c.certificate == top.c.certificate) & (schema.edition.c.number == top.c.number)
        )
        with self._read() as connection:
            rows = connection.execute(query).all()
        return {row.certificate: _edition(row) for row in rows}

    # Installs

    def begin_install(self, certificate: str, edition: int, servers: Sequence[str]) -> InstallRecord:
        """Record that servers are about to be changed; what stood there must be saved already by `id`'s owner."""
        now = self._clock.now()
        with self._write() as connection:
            row = connection.execute(
                insert(schema.install).values(
                    certificate=certificate,
                    edition=edition,
                    servers=list(servers),
                    state=InstallState.BEGUN.value,
                    at=_seconds(now),
                )
            )
            identity = row.inserted_primary_key[0]  # type: ignore[index]
        return InstallRecord(
            id=identity,
            certificate=certificate,
            edition=edition,
            servers=tuple(servers),
            state=InstallState.BEGUN,
            at=now,
        )

    def end_install(self, install: InstallRecord, state: InstallState, what: str, text: str) -> None:
        """Record how an install ended."""
        with self._write() as connection:
            connection.execute(
                update(schema.install).where(schema.install.c.id == install.id).values(state=state.value)
            )
            self._note(connection, what, text, install.certificate)

    def installs(self, certificate: str = "", state: InstallState | None = None) -> list[InstallRecord]:
        """Return the newest install of each certificate, or of the one named, if it is in that state."""
        newest = select(func.max(schema.install.c.id)).group_by(schema.install.c.certificate)
        query = select(schema.install).where(schema.install.c.id.in_(newest))
        if certificate:
            query = query.where(schema.install.c.certificate == certificate)
        if state is not None:
            query = query.where(schema.install.c.state == state.value)
        with self._read() as connection:
            rows = connection.execute(query).all()
        return [
            InstallRecord(
                id=row.id,
                certificate=row.certificate,
                edition=row.edition,
                servers=tuple(row.servers),
                state=InstallState(row.state),
                at=_moment(row.at),
            )
            for row in rows
        ]


def _order(row: Row[Any]) -> OrderRecord:
    return OrderRecord(
        id=row.id,
        certificate=row.certificate,
        authority=row.authority,
        names=tuple(row.names),
        state=OrderState(row.state),
        url=row.url,
        edition=row.edition,
        opened=_moment(row.opened),
    )


def _edition(row: Row[Any]) -> EditionRecord:
    return EditionRecord(
        certificate=row.certificate,
        number=row.number,
        names=tuple(row.names),
        issuer=row.issuer,
        root=row.root,
        serial=row.serial,
        sha256=row.sha256,
        not_before=_moment(row.not_before),
        not_after=_moment(row.not_after),
        authority=row.authority,
    )
