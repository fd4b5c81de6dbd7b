"""Where every certificate stands, the most urgent first, and what to type next."""

import argparse

from inkstamp.cli import output
from inkstamp.cli.main import Context
from inkstamp.cli.setting import workplace


def configure(_parser: argparse.ArgumentParser) -> None:
    """There are no options of its own."""


def run(context: Context, _options: argparse.Namespace) -> int:
    """Run it."""
    from inkstamp.jobs.status import all_statuses

    with workplace(context) as place:
        statuses = all_statuses(place)
    if context.json:
        output.as_json("status", certificates=statuses)
        return 0
    if not statuses:
        print("no certificate is configured yet\n  next   inkstamp stamp NAME…")
        return 0
    rows = [
        (
            each.name,
            each.standing.value,
            str(each.edition or "-"),
            "-" if each.days_left is None else str(each.days_left),
            f"{each.renews_at:%Y-%m-%d}" if each.renews_at else "-",
            each.names[0] + (f" +{len(each.names) - 1}" if len(each.names) > 1 else ""),
        )
        for each in statuses
    ]
    output.table(("certificate", "stands", "edition", "days", "renews", "names"), rows)
    todo = [each for each in statuses if each.next_command]
    for command in dict.fromkeys(each.next_command for each in todo[:10]):
        print(output.field("next", command))
    if not todo:
        print(f"all {len(statuses)} are good")
    return 0
