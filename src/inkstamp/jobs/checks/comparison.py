"""Compare what `check` sees with what it saw the last time."""

from collections.abc import Iterator, Sequence
from datetime import datetime

from msgspec import Struct

from inkstamp.jobs.checks.check import NameReport
from inkstamp.jobs.checks.context import ChecksContext
from inkstamp.ledger.check_results import CheckResult
from inkstamp.severity import Severity

_SHORT = 16
"""Digits of a digest that tell certificates apart for a person."""


class Changed(Struct, frozen=True, kw_only=True):
    """What is otherwise at one name than it was the last time."""

    name: str
    since: datetime | None
    """When it was looked at before; aware, UTC; None for the first time."""
    changes: tuple[str, ...]
    """As sentences; none where nothing is otherwise."""


def remember(context: ChecksContext, reports: Sequence[NameReport], *, quick: bool, begin: bool) -> list[Changed]:
    """Compare reports with those of the last time, and keep them in their place.

    Args:
        context: The parts of the run.
        reports: What was seen now.
        quick: Whether nothing but the first handshake was taken; such looks are compared with such.
        begin: Whether to begin a ledger for it where there is none; without one, nothing is compared and kept.

    """
    if not begin and not context.has_ledger():
        return []
    looks = {each.name: _look_of(each) for each in reports}
    before = context.ledger.check_results.last(looks, quick=quick)
    context.ledger.check_results.keep(looks, quick=quick)
    return [
        Changed(
            name=name,
            since=before[name][0] if name in before else None,
            changes=tuple(_differences(before[name][1], look)) if name in before else (),
        )
        for name, look in looks.items()
    ]


def _look_of(report: NameReport) -> CheckResult:
    told = [(each.severity.value, each.topic, each.subject, each.seen)
            for each in report.findings if each.severity is not Severity.OK]  # fmt: skip
    return CheckResult(verdict=report.verdict.value, addresses=dict(report.addresses), findings=tuple(told))


def _differences(before: CheckResult, now: CheckResult) -> Iterator[str]:
    """Say what is otherwise; findings that only count other days are the same ones."""
    yield from _of_addresses(before.addresses, now.addresses)
    known = {each[:3] for each in before.findings}
    present = {each[:3] for each in now.findings}
    for severity, topic, subject, seen in now.findings:
        if (severity, topic, subject) not in known:
            yield f"new {severity}: {subject}: {seen}"
    for severity, topic, subject, seen in before.findings:
        if (severity, topic, subject) not in present:
            yield f"over, was {severity}: {subject}: {seen}"
    if before.verdict != now.verdict:
        yield f"was “{before.verdict}”, is “{now.verdict}”"


def _of_addresses(before: dict[str, str], now: dict[str, str]) -> Iterator[str]:
    for address in sorted(now.keys() - before.keys()):
        yield f"the address {address} is new"
    for address in sorted(before.keys() - now.keys()):
        yield f"the address {address} is gone"
    moves: dict[tuple[str, str], list[str]] = {}
    for address in sorted(now.keys() & before.keys()):
        if before[address] != now[address]:
            moves.setdefault((before[address], now[address]), []).append(address)
    for (old, new), addresses in moves.items():
        at = ", ".join(addresses)
        if not new:
            yield f"no certificate is served any more at {at}"
        elif not old:
            yield f"a certificate is served again at {at}"
        else:
            yield f"another certificate is served at {at}: {new[:_SHORT]}… in the place of {old[:_SHORT]}…"
