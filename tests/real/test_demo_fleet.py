"""The demo of many machines: real PostgreSQL and nginx, a worker that dies, and nothing left behind."""

import os
import re
from pathlib import Path

import forked
import pytest
from world import inkstamp_program

ENVIRONMENT = {name: value for name, value in os.environ.items() if not name.startswith(("INKSTAMP_", "PG"))}


def test_the_demo_of_a_fleet_loses_a_worker_and_orders_nothing_twice(tmp_path: Path) -> None:
    done = forked.run([inkstamp_program(), "demo", "--fleet"], ENVIRONMENT | {"TMPDIR": "/tmp"}, timeout=300, data=b"")
    assert done.returncode == 0, done.stdout + done.stderr
    assert "\nKilled\n" in done.stdout
    assert "Quayside counts 4 orders and 4 certificates: nothing was ordered twice." in done.stdout
    assert re.search(r"roll-out +edition 2, step 2 of 2: web2, web3", done.stdout)
    assert "each edition has its own leaf and key" in done.stdout
    folder = re.search(r"All\s(?:#\s)?is on loopback, in\s(?:#\s)?(\S+)\.\n", done.stdout)
    assert folder is not None, done.stdout
    assert not Path(folder[1]).exists()
    assert str(Path.home()) not in done.stdout


@pytest.mark.parametrize(("lacking", "told"), [("psql", "needs PostgreSQL"), ("psycopg", "needs the package psycopg")])
def test_what_the_demo_of_a_fleet_needs_is_told_before_anything_is_begun(
    lacking: str, told: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from inkstamp.demo import database
    from inkstamp.errors import UsageError

    if lacking == "psql":
        monkeypatch.setattr(database, "_NEEDED", ("a-program-that-nobody-has",))
    else:
        monkeypatch.setitem(__import__("sys").modules, "psycopg", None)
    with pytest.raises(UsageError, match=told) as refused:
        database.find_programs()
    assert "inkstamp demo" in refused.value.advice
