"""Run `inkstamp` in this process and kill it with SIGKILL behind the Nth outside action or durable write.

usage: killer.py N COUNT_FILE ARGUMENT...   (N of 0 kills never; the number of places is written to COUNT_FILE)
"""

import itertools
import os
import signal
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from inkstamp.acme.session import Session
from inkstamp.cli.main import run
from inkstamp.ledger.sqlite import SqliteDatabase
from inkstamp.reach import dns_update, guarded
from inkstamp.reach.local import LocalHost

fatal, count_file = int(sys.argv[1]), Path(sys.argv[2])
numbers = itertools.count(1)


def place(what: str) -> None:
    number = next(numbers)
    with count_file.open("a") as out:
        out.write(f"{number} {what}\n")
    if number == fatal:
        os.kill(os.getpid(), signal.SIGKILL)


def behind(owner: Any, name: str) -> None:
    original: Callable[..., Any] = getattr(owner, name)

    def wrapped(*arguments: Any, **options: Any) -> Any:
        result = original(*arguments, **options)
        shown = [str(each) for each in arguments if isinstance(each, str | Path | list)]
        place(f"{name} {' '.join(shown)}"[:150])
        return result

    setattr(owner, name, wrapped)


behind(Session, "_once")  # an answer of the CA has arrived
behind(LocalHost, "run")  # the web server was tested or reloaded
behind(dns_update, "send_update")  # records were put into DNS, or taken out
behind(guarded, "_write")  # a proof stands
behind(guarded, "_remove_folders")  # a proof is gone
behind(os, "fsync")  # a file is written, and has not taken its place yet
behind(os, "replace")  # a file took its place
behind(os, "rename")  # an edition took its place

writing = SqliteDatabase.writing


@contextmanager
def ledger_write(self: SqliteDatabase) -> Iterator[None]:
    with writing(self):
        yield
    place("ledger")


SqliteDatabase.writing = ledger_write  # type: ignore[method-assign]
if "postgresql://" in Path(sys.argv[sys.argv.index("--config") + 1]).read_text():  # its library takes time to load
    from inkstamp.ledger.postgresql import PostgresqlDatabase

    shared_writing = PostgresqlDatabase.writing

    @contextmanager
    def shared_write(self: PostgresqlDatabase) -> Iterator[None]:
        with shared_writing(self):
            yield
        place("ledger")

    PostgresqlDatabase.writing = shared_write  # type: ignore[method-assign]
sys.exit(run(sys.argv[3:]))
