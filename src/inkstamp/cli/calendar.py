"""Show planned renewals and expiries by week, as a table with bars or a chart.

    inkstamp calendar --weeks 10
    inkstamp calendar --picture weeks.png
    inkstamp calendar --simulate 20000 --lifetime 47 --limit-a-day 1500
    inkstamp calendar --simulate 1000000 --lifetime 47 --workers 4 --at-once 16

The chart has a bar for each certificate, or renewals by day for many. The
simulation invents certificates and needs no configuration; all are issued
within one day, the worst case, unless --begun-within says otherwise. Both need
the packages of `inkstamp[charts]`.
"""

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime, roster_options, selection_of
from inkstamp.errors import UsageError

if TYPE_CHECKING:
    from inkstamp.jobs.status.calendar import Calendar
    from inkstamp.policy.simulation import Fleet, Year

_FORMS = (".png", ".svg")
_MONTH = 30
_MOST_NAMED = 4
_BAR = 20
"""Characters of the longest bar."""
_AMPLE = 1.2
"""So many times the average load is what machines should be able to do."""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp calendar`."""
    parser.add_argument(
        "--weeks", type=_number(1, 520), default=13, metavar="N", help="number of weeks (default: %(default)s)"
    )
    parser.add_argument("--picture", metavar="FILE", help="draw a chart into FILE.png or FILE.svg")
    parser.add_argument(
        "--limit-a-day", type=_number(1, 10**9), metavar="N", help="most orders that the CA accepts in a day"
    )
    roster_options(parser)
    group = parser.add_argument_group("simulation of a made-up fleet")
    group.add_argument("--simulate", type=_number(1, 10**6), metavar="N", help="simulate a year of N certificates")
    group.add_argument(
        "--lifetime",
        type=_days,
        default=90.0,
        metavar="DAYS",
        help="lifetime of each certificate in days (default: %(default)g)",
    )
    group.add_argument(
        "--failing",
        type=_share,
        default=0.0,
        metavar="SHARE",
        help="share of attempts that fail, as in 0.02 (default: 0)",
    )
    group.add_argument(
        "--begun-within",
        type=_days,
        default=1.0,
        metavar="DAYS",
        help="days over which they were first issued (default: %(default)g)",
    )
    group.add_argument("--workers", type=_number(1, 10_000), metavar="N",
                       help="machines that order (default: as many as needed)")  # fmt: skip
    group.add_argument("--at-once", type=_number(1, 10_000), metavar="N",
                       help="orders at the same time, on all of them together (default: 4)")  # fmt: skip
    group.add_argument("--order-seconds", type=_seconds, metavar="S",
                       help="how long the CA takes for one order (default: 10)")  # fmt: skip
    group.add_argument("--outage", nargs=2, type=_number(1, 365), metavar=("DAY", "DAYS"),
                       help="from which day on, and for how long, the CA issues nothing")  # fmt: skip
    group.add_argument(
        "--seed",
        type=_number(0, 2**31),
        default=1,
        metavar="N",
        help="seed of the random numbers (default: %(default)s)",
    )


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp calendar`; returns the exit status."""
    picture = Path(options.picture).absolute() if options.picture else None
    if picture is not None and picture.suffix not in _FORMS:
        raise UsageError("a picture is a PNG or an SVG", where=str(picture), advice="end its name in .png or .svg")
    made_up = [options.workers, options.at_once, options.order_seconds, options.outage]
    if options.simulate is None and any(made_up):
        raise UsageError("--workers, --at-once, --order-seconds and --outage are about a simulation",
                         advice="add --simulate N, or leave them out")  # fmt: skip
    if options.simulate is not None or picture is not None:
        _expect_charts()
    if options.simulate is not None:
        return _simulate(context, options, picture)
    from inkstamp.jobs.status.calendar import calendar

    with open_runtime(context, only_looks=True) as runtime:
        made = calendar(runtime, options.weeks, selection_of(options))
    if picture is not None:
        from inkstamp.cli.picture import draw_calendar

        draw_calendar(made, picture, options.weeks * 7, options.limit_a_day)
    if context.json:
        output.as_json("calendar", calendar=made, picture=str(picture) if picture else None)
        return 0
    _tell(made)
    if picture is not None:
        print(output.field("picture", str(picture)))
    return 0


def _expect_charts() -> None:
    """Raise UsageError where the packages are not installed that draw and simulate."""
    from importlib import import_module

    lacking = []
    for each in ("matplotlib", "numpy"):
        try:
            import_module(each)
        except ImportError:
            lacking.append(each)
    if lacking:
        raise UsageError(
            "pictures and simulations need packages that are not installed", said=f"not found: {', '.join(lacking)}",
            advice="pip install 'inkstamp[charts]'; without --picture the weeks are drawn in the terminal",
        )  # fmt: skip


def _bar(number: int, most: int) -> str:
    """Draw a number beside the largest one; what is not nothing is seen."""
    return "#" * max(round(number / most * _BAR), 1) if number else ""


def _tell(made: "Calendar") -> None:
    if not made.lives and not made.without:
        print("no certificate is configured yet\n  next   inkstamp stamp NAME…")
        return
    most = max((len(each.renewals) for each in made.outlook.weeks), default=0)
    rows = [
        (f"{each.begins:%Y-%m-%d}", str(len(each.renewals)), _bar(len(each.renewals), most), str(len(each.expiries)),
         _named(each.renewals))
        for each in made.outlook.weeks
    ]  # fmt: skip
    output.table(("week from", "renewed", "", "expire", "which are renewed"), rows)
    print("expire: would expire if not renewed before")
    if made.outlook.later:
        print(f"{made.outlook.later} more {'is' if made.outlook.later == 1 else 'are'} renewed after that")
    if made.outlook.late:
        print(output.field("late", f"{len(made.outlook.late)}: {_named(made.outlook.late)}"))
        print(output.field("next", f"inkstamp renew {' '.join(made.outlook.late[:_MOST_NAMED])}"))
    _tell_limits(made)
    if made.without:
        print(output.field("no edition", f"{len(made.without)}: {_named(made.without)}"))


def _tell_limits(made: "Calendar") -> None:
    """Say how long certificates of public CAs may be valid, and which names have to be validated again."""
    if made.limits is not None:
        text = f"issued now: {made.limits.certificate} days at most"
        if made.next_limits is not None:
            text += f"; from {made.next_limits.issued_from} on: {made.next_limits.certificate} days"
        print(output.field("validity", text))
    again = sorted((each.validated_until, each.name) for each in made.lives if each.validated_until is not None)
    for until, name in again[:_MOST_NAMED]:
        print(output.field("validation", f"{name}: can be reused until {until:%Y-%m-%d}"))
    if len(again) > _MOST_NAMED:
        print(output.field("", f"and {len(again) - _MOST_NAMED} more: inkstamp calendar --json"))


def _named(names: tuple[str, ...]) -> str:
    more = f" and {len(names) - _MOST_NAMED} more" if len(names) > _MOST_NAMED else ""
    return ", ".join(names[:_MOST_NAMED]) + more


def _simulate(context: Context, options: argparse.Namespace, picture: Path | None) -> int:
    from msgspec.structs import replace

    from inkstamp.policy.simulation import Fleet, simulate

    if options.workers is None and (options.at_once or options.order_seconds):
        raise UsageError("--at-once and --order-seconds are about machines that order", advice="add --workers N")
    fleet = Fleet(
        certificates=options.simulate,
        lifetime=options.lifetime,
        failing=options.failing,
        a_day=options.limit_a_day,
        begun_within=options.begun_within,
        outage=(options.outage[0] - 1, options.outage[1]) if options.outage else (0, 0),
        workers=options.workers,
        at_once=options.at_once or 4,
        order_seconds=options.order_seconds or 10.0,
    )
    year, unlevelled = (simulate(replace(fleet, levelled=each), seed=options.seed) for each in (True, False))
    if picture is not None:
        from inkstamp.cli.picture import draw_year

        draw_year(fleet, year, unlevelled, picture)
    if context.json:
        output.as_json(
            "calendar",
            simulated={
                "certificates": fleet.certificates,
                "lifetime_days": fleet.lifetime,
                "orders_by_day": year.orders.tolist(),
                "unlevelled_orders_by_day": unlevelled.orders.tolist(),
                "failed_by_day": year.failed.tolist(),
                "left_over_by_day": year.waiting.tolist(),
                "expired": year.expired,
                "most_in_a_run": fleet.a_run,
                "least_days_left": year.least_left,
            },
            picture=str(picture) if picture else None,
        )
    else:
        _tell_year(fleet, year, unlevelled)
        if picture is not None:
            print(output.field("picture", str(picture)))
    return 1 if year.expired else 0


def _tell_year(fleet: "Fleet", year: "Year", unlevelled: "Year") -> None:
    days = len(year.orders)
    print(f"{fleet.certificates} certificates of {fleet.lifetime:g} days for {days} days; two runs a day")
    rows = []
    for begin in range(0, days, _MONTH):
        part = slice(begin, begin + _MONTH)
        last = min(begin + _MONTH, days)
        counts = (year.orders[part].sum(), year.failed[part].sum(), year.orders[part].max(), year.waiting[part].max())
        rows.append((f"{begin + 1} to {last}", *(str(int(each)) for each in counts)))
    output.table(("days", "orders", "failed", "worst day", "left over"), rows)
    worst = int(year.orders.argmax())
    whole = int(year.orders.sum())
    print(output.field("all", f"{whole} orders, {whole / days:.0f} a day on average"))
    without = int(unlevelled.orders.max())
    print(output.field("worst day", f"day {worst + 1}: {int(year.orders[worst])} orders; {without} without levelling"))
    if fleet.a_day is not None:
        full = int((year.orders >= fleet.a_day).sum())
        over = int(year.waiting.max())
        held = f"the limit of {fleet.a_day} a day was reached on {full} days"
        print(output.field("limit", f"{held}; at most {over} were left for the next day"))
    _tell_machines(fleet, year)
    left = f"{year.least_left:.1f} days were left when the last-minute one was renewed"
    print(output.field("expired", f"{year.expired} times" if year.expired else f"never; {left}"))
    if year.expired:
        fix = "ask the CA for more, spread over several CAs, or renew with more left (with_left)"
        is_busy = fleet.a_run is not None and fleet.a_run * 2 < whole / days * _AMPLE
        print(output.field("fix", "order more at the same time (at_once), with more workers" if is_busy else fix))


def _tell_machines(fleet: "Fleet", year: "Year") -> None:
    """Say what the machines can do, and what came after an outage of the CA."""
    from inkstamp.policy.simulation import RUN_HOURS

    if fleet.a_run is not None:
        told = f"at_once {fleet.at_once}, {fleet.order_seconds:g} s an order: {fleet.a_run * 2} orders a day at most"
        print(output.field("workers", f"{fleet.workers}, {told}, in two runs of {RUN_HOURS:g} hours"))
    first, long = fleet.outage
    if not long:
        return
    after = year.orders[first + long : first + long + _MONTH]
    if not len(after):
        return
    worst = int(after.argmax())
    usual = int(year.orders[max(first - _MONTH, 0) : first].mean()) if first else 0
    print(output.field("outage", f"days {first + 1} to {first + long}; the worst day afterwards is day"
                       f" {first + long + worst + 1}: {int(after[worst])} orders, {usual} a day before"))  # fmt: skip


def _number(least: int, most: int) -> Callable[[str], int]:
    def read(text: str) -> int:
        value = int(text)
        if not least <= value <= most:
            raise argparse.ArgumentTypeError(f"must be from {least} to {most}")
        return value

    read.__name__ = "number"
    return read


def _days(text: str) -> float:
    value = float(text)
    if not 0.5 <= value <= 5000:
        raise argparse.ArgumentTypeError("must be from 0.5 to 5000 days")
    return value


def _seconds(text: str) -> float:
    value = float(text)
    if not 0.1 <= value <= 86_400:
        raise argparse.ArgumentTypeError("must be from 0.1 to 86400 seconds")
    return value


def _share(text: str) -> float:
    value = float(text)
    if not 0 <= value < 1:
        raise argparse.ArgumentTypeError("must be from 0 to below 1")
    return value
