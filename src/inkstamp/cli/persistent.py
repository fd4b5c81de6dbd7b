"""What `inkstamp prove NAME --persistent` does: validation records that stay in DNS (dns-persist-01)."""

import argparse
import sys
from typing import TYPE_CHECKING, TextIO

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.setting import moment, open_runtime
from inkstamp.errors import UsageError
from inkstamp.wording import counted

if TYPE_CHECKING:
    from inkstamp.jobs.validation.persistent_records import PersistentState

_WAITING = 3


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the options of records that stay."""
    way = parser.add_argument_group("validation records that stay in DNS (dns-persist-01, an IETF draft)")
    way.add_argument("--persistent", action="store_true", help="put them, or show them where a person has to")
    way.add_argument("--until", metavar="DATE", help="they end then (RFC 3339; default: never)")
    way.add_argument("--via", default="", metavar="NAMESERVER", help="by this nameserver or program (default: as "
                     "configured)")  # fmt: skip


def expect_without_persistent(options: argparse.Namespace) -> None:
    """Raise UsageError where an option is given that is for --persistent alone."""
    lost = "--until" if options.until else "--via" if options.via else ""
    if lost:
        raise UsageError(f"{lost} is for --persistent", advice="inkstamp prove NAME --persistent")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp prove NAME --persistent`; returns the exit status."""
    from inkstamp.config.words import BY_HAND
    from inkstamp.jobs.validation.persistent_records import (
        carrier_for,
        look_at_persistent,
        put_persistent,
        take_back_persistent,
    )

    _check(options)
    until, name = moment(options.until), options.certificate
    with open_runtime(context) as runtime:
        entry = runtime.certificates.entry(name)
        states = look_at_persistent(runtime, options.authority or entry.authority, entry.names, until=until)
        via = carrier_for(runtime, name, options.via)
        lacking = [each for each in states if not each.passes or each.renewing or each.outdated]
        if options.take_back:
            output.ask("take these records out of DNS", "records", yes=options.yes)
            count = take_back_persistent(runtime, via, states)
            return _end_taken_back(context, name, count)
        if lacking and not options.preview and via != BY_HAND:
            if not context.json:
                _tell(lacking, sys.stderr)
            output.ask("put these records into DNS", "records", yes=options.yes)
            put = {each.name: each for each in put_persistent(runtime, via, lacking)}
            states = [put.get(each.name, each) for each in states]
    if context.json:
        output.as_json("prove", persistent=[_data(each) for each in states])
    else:
        _tell(states, sys.stdout)
        _tell_next(name, states, by_hand=via == BY_HAND)
    waiting = via == BY_HAND and not all(each.passes for each in states)
    return _WAITING if waiting and not options.preview else 0


def _check(options: argparse.Namespace) -> None:
    others = (options.let_through, options.close_again, options.file, options.cname, options.txt, options.token,
              options.line, options.content, options.sent, options.approved, options.into, options.wait, options.names,
              options.group, options.default_hosts, options.standing)  # fmt: skip
    if any(others) or options.email is not None or not options.certificate:
        raise UsageError(
            "--persistent goes with NAME, --until, --via, --authority, --preview and --take-back alone",
            advice="leave the other options out",
        )
    if options.take_back and (options.preview or options.until):
        raise UsageError("--take-back takes all of it back", advice="leave --preview and --until out")


def _tell(states: "list[PersistentState]", stream: TextIO) -> None:
    for each in states:
        record = each.placed.record
        print(record.name, file=stream)
        output.findings(each.findings, stream, below=each.placed.asked)
        if not each.passes:
            print(output.field("record", f"TXT, in the zone {record.zone}"), file=stream)
            print(output.field("value", record.value or "unknown"), file=stream)
        for value in each.outdated:
            print(output.field("to go", output.clean(value)), file=stream)


def _tell_next(name: str, states: "list[PersistentState]", *, by_hand: bool) -> None:
    if all(each.passes for each in states):
        print(output.field("next", "nothing: renewals with dns-persist-01 change no record"))
        print(output.field("to undo", f"inkstamp prove {name} --persistent --take-back"))
    elif by_hand:
        print(output.field("next", f"create these records, then: inkstamp prove {name} --persistent"))
    else:
        print(output.field("next", f"inkstamp prove {name} --persistent"))


def _end_taken_back(context: Context, name: str, count: int) -> int:
    if context.json:
        output.as_json("prove", taken_back=count)
    else:
        print(f"{name}: {counted(count, 'validation record')} taken out of DNS")
    return 0


def _data(state: "PersistentState") -> dict[str, object]:
    record = state.record
    return {
        "name": state.name,
        "passes": state.passes,
        "place": state.placed.record.name,
        "value": state.placed.record.value,
        "account": state.wanted.account,
        "until": record.until if record is not None else None,
        "outdated": state.outdated,
        "findings": state.findings,
    }
