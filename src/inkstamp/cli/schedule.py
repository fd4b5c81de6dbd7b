"""Run `renew` regularly: by a systemd timer, or by cron where systemd is not.

    inkstamp schedule show     the timer's state, the last runs and the next
    inkstamp schedule put      install or update the timer
    inkstamp schedule print    print its files
    inkstamp schedule remove   remove it

As root it is a system timer, otherwise one of the user (systemd's, or an entry
in the user's crontab). In a container without systemd and cron, run:
inkstamp schedule --keep-running
"""

import argparse
import sys
from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.log import Log, tell_error
from inkstamp.cli.renew import counts, tell
from inkstamp.cli.setting import config_file, home_folder, open_runtime
from inkstamp.errors import InkStampError, UsageError

if TYPE_CHECKING:
    from inkstamp.jobs.renewal.timer import Schedule

_MOST_RUNS = 5


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("action", nargs="?", choices=("show", "put", "print", "remove"), default="show",
                        help="see above (default: %(default)s)")  # fmt: skip
    parser.add_argument("--keep-running", action="store_true", help="run `renew` repeatedly in the foreground")
    parser.add_argument(
        "--every",
        type=_hours,
        default=12.0,
        metavar="HOURS",
        help="longest pause between runs in hours (default: %(default)g)",
    )
    parser.add_argument("--cron", action="store_true", help="use cron even where systemd runs")
    parser.add_argument("--into", metavar="DIR", help="write the files into DIR; start nothing")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp schedule`; returns the exit status."""
    if options.keep_running:
        return _keep_running(context, timedelta(hours=options.every))
    from inkstamp.jobs.renewal import timer as job

    program, into = _program(), Path(options.into).absolute() if options.into else None
    with open_runtime(context) as runtime:
        if options.action == "remove":
            gone = job.remove(runtime, program, into=into)
            if context.json:
                output.as_json("schedule", removed=gone)
            else:
                print("\n".join(f"{each} is removed" for each in gone) or "there was no timer")
            return 0
        act = job.put if options.action == "put" else job.schedule
        found = act(runtime, program, cron=options.cron, into=into)
        config = runtime.configuration.current_or_empty()
        rules = job.sudoers(config, runtime.servers) if options.action == "print" else ""
    if context.json:
        output.as_json("schedule", schedule=found)
    elif options.action == "print":
        for path, text in found.files:
            print(f"# {path}\n{text}")
        if rules:
            print(f"# /etc/sudoers.d/inkstamp, for root to write\n{rules}")
    else:
        output.findings(found.findings)
        for name, each in zip(("before that", *[""] * _MOST_RUNS), _earlier(found)[:_MOST_RUNS], strict=False):
            print(output.field(name, each))
        print(output.field("runs", "twice a day, at times that differ from machine to machine"))
        if found.next_at is not None:
            print(output.field("next run", f"{found.next_at:%Y-%m-%d %H:%M} UTC"))
    wrong = [each.topic for each in found.findings if each.severity == "bad"]
    return 1 if (options.action == "show" and wrong) or (options.action == "put" and "timer" in wrong) else 0


def _earlier(found: "Schedule") -> list[str]:
    """Return the runs before the last one, in a line each."""
    return [f"{each.at:%Y-%m-%d %H:%M} UTC: {each.told}" for each in found.last.earlier] if found.last else []


def _hours(text: str) -> float:
    hours = float(text)
    if not 0.001 <= hours <= 24:
        raise argparse.ArgumentTypeError("must be from 0.001 to 24")
    return hours


def _keep_running(context: Context, every: timedelta) -> int:
    """Run until a signal comes; a run that it meets is gone on with by the next one."""
    import signal

    from inkstamp.clock import SystemClock
    from inkstamp.jobs.renewal.daemon import keep_running
    from inkstamp.ledger.run_summary import in_foreground

    def stop(*_signal: object) -> None:
        raise KeyboardInterrupt

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    log = Log(context.log)
    from inkstamp.home import Home

    home = Home(home_folder(context, config_file(context)))
    try:
        with in_foreground(home):
            for outcome, until in keep_running(lambda: open_runtime(context), SystemClock(), every):
                if isinstance(outcome, InkStampError):
                    tell_error(context, outcome)
                elif context.log == "text":
                    tell(context, outcome)
                else:
                    log.say("info", "", **counts(outcome))
                sys.stdout.flush()
                log.say("info", f"runs again at {until:%Y-%m-%d %H:%M} UTC", next_run=until)
    except KeyboardInterrupt:
        log.say("info", "stopped", text="stopped")
    return 0


def _program() -> str:
    """Return the path of this very program: a timer has no PATH to find it by."""
    program = Path(sys.argv[0])
    if not program.is_file():
        raise UsageError("the path of `inkstamp` is unknown", advice="run it by its absolute path")
    return str(program.absolute())
