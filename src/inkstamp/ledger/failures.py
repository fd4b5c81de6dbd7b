"""The ledger's pages on what stands in a certificate's way, until it is overcome."""

from collections.abc import Container, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

import msgspec
from msgspec.structs import replace

from inkstamp.bulkhead import apart
from inkstamp.clock import Clock
from inkstamp.decoding import from_json
from inkstamp.errors import (
    Busy,
    CaProblem,
    ConfigurationError,
    InkStampError,
    InternalError,
    LedgerTrouble,
    UsageError,
    error_class,
)
from inkstamp.findings import Finding
from inkstamp.ledger.interface import NOWHERE, Database, Here, among
from inkstamp.ledger.machine_records import lacks
from inkstamp.ledger.roster import mark_changed
from inkstamp.ledger.rows import from_moment, telling_damage, to_moment
from inkstamp.printable import printable

if TYPE_CHECKING:
    from inkstamp.ledger.store import Ledger


class FailureReport(msgspec.Struct, frozen=True, kw_only=True):
    """What was told when a certificate's order, proof or install failed."""

    kind: str
    """The error's class (`ProofFailed`)."""
    step: str
    """What was being done, in a few words."""
    what: str
    where: str
    said: str
    """The other side's own words, line by line: the CA's problem, the server's complaint."""
    problem: str
    """Type of the CA's problem (`rateLimited`); empty when it was none."""
    advice: str
    findings: tuple[Finding, ...]
    """What Ink Stamp saw itself."""
    order: int = 0
    """The order it happened to; 0 for none."""
    asked: datetime | None = None
    """Before which the CA does not want to be asked again; aware, UTC."""
    traceback: str = ""
    """Of an internal error, where it happened; empty for anything else."""

    @property
    def error_class(self) -> type[InkStampError]:
        """The error's class; `InkStampError` when there is none of that name any more."""
        return error_class(self.kind)


class RecordedFailure(msgspec.Struct, frozen=True, kw_only=True):
    """Why a certificate is not going on, as it was told last."""

    certificate: str
    since: datetime
    """When it began; the same trouble at the same step counts as one."""
    last: datetime
    """When it was met last."""
    times: int
    told: FailureReport


def _cleaned(told: FailureReport) -> FailureReport:
    """Return it without what strangers wrote that does not print, or cannot be written down at all."""
    words = {name: printable(getattr(told, name)) for name in ("step", "what", "where", "said", "advice", "traceback")}
    findings = tuple(
        replace(each, subject=printable(each.subject), seen=printable(each.seen), remedy=printable(each.remedy))
        for each in told.findings
    )
    return msgspec.structs.replace(told, findings=findings, **words)


def _read_told(text: str) -> FailureReport:
    """Read what was told; what cannot be read any more says so, and holds nobody up."""
    try:
        return from_json(text, FailureReport)
    except (msgspec.MsgspecError, ValueError, TypeError):
        what = "the recorded failure cannot be read"
        return FailureReport(kind="", step="", what=what, where="", said="", problem="", advice="", findings=())


@telling_damage
class Failures:
    """One for each certificate that is held up, none for the others."""

    def __init__(self, database: Database, clock: Clock, here: Here = NOWHERE) -> None:
        """Open the pages.

        A machine that only installs keeps what fails there apart (see `machines.py`): others are not held up by it.
        """
        self._database = database
        self._clock = clock
        self._here = here

    def meet(self, certificate: str, told: FailureReport, *, pause: float | None = None) -> None:
        """Record what stands in the way; what was told already keeps its beginning.

        Args:
            certificate: Whose.
            told: What is recorded.
            pause: Seconds from now before which the CA does not want to be asked again.

        """
        moment = self._clock.now()
        now = from_moment(moment)
        told = _cleaned(told)
        if not self._here.orders:
            with self._database.writing():
                lacks(self._database, self._here.machine, certificate, told.what)
            return
        if pause:
            told = msgspec.structs.replace(told, asked=moment + timedelta(seconds=pause))
        with self._database.writing():
            mark_changed(self._database, certificate)
            known = self.of(certificate)
            same = known is not None and (known.told.kind, known.told.step) == (told.kind, told.step)
            self._database.upsert(
                "setback",
                {"certificate": certificate},
                since=from_moment(known.since) if same and known else now,
                last=now,
                times=known.times + 1 if same and known else 1,
                told=msgspec.json.encode(told).decode(),
            )

    def overcome(self, certificate: str) -> None:
        """Strike out what stood in the way."""
        if self._here.orders and self.of(certificate) is not None:  # nothing is written for those that have none
            with self._database.writing():
                mark_changed(self._database, certificate)
                self._database.execute("DELETE FROM setback WHERE certificate = :name", {"name": certificate})

    def of(self, certificate: str) -> RecordedFailure | None:
        """Return what stands in a certificate's way."""
        return self.all([certificate]).get(certificate)

    def all(self, only: Sequence[str] | None = None) -> dict[str, RecordedFailure]:
        """Return what stands in the way of all certificates, or of some, by certificate."""
        if not self._here.orders:
            return {}
        return {
            row["certificate"]: RecordedFailure(
                certificate=row["certificate"],
                since=to_moment(row["since"]),
                last=to_moment(row["last"]),
                times=row["times"],
                told=_read_told(row["told"]),
            )
            for where, names in among("certificate", only)
            for row in self._database.rows(f"SELECT * FROM setback WHERE {where}", names)  # noqa: S608
        }

    def refuse(self, certificate: str, methods: Mapping[str, Sequence[str]]) -> None:
        """Record by which methods the CA did not accept names, so that others are tried before them."""
        with self._database.writing():
            self._forget_methods(certificate)
            for name, refused in methods.items():
                for method in dict.fromkeys(refused):
                    self._database.insert("refused_method", certificate=certificate, name=name, method=method)

    def refused_methods(self, certificate: str) -> dict[str, list[str]]:
        """Return by name the methods that the CA did not accept last time."""
        found: dict[str, list[str]] = {}
        query = "SELECT name, method FROM refused_method WHERE certificate = :certificate"
        for row in self._database.rows(query, {"certificate": certificate}):
            found.setdefault(row["name"], []).append(row["method"])
        return found

    def _forget_methods(self, certificate: str) -> None:
        self._database.execute("DELETE FROM refused_method WHERE certificate = :name", {"name": certificate})


_NOT_KEPT = (Busy, ConfigurationError, LedgerTrouble, UsageError)
"""What is wrong with the command, or cannot be written down."""


@contextmanager
def failure_kept(
    ledger: "Ledger", configured: Container[str], certificate: str, *, overcome: bool = True
) -> Iterator[None]:
    """Write an error that leaves the block into the ledger; strike out the one before when none does.

    Not with `overcome` False: for a block after which there is more to do.
    """
    try:
        with apart():
            yield
    except _NOT_KEPT:
        raise
    except InkStampError as error:
        record_failure(ledger, configured, certificate, error)
        raise
    if overcome:
        ledger.failures.overcome(certificate)


def record_failure(ledger: "Ledger", configured: Container[str], certificate: str, error: InkStampError) -> None:
    """Write what stands in a certificate's way into the ledger; nothing of one that was never configured."""
    if certificate not in configured:
        return
    order = ledger.open_order(certificate)
    told = FailureReport(
        kind=error.class_name,
        step=error.step,
        what=error.what,
        where=error.where,
        said=error.said,
        problem=error.kind if isinstance(error, CaProblem) else "",
        advice=error.advice,
        findings=error.findings,
        order=order.id if order is not None else 0,
        traceback=error.traceback if isinstance(error, InternalError) else "",
    )
    ledger.failures.meet(certificate, told, pause=error.retry_after if isinstance(error, CaProblem) else None)
