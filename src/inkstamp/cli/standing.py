"""What `inkstamp prove --standing` does: servers that answer every challenge for an account by themselves."""

import argparse
import sys
from collections.abc import Callable
from typing import TYPE_CHECKING, TextIO

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.log import each_apart
from inkstamp.cli.setting import open_runtime
from inkstamp.errors import InkStampError, UsageError

if TYPE_CHECKING:
    from inkstamp.jobs.validation.standing import StandingChange


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the options of a standing answer."""
    way = parser.add_argument_group("servers that answer every challenge by themselves")
    way.add_argument(
        "--standing", nargs="+", metavar="SERVER", help="have these servers answer http-01 for an account, at all sites"
    )
    way.add_argument(
        "--authority",
        default="",
        metavar="AUTHORITY",
        help="for the account at this one of several; with --persistent too",
    )
    way.add_argument("--group", default="", metavar="GROUP", help="only at the sites of this group's certificates")
    way.add_argument("--default-hosts", action="store_true", help="also for names that no site has")
    way.add_argument(
        "--take-back", action="store_true", help="take the standing answer, or the persistent records, out again"
    )
    way.add_argument("--yes", action="store_true", help="do not ask for confirmation")


def expect_without_standing(options: argparse.Namespace) -> None:
    """Raise UsageError where an option is given that is for --standing alone."""
    given = {"--authority": options.authority, "--group": options.group, "--default-hosts": options.default_hosts,
             "--take-back": options.take_back, "--yes": options.yes}  # fmt: skip
    lost = next((name for name, value in given.items() if value), "")
    if lost:
        raise UsageError(f"{lost} is for --standing", advice="inkstamp prove --standing SERVER")
    if not options.certificate:
        raise UsageError("a certificate is named, or servers with --standing", advice="inkstamp prove NAME")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp prove --standing`; returns the exit status."""
    from inkstamp.jobs.validation.standing import put_standing, show_standing, take_back, wish_for

    _check(options)
    with open_runtime(context) as runtime:
        if options.take_back:
            done, failed = each_apart(context, options.standing, lambda each: take_back(runtime, each), str)
            return _end(context, done, failed, _tell_taken_back)
        wishes = {
            each: wish_for(
                runtime, each, authority=options.authority, names=options.names or (), group=options.group,
                default_hosts=options.default_hosts,
            )
            for each in options.standing
        }  # fmt: skip
        planned, failed = each_apart(context, options.standing, lambda each: show_standing(runtime, wishes[each]), str)
        changing = [each.server for each in planned if each.differences]
        if options.preview:
            return _end(context, planned, failed, _tell_planned)
        if changing and not context.json:
            _tell_planned(planned, sys.stderr)
        if changing:
            output.ask("make these changes", "standing", yes=options.yes)
        todo = [each.server for each in planned]
        done, failing = each_apart(context, todo, lambda each: put_standing(runtime, wishes[each]), str)
    return _end(context, done, [*failed, *failing], _tell_done)


def _check(options: argparse.Namespace) -> None:
    others = (options.certificate, options.let_through, options.close_again, options.file, options.cname, options.txt,
              options.token, options.line, options.content, options.sent, options.approved,
              options.into, options.wait)  # fmt: skip
    if any(others) or options.email is not None:
        raise UsageError(
            "--standing goes with --for, --group, --authority, --default-hosts, --preview and --take-back alone",
            advice="leave the other options out",
        )
    if options.take_back and (options.preview or options.names or options.group or options.default_hosts):
        raise UsageError("--take-back takes all of it back", advice="leave the other options out")
    if options.names and options.group:
        raise UsageError("sites are named, or chosen by their group", advice="leave --for or --group out")


def _tell_planned(planned: "list[StandingChange]", stream: TextIO) -> None:
    for each in planned:
        if each.differences:
            told = f"this would have it answer every challenge for the account at {each.authority}"
            print(f"{each.server}: {told}", file=stream)
            for text in each.differences:
                print(output.clean(text), file=stream)
        else:
            print(f"{each.server}: answers challenges for the account at {each.authority} already", file=stream)
    if stream is sys.stdout and any(each.differences for each in planned):
        print(output.field("next", f"inkstamp prove --standing {' '.join(each.server for each in planned)}"))


def _tell_done(done: "list[StandingChange]", stream: TextIO) -> None:
    del stream
    for each in done:
        since = "now" if each.differences else "already"
        print(f"{each.server}: answers every challenge for the account at {each.authority} {since}")
        output.findings(each.findings)
    if done:
        servers = " ".join(each.server for each in done)
        print(output.field("next", "nothing: `stamp` and `renew` with http-01 need no files there any more"))
        print(output.field("to undo", f"inkstamp prove --standing {servers} --take-back"))


def _tell_taken_back(done: "list[StandingChange]", stream: TextIO) -> None:
    del stream
    for each in done:
        print(f"{each.server}: the standing answer is taken out; http-01 needs files there again")
        output.differences(each.differences)


def _end(
    context: Context,
    told: "list[StandingChange]",
    failed: "list[InkStampError]",
    tell: "Callable[[list[StandingChange], TextIO], None]",
) -> int:
    if context.json:
        output.as_json("prove", standing=told)
    else:
        tell(told, sys.stdout)
    return min((each.exit_status for each in failed), default=0)
