"""What is printed: wrapped at the width, without anything that could steer a terminal."""

import io
import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.cli import output
from inkstamp.cli.main import COMMANDS, run
from inkstamp.cli.streams import HarmlessStream
from inkstamp.errors import CaProblem
from inkstamp.findings import bad


@given(st.text(max_size=300), st.sampled_from(["  ", "  said   "]))
def test_no_text_of_a_stranger_reaches_the_terminal_as_a_control_character(text: str, lead: str) -> None:
    shown = output.wrapped(text, lead, " " * 9)
    assert all(char.isprintable() or char == "\n" for char in shown)
    assert all(line == "" or line.startswith(" ") for line in shown.split("\n"))


def test_an_error_is_told_in_the_same_order_always(capsys: pytest.CaptureFixture[str]) -> None:
    trouble = CaProblem(
        "the CA refused", where="https://ca.test/o/1", said="caa: no\n  a.test: \033[31mred", advice="ask"
    )
    trouble.findings = (bad("validation", "a.test", "is not seen", "fix it"),)
    output.error(trouble)
    assert capsys.readouterr().err == (
        "inkstamp: the CA refused\n"
        "  bad   a.test: is not seen\n"
        "        fix: fix it\n"
        "  at     https://ca.test/o/1\n"
        "  said   caa: no\n"
        "           a.test: ·[31mred\n"
        "  fix    ask\n"
    )


def test_a_table_lines_up_and_its_last_column_is_cut_at_the_width(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("COLUMNS", "60")
    output.table(("name", "names"), [["rowing", "a" * 100], ["b", "c"]])
    lines = capsys.readouterr().out.splitlines()
    assert [line.index("  ", 1) < 8 for line in lines[:1]] == [True]
    assert lines[2] == "rowing  " + "a" * 51 + "…"
    assert lines[3] == "b       c"
    assert max(map(len, lines)) == 60


class Terminal(io.StringIO):
    def isatty(self) -> bool:
        return True


def test_colour_is_for_terminals_and_not_against_the_users_will(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TERM", "xterm")
    monkeypatch.delenv("NO_COLOR", raising=False)
    finding = bad("validation", "a.test", "is not seen")
    assert "\033[31m" in output.finding(finding, Terminal())
    assert "\033" not in output.finding(finding, io.StringIO())
    monkeypatch.setenv("NO_COLOR", "1")
    assert "\033" not in output.finding(finding, Terminal())


@pytest.mark.parametrize(
    ("environment", "coloured"),
    [
        ({"TERM": "xterm"}, True),
        ({"TERM": "xterm", "NO_COLOR": "1"}, False),
        ({"TERM": "dumb", "COLORTERM": "truecolor"}, False),
        ({"COLORTERM": "truecolor"}, True),
        ({}, False),
        ({"TERM": "xterm", "INKSTAMP_PLAIN": "1"}, False),
    ],
)
def test_a_terminal_is_given_colour_where_it_shows_colour(
    monkeypatch: pytest.MonkeyPatch, environment: dict[str, str], coloured: bool
) -> None:
    for name in ("TERM", "COLORTERM", "NO_COLOR", "INKSTAMP_PLAIN"):
        monkeypatch.delenv(name, raising=False)
    for name, value in environment.items():
        monkeypatch.setenv(name, value)
    assert output.coloured(Terminal()) is coloured


WIDE = ["例え.テスト", "naïve.test", "пример.test", "e\u0301tude.test", "한글.test", "plain.test", "“quoted”…"]


@pytest.mark.parametrize(
    ("text", "columns"),
    [("plain", 5), ("例え", 4), ("한글", 4), ("e\u0301", 1), ("пример", 6), ("“…”", 3), ("\uff21", 2)],
)
def test_a_text_takes_the_columns_that_a_terminal_gives_it(text: str, columns: int) -> None:
    assert output.width_of(text) == columns


@pytest.mark.parametrize("columns", [20, 60, 80, 120, 200, 300])
def test_wide_and_combining_characters_line_up_at_any_width(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch, columns: int
) -> None:
    monkeypatch.setenv("COLUMNS", str(columns))
    output.table(("name", "state", "names"), [[each, "ok", f"{each} " * 40] for each in WIDE])
    lines = capsys.readouterr().out.splitlines()
    shown = min(max(columns, 60), 200)
    assert {output.width_of(line) for line in lines[1:]} <= set(range(shown - 2, shown + 1))
    at = {output.width_of(line[: line.index("ok")]) for line in lines[2:]}
    assert len(at) == 1
    text = output.wrapped(" ".join(WIDE * 10), "  bad   ", " " * 8)
    assert max(map(output.width_of, text.splitlines())) <= min(shown, 110)
    assert all(each in text for each in WIDE)


def test_for_a_screen_reader_a_row_is_a_line_of_headings_and_cells_and_nothing_is_drawn(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("INKSTAMP_PLAIN", "1")
    output.table(("week from", "renewed", "", "names"), [["2026-11-23", "3", "###", "-"], ["2026-11-30", "0", "", "a"]])
    assert capsys.readouterr().out == "week from: 2026-11-23; renewed: 3\nweek from: 2026-11-30; renewed: 0; names: a\n"
    assert output.branch(1) == "   issued by: "
    assert not output.redraws(Terminal())


ACTIONS = ["csr make", "csr show", "authority add", "authority show"]


@pytest.mark.parametrize("command", [*COMMANDS, *ACTIONS])
def test_the_help_of_every_command_fits_eighty_columns(
    command: str, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("COLUMNS", "80")
    assert run([*command.split(), "--help"]) == 0
    shown = capsys.readouterr().out
    assert "everywhere:" in shown
    assert max(map(len, shown.splitlines())) <= 80


def test_whatever_is_printed_neither_steers_a_terminal_nor_forges_a_line_of_the_journal() -> None:
    written = io.StringIO()
    stream = HarmlessStream(written)
    stream.write("\033[32m  good\033[0m \033[2J\u202eevil\x9b1m\n<0>panic\n  <0>not at the beginning\n")
    stream.write("<3>forged\n")
    stream.write_entry("<6>", "one\n<0>two\udcff")
    assert written.getvalue() == (
        "\033[32m  good\033[0m ·[2J·evil·1m\n·<0>panic\n  <0>not at the beginning\n·<3>forged\n<6>one\n<6><0>two·\n"
    )


def test_json_escapes_what_does_not_print_and_comes_back_the_same(capsys: pytest.CaptureFixture[str]) -> None:
    odd = "m\udcfcller \x1b[2J \u202e \u2028 😀"
    output.as_json("survey", path=odd)
    text = capsys.readouterr().out
    assert text.replace("\n", "").isprintable()
    assert json.loads(text)["path"] == odd


@pytest.mark.parametrize(
    "command",
    [
        ("check", "club.saltmarsh.test"),
        ("check", "club.saltmarsh.test", "--quick"),
        ("check", "club.saltmarsh.test", "--at", "127.0.0.1"),
        ("check", "smtp://club.saltmarsh.test", "tide.saltmarsh.test"),
        ("caa", "club.saltmarsh.test"),
        ("survey",),
        ("survey", "--live"),
    ],
    ids=" ".join,
)
def test_looking_needs_no_configuration_and_a_wrong_path_is_an_error_only_where_one_is_needed(
    command: tuple[str, ...], capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    at = ("--config", str(tmp_path / "inkstamp.toml"), "--home", str(tmp_path / "home"))
    run((*at, *command))
    said = capsys.readouterr()
    assert "cannot read the configuration" not in said.out + said.err
    assert run((*at, "status")) == 2
    assert "cannot read the configuration" in capsys.readouterr().err
    assert not (tmp_path / "home").exists()
