"""Draw a calendar or a simulated year, as PNG or SVG of 1280 by 800 points."""

from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import matplotlib as mpl
from matplotlib.artist import Artist
from matplotlib.dates import AutoDateLocator, ConciseDateFormatter, date2num
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from matplotlib.patches import Patch

from inkstamp.errors import FileTrouble
from inkstamp.renewal.outlook import by_day

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from inkstamp.jobs.calendar import Calendar
    from inkstamp.renewal.outlook import Life
    from inkstamp.renewal.simulation import Fleet, Year

_DPI = 100
_SIZE = (12.8, 8.0)
_MOST_BARS = 70
"""Bars are legible up to here; more certificates are counted by day."""
_LIFE, _PLANNED, _LATE, _LIMIT = "#b9cfd6", "#1f6f7f", "#b3381f", "#5b2a86"
_INK = "#222222"
_LONGEST_NAME = 28


def _figure() -> tuple[Figure, "Axes"]:
    mpl.rcParams.update({"font.size": 11, "svg.hashsalt": "inkstamp", "text.color": _INK, "axes.labelcolor": _INK})
    figure = Figure(figsize=_SIZE, dpi=_DPI, layout="constrained")
    axes = figure.add_subplot()
    axes.spines[["top", "right"]].set_visible(False)
    return figure, axes


def _save(figure: Figure, file: Path) -> None:
    try:
        figure.savefig(file, metadata={"Date": None} if file.suffix == ".svg" else None)
    except OSError as error:
        raise FileTrouble(f"cannot write {file}", where=str(file), said=error.strerror or str(error)) from error


def draw_calendar(made: "Calendar", file: Path, days: int, limit: int | None) -> None:
    """Draw each certificate's life as a bar; of many, the renewals of each of the next `days` days."""
    figure, axes = _figure()
    if len(made.lives) <= _MOST_BARS and limit is None:
        _bars(axes, made.lives, made.at)
        axes.set_title(f"{len(made.lives)} certificates, as of {made.at:%Y-%m-%d %H:%M} UTC", loc="left", pad=22)
    else:
        _histogram(axes, made, days, limit)
    _save(figure, file)


def _bars(axes: "Axes", lives: tuple["Life", ...], now: datetime) -> None:
    many = max(len(lives), 1)
    size = min(11.0, 480 / many)
    thick = 0.34 if many < 6 else 0.62
    for row, each in enumerate(lives):
        late = each.is_late(now)
        begin, middle, end = (date2num(moment) for moment in (each.not_before, each.renews_at, each.not_after))
        middle = min(max(middle, begin), end)
        axes.barh(row, middle - begin, left=begin, height=thick, color=_LIFE)
        axes.barh(row, end - middle, left=middle, height=thick, color=_LATE if late else _PLANNED,
                  hatch="////" if late else None, edgecolor="white", linewidth=0)  # fmt: skip
        if each.window is not None:
            start, stop = (date2num(moment) for moment in each.window)
            axes.plot([start, stop], [row, row], color=_INK, linewidth=max(1.5, size / 4), solid_capstyle="butt")
        if late:
            axes.annotate(" late", (end, row), va="center", fontsize=size, color=_LATE, fontweight="bold")
    axes.set_yticks(range(len(lives)), [_short(each.name) for each in lives], fontsize=size)
    axes.tick_params(axis="y", length=0)
    axes.set_ylim(many - 0.4, -0.6 if many > 5 else -0.9)
    axes.axvline(date2num(now), color=_INK, linewidth=1.2)
    axes.annotate(
        "today", (date2num(now), 1), xycoords=("data", "axes fraction"), va="bottom", ha="center", fontsize=10
    )
    _date_axis(axes)
    shown: list[Artist] = [
        Patch(color=_LIFE, label="valid"),
        Patch(color=_PLANNED, label="to be renewed, until it expires"),
    ]
    if any(each.window for each in lives):
        shown.append(Line2D([], [], color=_INK, linewidth=3, label="the CA's window"))
    if any(each.is_late(now) for each in lives):
        shown.append(Patch(facecolor=_LATE, hatch="////", edgecolor="white", label="late"))
    axes.legend(handles=shown, loc="upper center", bbox_to_anchor=(0.5, -0.06), ncols=4, frameon=False)
    axes.grid(axis="x", color="#dddddd", linewidth=0.7)
    axes.set_axisbelow(True)
    axes.use_sticky_edges = False
    axes.margins(x=0.02)


def _short(name: str) -> str:
    return name if len(name) <= _LONGEST_NAME else f"{name[: _LONGEST_NAME - 1]}…"


def _date_axis(axes: "Axes") -> None:
    locator = AutoDateLocator(minticks=4, maxticks=12)
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator))
    axes.xaxis_date()


def _histogram(axes: "Axes", made: "Calendar", days: int, limit: int | None) -> None:
    counts = by_day(made.lives, made.at, days)
    dates = [date2num(made.at.date() + timedelta(days=number)) for number in range(days)]
    late = sum(each.is_late(made.at) for each in made.lives)
    _columns(axes, dates, counts, limit)
    worst = max(range(days), key=counts.__getitem__)
    day = made.at.date() + timedelta(days=worst)
    _mark_worst(axes, dates[worst], counts[worst], f"{counts[worst]} on {day:%Y-%m-%d}")
    axes.set_ylabel("renewals a day")
    told = f", {late} of them late" if late else ""
    axes.set_title(
        f"{len(made.lives)} certificates{told}; renewals of {days} days from {made.at:%Y-%m-%d} on", loc="left"
    )
    _date_axis(axes)
    axes.legend(loc="upper center", bbox_to_anchor=(0.5, -0.06), ncols=4, frameon=False)


def _columns(axes: "Axes", places: list[float], counts: list[int], limit: int | None) -> None:
    axes.bar(places, counts, width=0.86, color=_PLANNED, label="renewals")
    top = max([*counts, 1])
    if limit is not None:
        over = [count if count > limit else 0 for count in counts]
        if any(over):
            axes.bar(places, over, width=0.86, color=_LATE, hatch="////", edgecolor="white", linewidth=0,
                     label=f"days with more than the limit: {sum(count > 0 for count in over)}")  # fmt: skip
        axes.axhline(limit, color=_LIMIT, linewidth=1.6, linestyle="--", label=f"the CA's limit: {limit} a day")
        top = max(top, limit)
    axes.set_ylim(0, top * 1.12)
    axes.grid(axis="y", color="#dddddd", linewidth=0.7)
    axes.set_axisbelow(True)


def _mark_worst(axes: "Axes", place: float, count: int, text: str) -> None:
    left, right = axes.get_xlim()
    ha = "left" if place - left < (right - left) / 8 else "right" if right - place < (right - left) / 8 else "center"
    axes.annotate(text, (place, count), textcoords="offset points", xytext=(0, 6), ha=ha, fontsize=10)


def draw_year(fleet: "Fleet", year: "Year", file: Path) -> None:
    """Draw the orders of each day of a simulated year."""
    figure, axes = _figure()
    counts = [int(each) for each in year.orders]
    days = list(range(1, len(counts) + 1))
    _columns(axes, [float(day) for day in days], counts, fleet.a_day)
    if year.failed.any():
        axes.bar(days, year.failed.tolist(), width=0.86, color=_LIFE, label="of them failed")
    worst = int(year.orders.argmax())
    axes.set_xlim(0, len(days) + 1)
    _mark_worst(axes, worst + 1, counts[worst], f"worst day: {counts[worst]}")
    axes.set_xlabel("day")
    axes.set_ylabel("orders a day")
    said = f"{year.expired} expired" if year.expired else "none expired"
    axes.set_title(
        f"{fleet.certificates} made-up certificates of {fleet.lifetime:g} days, {len(days)} days: {said}", loc="left"
    )
    axes.legend(loc="upper center", bbox_to_anchor=(0.5, -0.09), ncols=4, frameon=False)
    _save(figure, file)
