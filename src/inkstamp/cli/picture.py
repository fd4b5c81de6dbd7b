"""Draw a calendar or a simulated year, as PNG or SVG 1280 points wide and 800 high at most."""

from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import matplotlib as mpl
from matplotlib.artist import Artist
from matplotlib.dates import AutoDateLocator, ConciseDateFormatter, date2num
from matplotlib.figure import Figure
from matplotlib.lines import Line2D

from inkstamp.errors import FileTrouble
from inkstamp.policy.forecast import by_day
from inkstamp.wording import counted

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from inkstamp.jobs.status.calendar import Calendar
    from inkstamp.policy.forecast import Life
    from inkstamp.policy.simulation import Fleet, Year

_DPI = 100
_SIZE = (12.8, 8.0)
_MOST_BARS = 70
"""Bars are legible up to here; more certificates are counted by day."""
_LIFE, _PLANNED, _LATE, _LIMIT = "#b9cfd6", "#1f6f7f", "#b3381f", "#5b2a86"
_INK = "#222222"
_STATES = {
    "ok": ("#1f6f7f", "o", "ok: planned renewal"),
    "due": ("#b26a00", "^", "due now"),
    "late": (_LATE, "X", "late: due, and not renewed"),
    "expired": ("#6b1020", "s", "expired"),
}
"""Colour and mark of each state, and what the legend says."""
_THICK = 0.36
"""Height of a bar, as a share of its row."""
_LONGEST_NAME = 28


_WITHOUT = "#8a8a8a"


def _figure(rows: int = _MOST_BARS) -> tuple[Figure, "Axes"]:
    mpl.rcParams.update({"font.size": 11, "svg.hashsalt": "inkstamp", "text.color": _INK, "axes.labelcolor": _INK})
    high = min(_SIZE[1], 1.9 + 0.34 * rows)  # few bars need no more, and stay thin
    figure = Figure(figsize=(_SIZE[0], high), dpi=_DPI, layout="constrained")
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
    of_each = len(made.lives) <= _MOST_BARS and limit is None
    figure, axes = _figure(max(len(made.lives), 3)) if of_each else _figure()
    if of_each:
        _bars(axes, made.lives, made.at)
        axes.set_title(
            f"{counted(len(made.lives), 'certificate')}, as of {made.at:%Y-%m-%d %H:%M} UTC", loc="left", pad=22
        )
    else:
        _histogram(axes, made, days, limit)
    _save(figure, file)


def _state(life: "Life", now: datetime) -> str:
    if life.not_after <= now:
        return "expired"
    if life.is_late(now):
        return "late"
    return "due" if life.renews_at <= now else "ok"


def _bars(axes: "Axes", lives: tuple["Life", ...], now: datetime) -> None:
    size = min(11.0, 480 / max(len(lives), 1))
    for row, each in enumerate(lives):
        _bar(axes, row, each, now, size)
    axes.set_yticks(range(len(lives)), [_short(each.name) for each in lives], fontsize=size)
    axes.tick_params(axis="y", length=0)
    axes.set_ylim(len(lives) - 0.4, -0.6)
    axes.axvline(date2num(now), color=_INK, linewidth=1.4, zorder=4)
    axes.annotate(
        "today", (date2num(now), 1), xycoords=("data", "axes fraction"), va="bottom", ha="center", fontsize=10
    )
    _date_axis(axes)
    present = {_state(each, now) for each in lives}
    shown: list[Artist] = [
        Line2D([], [], color=_LIFE, linewidth=5, label="issued until renewal"),
        Line2D([], [], color=_PLANNED, linewidth=5, label="renewal until expiry"),
    ]
    if any(each.window for each in lives):
        shown.append(Line2D([], [], color=_INK, linewidth=2, label="renewal window of the CA"))
    shown += [
        Line2D([], [], color=colour, marker=mark, linestyle="none", markersize=8, label=told)
        for state, (colour, mark, told) in _STATES.items()
        if state in present
    ]
    axes.figure.legend(handles=shown, loc="outside lower left", ncols=4, frameon=False)
    axes.grid(axis="x", color="#dddddd", linewidth=0.7)
    axes.set_axisbelow(True)
    axes.use_sticky_edges = False
    axes.margins(x=0.02)


def _bar(axes: "Axes", row: int, life: "Life", now: datetime, size: float) -> None:
    """Draw one life: from the day of issue, with a mark at the moment of renewal that says how it is."""
    begin, middle, end = (date2num(moment) for moment in (life.not_before, life.renews_at, life.not_after))
    middle = min(max(middle, begin), end)
    colour, mark, _ = _STATES[_state(life, now)]
    axes.barh(row, middle - begin, left=begin, height=_THICK, color=_LIFE)
    axes.barh(row, end - middle, left=middle, height=_THICK, color=_PLANNED if colour == _STATES["ok"][0] else colour)
    if life.window is not None:
        start, stop = (date2num(moment) for moment in life.window)
        axes.plot([start, stop], [row, row], color=_INK, linewidth=max(1.2, size / 5), solid_capstyle="butt")
    axes.plot(middle, row, mark, color=colour, markersize=max(size * 0.72, 4), markeredgecolor="white",
              markeredgewidth=0.8, zorder=5)  # fmt: skip
    if _state(life, now) != "ok":
        axes.annotate(f"  {_state(life, now)}", (end, row), va="center", fontsize=size, color=colour, fontweight="bold")


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
    many = counted(len(made.lives), "certificate")
    span = f"renewals of {counted(days, 'day')} from {made.at:%Y-%m-%d} on"
    axes.set_title(f"{many}{told}; {span}", loc="left")
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


def draw_year(fleet: "Fleet", year: "Year", unlevelled: "Year", file: Path) -> None:
    """Draw the orders of each day of a simulated year, and as a line those of the same year without levelling."""
    figure, axes = _figure()
    counts = [int(each) for each in year.orders]
    days = list(range(1, len(counts) + 1))
    _columns(axes, [float(day) for day in days], counts, fleet.a_day)
    if year.failed.any():
        axes.bar(days, year.failed.tolist(), width=0.86, color=_LIFE, label="of them failed")
    without = [int(each) for each in unlevelled.orders]
    axes.step(
        days, without, where="mid", color=_WITHOUT, linewidth=1, label=f"without levelling (worst day: {max(without)})"
    )
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
