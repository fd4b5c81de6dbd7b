"""What a shell offers at the Tab key, asked of the shells themselves, and the manual pages."""

import importlib.metadata
import os
import shlex
import sqlite3
import subprocess
from contextlib import closing
from pathlib import Path

import pytest
from world import find_program, inkstamp_program

from inkstamp.cli.main import COMMANDS
from inkstamp.home import Home
from inkstamp.jobs.status.candidates import candidates, editions
from inkstamp.ledger.sqlite import SqliteDatabase

_SECONDS = 60
_BASH = """source <(inkstamp completion bash)
COMP_LINE={line} COMP_POINT={end} COMP_TYPE=9 COMP_KEY=9 COMP_WORDS=({line_words}) COMP_CWORD={last}
_python_argcomplete inkstamp; printf '%s\\n' "${{COMPREPLY[@]}}"
"""
_ZSH = """zmodload zsh/zpty
zpty -b shell zsh -f -i
zpty -w shell 'PS1=; autoload -U compinit; compinit -u -D; source <(inkstamp completion zsh); echo rea''dy'
zpty -r shell seen '*ready*'
zpty -w -n shell {line}$'\\t'
zpty -r shell seen {wanted} && print -r -- "$seen"
zpty -w -n shell $'\\x15exit\\n'
"""


@pytest.fixture(scope="module")
def environment(tmp_path_factory: pytest.TempPathFactory) -> dict[str, str]:
    """An environment with a configuration, and a roster with more certificates than anybody reads."""
    folder = tmp_path_factory.mktemp("completion")
    config, home = folder / "inkstamp.toml", folder / "home"
    config.write_text('[server.front]\nkind = "nginx"\n[certificate.shop]\nnames = ["shop.saltmarsh.test"]\n')
    config.chmod(0o600)
    (home / "shelf" / "shop" / "0001").mkdir(parents=True)
    (home / "shelf" / "shop" / "0012").mkdir()
    home.chmod(0o700)
    SqliteDatabase(home / "ledger.db").close()
    rows = [(f"site{each:04d}.saltmarsh.test", f"group{each % 3}", "[]", "{}") for each in range(1000)]
    with closing(sqlite3.connect(home / "ledger.db")) as database, database:
        database.executemany(
            "INSERT INTO enrolled (certificate, group_name, customer, names, settings, since) "
            "VALUES (?, ?, '', ?, ?, 0)",
            rows,
        )
    path = f"{Path(inkstamp_program()).parent}:{os.environ['PATH']}"
    return {**os.environ, "PATH": path, "INKSTAMP_CONFIG": str(config), "INKSTAMP_HOME": str(home)}


def _offered(environment: dict[str, str], shell: str, script: str) -> str:
    ran = subprocess.run([find_program(shell), "-c", script], env=environment, capture_output=True, text=True,
                         timeout=_SECONDS, check=False)  # fmt: skip
    return ran.stdout


@pytest.mark.parametrize(
    ("line", "wanted"),
    [
        ("inkstamp sta", ["stamp", "status"]),
        ("inkstamp help rev", ["revoke"]),
        ("inkstamp status --rep", ["--report"]),
        ("inkstamp why sh", ["shop"]),
        ("inkstamp why site0999", ["site0999.saltmarsh.test"]),
        ("inkstamp renew --group g", ["group0", "group1", "group2"]),
        ("inkstamp stamp --install f", ["front"]),
        ("inkstamp server show f", ["front"]),
        ("inkstamp export shop --edition ", ["1", "12"]),
        ("inkstamp authority add fogbell --po", ["--portal"]),
    ],
)
def test_bash_and_fish_complete_commands_options_and_names(
    environment: dict[str, str], line: str, wanted: list[str]
) -> None:
    words = line.split(" ")
    script = _BASH.format(line=shlex.quote(line), end=len(line), line_words=shlex.join(words), last=len(words) - 1)
    assert sorted(_offered(environment, "bash", script).split()) == wanted
    asked = f"inkstamp completion fish | source; complete -C {shlex.quote(line)}"
    offered = [each.split("\t")[0] for each in _offered(environment, "fish", asked).splitlines()]
    assert sorted(offered) == wanted


def test_zsh_completes_a_name(environment: dict[str, str]) -> None:
    script = _ZSH.format(line=shlex.quote("inkstamp why sho"), wanted=shlex.quote("*shop*"))
    assert "inkstamp why shop" in _offered(environment, "zsh", script)


def test_of_many_names_a_shell_is_given_as_many_as_are_read_and_never_a_wrong_beginning(
    environment: dict[str, str],
) -> None:
    home = Home(Path(environment["INKSTAMP_HOME"]))
    found = candidates(Path(environment["INKSTAMP_CONFIG"]), home, "certificate", "site")
    assert len(found) <= 202
    assert (found[0], found[-1]) == ("site0000.saltmarsh.test", "site0999.saltmarsh.test")


@pytest.mark.parametrize("named", ["../shop", "..", ".", "", "shop/..", "/etc"])
def test_completion_looks_into_no_other_folder(environment: dict[str, str], named: str) -> None:
    assert editions(Home(Path(environment["INKSTAMP_HOME"])), named, "") == ()


def test_completion_of_what_is_not_there_is_empty_and_silent(tmp_path: Path) -> None:
    (tmp_path / "ledger.db").write_bytes(b"\x00 no database")
    assert candidates(tmp_path / "none.toml", Home(tmp_path), "certificate", "") == []
    assert sorted(each.name for each in tmp_path.iterdir()) == ["ledger.db"]


def test_each_command_has_a_manual_page_that_man_shows_without_a_complaint() -> None:
    installed = [each for each in importlib.metadata.files("inkstamp") or () if each.suffix == ".1"]
    assert {each.stem for each in installed} == {"inkstamp", *(f"inkstamp-{each}" for each in COMMANDS)}
    for each in installed:
        shown = subprocess.run(
            [find_program("man"), "--warnings", "-l", str(each.locate())],
            env={**os.environ, "MANWIDTH": "80", "LC_ALL": "C.UTF-8"}, capture_output=True, text=True,
            timeout=_SECONDS, check=False,
        )  # fmt: skip
        assert (shown.returncode, shown.stderr) == (0, ""), each
        assert max(map(len, shown.stdout.splitlines())) <= 86, each
        assert "SYNOPSIS" in shown.stdout
