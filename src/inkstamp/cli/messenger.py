"""List the messengers that people are told by, or send a message now.

inkstamp messenger
inkstamp messenger test night
"""

import argparse
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context, global_options
from inkstamp.cli.setting import open_runtime

if TYPE_CHECKING:
    from collections.abc import Mapping

    from inkstamp.config.model import Messenger


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp messenger`."""
    actions = parser.add_subparsers(dest="action", metavar="[ACTION]")
    about = "send a message by one of them, which says that it is a test"
    test = actions.add_parser("test", help=about, description=f"{about.capitalize()}.", allow_abbrev=False)
    test.add_argument(
        "name", metavar="NAME", help="name of the messenger, as [messenger.NAME] of the configuration has it"
    )
    global_options(test, default=argparse.SUPPRESS)


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp messenger`; returns the exit status."""
    with open_runtime(context) as runtime:
        if options.action == "test":
            from inkstamp.jobs.notification.messages import send_test

            entry = send_test(runtime, options.name)
            if context.json:
                output.as_json("messenger test", messenger=options.name, sent_to=_place(entry))
            else:
                print(f"{options.name}: accepted by {_place(entry)}")
                print(output.field("next", "see that it arrived"))
            return 0
        found = runtime.config.messenger
    if context.json:
        output.as_json("messenger", messengers=[_data(name, each) for name, each in found.items()])
    else:
        _tell(found)
    return 0


def _tell(found: "Mapping[str, Messenger]") -> None:
    if not found:
        print("no messenger is configured: nobody is told when a renewal fails")
        print(output.field("next", "add [messenger.NAME] to the configuration (docs/renewal.md#notifications)"))
        return
    rows = [(name, each.kind, _place(each), ", ".join(each.to), ", ".join(each.about)) for name, each in found.items()]
    output.table(("messenger", "kind", "by", "to", "about"), rows)
    print(output.field("next", f"inkstamp messenger test {next(iter(found))}"))


def _place(entry: "Messenger") -> str:
    return entry.server or entry.url


def _data(name: str, entry: "Messenger") -> dict[str, object]:
    return {"name": name, "kind": entry.kind, "by": _place(entry), "to": entry.to, "about": entry.about}
