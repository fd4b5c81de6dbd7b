"""Words that nobody would type on purpose: each ends in a result or in one clear error, whatever it is given to."""

import os
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

import pytest

from inkstamp.cli.main import run
from inkstamp.clock import SystemClock
from inkstamp.errors import UsageError
from inkstamp.ledger.sqlite import SqliteDatabase
from inkstamp.ledger.store import Ledger

CONFIG = """
home = "home"
[authority.quayside]
directory = "https://ca.test/"
agree_terms = true
[authority.fogbell]
kind = "portal"
page = "https://fogbell.test/"
[server.store]
kind = "files"
files = [{ path = "/srv/store/tls/both.pem", form = "combined" }]
[certificate.club]
names = ["club.saltmarsh.test"]
authority = "quayside"
via = "by-hand"
proof = "dns-01"
"""
LINES = (
    "renew {}", "stamp {}", "order {}", "why {}", "why club --note {}", "undo {}", "install {}", "history {}",
    "revoke {}", "remove {}", "collect {}", "harden {}", "check {}", "check @{}", "adopt {}", "prove {}", "survey {}",
    "caa @{}", "status --group {}", "status --report {}", "calendar --picture {}", "certificate rename {} y",
    "certificate show {}", "certificate rename club {}", "server remove {}", "server show {}", "nameserver try {}",
    "messenger test {}", "authority show {}", "authority rollover {}", "authority deactivate {}",
    "authority change {} --email a@club.test", "export {} --form zip", "export club --form zip --into {}",
    "csr make a.club.test --into {}", "csr read {}", "csr make a.club.test --as {}", "backup {} --not-encrypted",
    "restore {}", "schedule put --into {}", "schedule {}", "enrol --group {} a.club.test",
    "enrol --group web --from {}",
    "machines forget {}", "ledger {}", "{}", "--home {} status", "--config {} status", "completion {}", "help {}",
)  # fmt: skip
WORDS = {
    "of no UTF-8": "\udcff", "too long": "a" * 300, "of control characters": "\x1b[2J\nx",
    "empty": "", "of blanks": " ",
    "of dots": "..", "this folder": ".", "a pipe": "pipe", "a link to a pipe": "link", "unknown": "nobody",
    "a portal": "fogbell", "an option": "--",
}  # fmt: skip


@pytest.mark.parametrize("word", WORDS.values(), ids=WORDS)
def test_a_word_that_makes_no_sense_is_told_and_is_no_internal_error(
    word: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "inkstamp.toml").write_text(CONFIG)
    (tmp_path / "in" / "here").mkdir(parents=True)
    monkeypatch.chdir(tmp_path / "in" / "here")
    os.mkfifo("pipe")
    Path("link").symlink_to("pipe")
    monkeypatch.setenv("INKSTAMP_CONFIG", str(tmp_path / "inkstamp.toml"))
    for each in ("_CRON_FOLDER", "_SYSTEM_UNITS"):
        monkeypatch.setattr(f"inkstamp.jobs.renewal.timer.{each}", tmp_path / "system")
    wrong = {}
    for line in LINES:
        status = run([each.format(word) for each in line.split(" ")])
        told = "".join(capsys.readouterr())
        if status not in {0, 1, 2} or "internal error" in told or not told or not is_harmless(told):
            wrong[line] = (status, told)
    assert wrong == {}
    assert Path("pipe").is_fifo(), "nothing takes the place of what is no file"
    assert Path("link").is_symlink()
    assert not (tmp_path / "system").exists()


def is_harmless(text: str) -> bool:
    return all(each.isprintable() or each == "\n" for each in text)


@pytest.mark.parametrize(
    ("line", "said"),
    [
        (("authority", "rollover", "nobody"), "there is no authority “nobody”"),
        (("authority", "rollover", "fogbell"), "“fogbell” is a portal"),
        (("authority", "deactivate", "nobody"), "there is no authority “nobody”"),
        (("status", "--report", "/"), "/ is a folder"),
        (("schedule", "put", "--into", ""), "argument --into: the path is empty"),
        (("--home", "", "status"), "argument --home: the path is empty"),
        (("--home", "a" * 300, "status"), "File name too long"),
    ],
)
def test_what_is_wrong_with_a_word_is_said(
    line: Sequence[str], said: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "inkstamp.toml").write_text(CONFIG)
    monkeypatch.setenv("INKSTAMP_CONFIG", str(tmp_path / "inkstamp.toml"))
    assert run(line) in {1, 2}
    assert said in " ".join(capsys.readouterr().err.split())


def test_a_name_that_no_ledger_can_hold_is_an_error_about_the_name(tmp_path: Path) -> None:
    with closing(Ledger(SqliteDatabase(tmp_path / "ledger.db"), SystemClock())) as ledger:
        for ask in (ledger.open_order, ledger.newest_edition, ledger.installs.of):
            with pytest.raises(UsageError, match="is not valid UTF-8"):
                ask("\udcff")


def test_a_folder_of_others_is_no_data_directory_and_keeps_its_mode_with_the_configuration_in_it(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """As / and /etc are: being made private, nobody else could use them any more."""
    shared = tmp_path / "etc"
    shared.mkdir()
    shared.chmod(0o755)
    (shared / "passwd").touch()
    config = shared / "inkstamp.toml"
    add = ("nameserver", "add", "primary", "kind=powerdns", "address=http://127.0.0.1:8081", f"key_file={tmp_path}/k")
    for line in (("status",), add, ("renew",), ("backup", str(tmp_path / "b"), "--not-encrypted")):
        assert run(("--home", str(shared), "--config", str(config), *line)) == 2, line
        assert "is no folder of Ink Stamp's own" in " ".join(capsys.readouterr().err.split())
    assert [each.name for each in shared.iterdir()] == ["passwd"]
    assert run(("--home", str(tmp_path / "home"), "--config", str(config), *add)) == 0, capsys.readouterr().err
    assert (shared.stat().st_mode & 0o777, config.stat().st_mode & 0o777) == (0o755, 0o600)
    empty = tmp_path / "made for it"
    (empty / "lost+found").mkdir(parents=True)
    empty.chmod(0o755)
    assert run(("--home", str(empty), "--config", str(config), "renew")) == 0
    assert empty.stat().st_mode & 0o777 == 0o700
