"""Where configuration and HOME are, and the runtime made of them."""

import argparse
import os
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.cli.context import Context
from inkstamp.cli.log import Log

if TYPE_CHECKING:
    from inkstamp.ledger.records import Selection
    from inkstamp.runtime import Runtime


def config_file(context: Context) -> Path:
    """Return the configuration file: --config, else INKSTAMP_CONFIG, else the usual place for this user."""
    given = context.config or os.environ.get("INKSTAMP_CONFIG")
    if given:
        return Path(given).absolute()
    if os.geteuid() == 0:
        return Path("/etc/inkstamp/inkstamp.toml")
    from platformdirs import user_config_path

    return user_config_path("inkstamp") / "inkstamp.toml"


def home_folder(context: Context, config: Path) -> Path:
    """Return HOME: --home, else INKSTAMP_HOME, else the configuration's `home`, else the usual place."""
    given = context.home or os.environ.get("INKSTAMP_HOME")
    if given:
        return Path(given).absolute()
    from inkstamp.config.toml_file import read_home

    if config.is_file():
        from inkstamp.config.toml_file import read_file

        configured = read_home(read_file(config), config)
        if configured:
            return Path(configured)
    if os.geteuid() == 0:
        return Path("/var/lib/inkstamp")
    from platformdirs import user_data_path

    return user_data_path("inkstamp")


@contextmanager
def open_runtime(context: Context, *, quiet: bool = False, only_looks: bool = False) -> Iterator["Runtime"]:
    """Make the runtime of one run; the ledger is told how the run ended.

    Args:
        context: The options that every command has.
        quiet: Whether its steps are not told.
        only_looks: Whether it can do with a data directory that cannot be written to.

    """
    from inkstamp.errors import InkStampError
    from inkstamp.progress import Silent
    from inkstamp.runtime import Runtime

    config = config_file(context)
    runtime = Runtime(
        config,
        home_folder(context, config),
        progress=Silent() if quiet else Log(context.log, context),
        command=context.command_line,
        only_looks=only_looks,
    )
    status = 1
    try:
        yield runtime
        status = 0
    except InkStampError as error:
        status = error.exit_status
        raise
    finally:
        runtime.close(status)


def at_once(text: str) -> int:
    """Read the number of an option `--at-once`."""
    number = int(text)
    if not 1 <= number <= 64:
        raise argparse.ArgumentTypeError("must be from 1 to 64")
    return number


def moment(text: str | None) -> datetime | None:
    """Read a date or a time of an option, local time where it says no other, or `now`; None where it was not given."""
    from inkstamp.errors import UsageError

    if text is None:
        return None
    if text == "now":
        return datetime.now(UTC)
    try:
        return datetime.fromisoformat(text).astimezone(UTC)
    except (ValueError, OverflowError) as error:
        raise UsageError(f"“{text}” is not a time", advice="write it like 2026-11-23 or 2026-11-23T14:05") from error


def roster_options(parser: argparse.ArgumentParser) -> None:
    """Declare the options that choose certificates of the roster."""
    parser.add_argument("--group", default="", metavar="GROUP", help="only certificates of this group")
    parser.add_argument("--customer", default="", metavar="CUSTOMER", help="only certificates of this customer")


def selection_of(options: argparse.Namespace) -> "Selection":
    """Return which certificates of the roster `roster_options` choose."""
    from inkstamp.ledger.records import Selection

    return Selection(options.group, options.customer)


def quiet_option(parser: argparse.ArgumentParser) -> None:
    """Declare the option that leaves out what is done step by step."""
    parser.add_argument("--quiet", action="store_true", help="print only failures and the summary")
