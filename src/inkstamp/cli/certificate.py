"""Show how a certificate is configured, or change that, in file or roster.

Settings are typed as KEY=VALUE, as they stand in the configuration file, whose
comments and layout stay; lists with commas. KEY= takes a setting out: then the
usual value, or that of the group, counts. What would not be valid is refused,
and nothing is written.

    inkstamp certificate show shop.saltmarsh.test
    inkstamp certificate change shop.saltmarsh.test key=rsa-2048 keep=5
"""

import argparse

from inkstamp.cli import output
from inkstamp.cli.context import Context, global_options
from inkstamp.cli.entry_commands import SETTINGS_HELP, tell_changes, tell_entry
from inkstamp.cli.setting import open_runtime
from inkstamp.errors import UsageError


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp certificate`."""
    actions = parser.add_subparsers(dest="action", required=True, metavar="show|change|rename")
    show = actions.add_parser("show", help="show its settings and where they stand", allow_abbrev=False)
    show.add_argument("name", metavar="NAME", help="a configured certificate")
    change = actions.add_parser("change", help="change its settings", allow_abbrev=False)
    change.add_argument("name", metavar="NAME", help="a configured certificate")
    change.add_argument("settings", nargs="*", metavar="KEY=VALUE", help=SETTINGS_HELP)
    change.add_argument("--group", default="", metavar="GROUP", help="group that it goes to, if it is on the roster")
    change.add_argument("--customer", metavar="TEXT", help="customer that it is for; empty for none")
    rename = actions.add_parser("rename", help="call it otherwise; servers notice nothing", allow_abbrev=False)
    rename.add_argument("name", metavar="NAME", help="a configured certificate")
    rename.add_argument("new", metavar="NEW", help="name that it gets")
    for each in (show, change, rename):
        global_options(each, default=argparse.SUPPRESS)


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp certificate`; returns the exit status."""
    from inkstamp.jobs.lifecycle.entry_change import change_certificate, show_certificate
    from inkstamp.jobs.lifecycle.rename import rename_certificate
    from inkstamp.jobs.status.overview import statuses_of

    command = f"certificate {options.action}"
    with open_runtime(context) as runtime:
        if options.action == "show":
            shown = show_certificate(runtime, options.name)
            if context.json:
                output.as_json(command, entries=[shown])
            else:
                tell_entry(shown)
            return 0
        if options.action == "rename":
            rename_certificate(runtime, options.name, options.new)
            return _tell_renamed(context, options.name, options.new)
        if not options.settings and not options.group and options.customer is None:
            raise UsageError("nothing was said to change", advice="give KEY=VALUE, --group or --customer")
        changes = change_certificate(
            runtime, options.name, options.settings, group=options.group, customer=options.customer
        )
        (status,) = statuses_of(runtime, [options.name])
    if context.json:
        output.as_json(command, changes=changes)
        return 0
    tell_changes(options.name, changes)
    if status.wanted:
        print(output.field("due", status.wanted))
    print(output.field("next", status.next_command or "nothing to do"))
    return 0


def _tell_renamed(context: Context, old: str, new: str) -> int:
    if context.json:
        output.as_json("certificate rename", renamed={"before": old, "after": new})
    else:
        print(f"{old} is called {new} from now on")
        print(output.field("next", "nothing; its next install names files by the new name"))
    return 0
