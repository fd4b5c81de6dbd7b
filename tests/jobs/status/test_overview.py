"""Where certificates stand: of many, whoever needs somebody is listed and the others are counted."""

from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from inkstamp.cli.main import run
from inkstamp.clock import SystemClock
from inkstamp.files import private_folder
from inkstamp.home import Home
from inkstamp.ledger.records import EditionRecord, InstallState, OrderState
from inkstamp.ledger.sqlite import SqliteDatabase
from inkstamp.ledger.store import Ledger

NAMES = [f"site-{number:02d}" for number in range(51)]
LATE = NAMES[7]


@pytest.fixture
def many(tmp_path: Path) -> list[str]:
    """51 certificates, issued and installed, of which one is nearly over; returns the options that lead to them."""
    home, now = Home(private_folder(tmp_path / "home")), datetime.now(UTC).replace(microsecond=0)
    text = ['[authority.quayside]\ndirectory = "https://ca.test/"\n[server.front]\nkind = "nginx"\n']
    with closing(Ledger(SqliteDatabase(home.ledger), SystemClock())) as ledger:
        for name in NAMES:
            domain = f"{name}.saltmarsh.test"
            text.append(
                f'[certificate.{name}]\nnames = ["{domain}"]\nauthority = "quayside"\nvia = "front"\n'
                'install = ["front"]\n'
            )
            begin = now - timedelta(days=85 if name == LATE else 10)
            order = ledger.move_order(ledger.intend_order(name, "quayside", [domain]), OrderState.OPENED, url=name)
            edition = EditionRecord(
                certificate=name, number=1, names=(domain,), issuer="Intermediate", root="Root", serial=name,
                sha256=name.encode().hex().ljust(64, "0"), not_before=begin, not_after=begin + timedelta(days=90),
                authority="quayside",
            )  # fmt: skip
            ledger.add_edition(order, edition, "edition 1")
            ledger.installs.end(ledger.installs.begin(name, 1, ["front"]), InstallState.DONE, "installed", "on front")
            folder = private_folder(home.shelf / name / "0001")
            for file in ("key", "leaf"):
                (folder / f"{file}.pem").touch(mode=0o600)
    (tmp_path / "inkstamp.toml").write_text("".join(text))
    return ["--config", str(tmp_path / "inkstamp.toml"), "--home", str(home)]


def test_of_many_certificates_those_that_are_ok_are_counted_and_all_are_listed_when_asked_for(
    many: list[str], capsys: pytest.CaptureFixture[str]
) -> None:
    assert run([*many, "status"]) == 0
    short = capsys.readouterr().out
    told = [each for each in NAMES if each in short]
    assert len(told) == 2, "the one, and the one that is renewed next"
    assert LATE in told
    assert f"{LATE}      due" in short
    assert "next        inkstamp renew" in short
    assert "50 of 51 are ok: `inkstamp status --all` lists them" in short
    (last,) = set(told) - {LATE}
    assert short.splitlines()[-1].startswith("next renewal on 20")
    assert short.splitlines()[-1].endswith(f": {last}")
    assert run([*many, "status", "--all"]) == 0
    whole = capsys.readouterr().out
    assert [each for each in NAMES if f"{each} " in whole] == NAMES
