"""Write what `check` saw as one page of HTML that needs nothing else: no script, no font, no network."""

import os
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined
from msgspec.structs import asdict

from inkstamp import __version__
from inkstamp.cli.output import clean
from inkstamp.files import write_bytes
from inkstamp.jobs.checks.check import NameReport, Verdict
from inkstamp.severity import worst_first
from inkstamp.wording import counted

KINDS = {Verdict.OK: "ok", Verdict.WARNINGS: "warnings", Verdict.BROKEN: "broken"}
MARKS = {Verdict.OK: "✓", Verdict.WARNINGS: "!", Verdict.BROKEN: "✗"}
_LEFT, _WIDTH = 20.0, 860.0
_TALLEST = 120.0
_LEAST_DAYS = 30
_TICKS = (7, 14, 30, 60, 90, 180, 365, 730)


@dataclass(frozen=True, slots=True)
class Expiry:
    """A certificate on the line of time."""

    name: str
    days_left: int
    """Negative when it has expired."""
    kind: str
    """One of `KINDS`, which gives its colour."""


@dataclass(frozen=True, slots=True)
class Line:
    """Expiries on a line of time: certificates that expire on the same days stand on each other."""

    days: int
    height: float
    base: float
    wide: float
    ticks: tuple[tuple[float, str], ...]
    marks: tuple[tuple[float, float, float, str, str], ...]
    """Left, top and height of each, its verdict's kind, and what it is."""


def time_line(expiries: Sequence[Expiry]) -> Line:
    """Place certificates by the days they have left."""
    days = max([each.days_left for each in expiries] + [_LEAST_DAYS]) + 1
    columns: dict[int, list[Expiry]] = {}
    many = min(days, 120)
    for each in expiries:
        columns.setdefault(int(max(each.days_left, 0) / days * many), []).append(each)
    tallest = max([len(column) for column in columns.values()] + [1])
    height = min(_TALLEST / tallest, 14.0)
    base = max(tallest * height, 20.0) + 10.0
    marks = []
    for number, column in columns.items():
        x = _LEFT + number / many * _WIDTH
        for level, each in enumerate(column):
            left = "has expired" if each.days_left < 0 else f"{counted(each.days_left, 'day')} left"
            top = base - (level + 1) * height
            marks.append((round(x, 1), round(top, 2), round(height * 0.9, 2), each.kind, f"{each.name}: {left}"))
    ticks = [(_LEFT, "today")]
    ticks += [(round(_LEFT + day / days * _WIDTH, 1), f"{day} days") for day in _TICKS if days * 0.06 < day < days]
    return Line(days, base + 30.0, base, round(_WIDTH / many * 0.8, 2), tuple(_apart(ticks)), tuple(marks))


def _apart(ticks: Sequence[tuple[float, str]]) -> list[tuple[float, str]]:
    """Leave out ticks whose words would run into those before them."""
    kept: list[tuple[float, str]] = []
    for x, text in ticks:
        if not kept or x - kept[-1][0] > 70:
            kept.append((x, text))
    return kept


def write_report(reports: Sequence[NameReport], file: Path) -> None:
    """Write the page; FileTrouble when it cannot be."""
    seen = [Expiry(each.name, each.days_left, KINDS[each.verdict]) for each in reports if each.days_left is not None]
    count = {verdict: sum(each.verdict is verdict for each in reports) for verdict in Verdict}
    write_page(
        "report.html.jinja",
        file,
        at=f"{datetime.now(UTC):%Y-%m-%d %H:%M}",
        reports=[_as_shown(each) for each in reports],
        counts=[(MARKS[each], KINDS[each], each.value, count[each]) for each in reversed(Verdict) if count[each]],
        kinds={each.value: kind for each, kind in KINDS.items()},
        marks={each.value: mark for each, mark in MARKS.items()},
        line=time_line(seen),
    )


def write_page(template: str, file: Path, **content: Any) -> None:
    """Write a page of HTML that needs nothing else, with what all pages have; FileTrouble when it cannot be."""
    environment = Environment(
        loader=PackageLoader("inkstamp.cli", "."), autoescape=True, undefined=StrictUndefined, trim_blocks=True
    )
    page = environment.get_template(template).render(version=__version__, host=os.uname().nodename, **content)
    write_bytes(file, page.encode(), mode=0o644)


def _as_shown(report: NameReport) -> dict[str, Any]:
    """Return a report with its findings ranked, and without what strangers may have written to confuse."""
    findings = [
        {key: clean(str(value)) for key, value in asdict(each).items()} | {"rank": rank}
        for rank, each in enumerate(worst_first(report.findings))
    ]
    worst = report.worst
    return {
        "name": clean(report.name),
        "verdict": report.verdict.value,
        "chain": [
            {
                "subject": clean(each.subject),
                "names": [clean(name) for name in each.names],
                "key": each.key,
                "not_after": each.not_after,
            }
            for each in report.chain
        ],
        "root": clean(report.root),
        "days_left": report.days_left,
        "worst": {"seen": clean(worst.seen)} if worst is not None else None,
        "findings": findings,
    }
