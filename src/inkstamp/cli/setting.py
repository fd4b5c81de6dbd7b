"""Where configuration and HOME are, and the runtime made of them."""

import argparse
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.cli.context import Context
from inkstamp.cli.log import Log

if TYPE_CHECKING:
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
def open_runtime(context: Context) -> Iterator["Runtime"]:
    """Make the runtime of one run; the ledger is told how the run ended."""
    from inkstamp.errors import InkStampError
    from inkstamp.runtime import Runtime

    config = config_file(context)
    runtime = Runtime(config, home_folder(context, config), progress=Log(context.log), command=context.command_line)
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
