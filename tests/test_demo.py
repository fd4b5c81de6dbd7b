"""The demo: the whole job, with nginx and without, leaving nothing behind; and a kept world that comes up again."""

import os
import re
import shlex
import signal
import stat
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

import forked
import pytest
from spoken import parsers
from terminal import on_terminal
from world import inkstamp_program

OURS = "saltmarsh.test"
ENVIRONMENT = {name: value for name, value in os.environ.items() if not name.startswith("INKSTAMP_")}


def play(*arguments: str, temporary: Path) -> subprocess.CompletedProcess[str]:
    """Run the demo in a shell that is behind a proxy and lets everybody write."""
    return subprocess.run(
        [inkstamp_program(), "demo", *arguments], capture_output=True, text=True, timeout=120, check=False, umask=0,
        env=ENVIRONMENT | {"TMPDIR": str(temporary), "https_proxy": "http://127.0.0.1:9"},
    )  # fmt: skip


@dataclass(frozen=True)
class Kept:
    """A demo that was run to its end, and its world kept."""

    folder: Path
    ran: subprocess.CompletedProcess[str]


@pytest.fixture(scope="module")
def kept(tmp_path_factory: pytest.TempPathFactory) -> Kept:
    folder = tmp_path_factory.mktemp("demo")
    place = folder / "kept for later"
    return Kept(place, play("--keep", str(place), temporary=folder))


def test_the_demo_shows_both_ways_to_a_certificate_with_nginx(kept: Kept) -> None:
    done = kept.ran
    assert done.returncode == 0, done.stdout + done.stderr
    assert "the web server is nginx/" in done.stdout
    shown = re.findall(r"^\$ inkstamp (\w+)", done.stdout, re.MULTILINE)
    acts = ["survey", "authority", "precheck", "stamp", "check", "stamp", "why", "stamp", "stamp"]
    acts += [
        "authority",
        "order",
        "prove",
        "why",
        "collect",
        "stamp",
        "status",
        "renew",
        "status",
        "calendar",
        "revoke",
        "enrol",
        "stamp",
        "history",
    ]
    assert shown == [*acts, "demo"]  # the last one says how to come back to it
    assert "rowing.saltmarsh.test: warnings" in done.stdout
    assert "correct the A record in DNS" in " ".join(done.stdout.split())
    assert f"shop.{OURS}: edition 1 is on the shelf, from order 4" in done.stdout
    assert f"bakery.{OURS}: edition 2 on front" in done.stdout
    assert "all 4 are ok" in done.stdout
    assert f"rowing.{OURS}: edition 1 is revoked, key-compromise" in done.stdout
    written = [each for each in kept.folder.rglob("*") if not each.is_symlink()]
    assert [each for each in written if each.stat().st_mode & stat.S_IWOTH] == []
    home = kept.folder / "home"
    assert [each for each in home.rglob("*") if each.is_dir() and each.stat().st_mode & 0o077] == []


def test_where_nginx_is_not_installed_the_stand_in_takes_its_place_and_says_so_and_nothing_is_left(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    # The demo looks for nginx in PATH and in /usr/sbin; a machine without it is played by an interpreter that
    # finds none.
    script = (
        "import shutil, sys; which = shutil.which\n"
        "shutil.which = lambda name, **more: None if name == 'nginx' else which(name, **more)\n"
        "from inkstamp.cli.main import run; sys.exit(run(['demo']))"
    )
    done = subprocess.run(
        [sys.executable, "-c", script], capture_output=True, text=True, timeout=120, check=False,
        env=ENVIRONMENT | {"TMPDIR": str(tmp_path)},
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    assert "the simulated web server (nginx is not installed)" in " ".join(done.stdout.replace("# ", "").split())
    assert "all 4 are ok" in done.stdout
    assert list(tmp_path.iterdir()) == []


@pytest.mark.parametrize("option", [["--json"], ["--home", "/x"], ["--config", "/x"]])
def test_an_option_that_cannot_apply_to_the_demo_is_refused(option: list[str], tmp_path: Path) -> None:
    done = play(*option, temporary=tmp_path)
    assert done.returncode == 2
    assert "do not apply to the demo" in done.stderr


ELSEWHERE = re.compile(
    r"inkstamp (demo |authority add|ledger|machines|messenger test|schedule|revoke|prove shop|collect|"
    r"export .*--ask-passphrase|why shop --note|calendar --simulate|stamp |order |backup |restore |completion )"
)
"""Examples for another moment (an order that is open, a person who answers), or that would change this machine."""


def examples() -> list[list[str]]:
    """Return the examples of the help pages that can be typed in the demo's world at its end."""
    lines = [
        line.strip()
        for parser in parsers()
        for line in (parser.description or "").splitlines()
        if line.startswith("    inkstamp ") and not ELSEWHERE.search(line)
    ]
    return [shlex.split(re.split(r"  +", line)[0])[1:] for line in lines]


def test_a_kept_world_comes_up_again_and_takes_commands_by_hand(kept: Kept, tmp_path: Path) -> None:
    folder = kept.folder
    assert f"inkstamp demo --again {shlex.quote(str(folder))}" in kept.ran.stdout
    assert play("--keep", str(folder), temporary=tmp_path).returncode == 2  # never into a folder that holds something
    with subprocess.Popen(
        [inkstamp_program(), "demo", "--again", str(folder)], stdout=subprocess.PIPE, text=True, env=ENVIRONMENT
    ) as world:
        assert world.stdout is not None
        lines = [world.stdout.readline() for _ in range(6)]
        assert f"  export INKSTAMP_CONFIG={shlex.quote(f'{folder}/inkstamp.toml')}\n" in lines
        by_hand = ENVIRONMENT | {"INKSTAMP_CONFIG": str(folder / "inkstamp.toml")}
        for command in (["check", f"museum.{OURS}"], ["stamp", f"rowing.{OURS}", "--reissue"], ["renew"]):
            ran = forked.run([inkstamp_program(), *command], by_hand)
            assert ran.returncode == 0, ran.stderr
        work = tmp_path / "work"
        work.mkdir()
        wrong = {}
        for example in examples():
            command = [inkstamp_program(), *example]
            if example == ["stamp"]:  # it asks which sites are meant, and whether the plan is right
                status, told = on_terminal(command, by_hand, work, ["1", "yes"], seconds=60)
            else:
                ran = forked.run(command, by_hand, cwd=work)
                status, told = ran.returncode, ran.stderr
            if status not in {0, 1, 3}:
                wrong[shlex.join(example)] = told
        world.send_signal(signal.SIGTERM)
        assert world.wait(10) == 0
    assert wrong == {}
    assert play("--again", str(tmp_path / "nothing"), temporary=tmp_path).returncode == 2


def test_a_demo_that_is_stopped_half_way_leaves_no_process_and_no_folder(tmp_path: Path) -> None:
    with subprocess.Popen(
        [inkstamp_program(), "demo"], stdout=subprocess.PIPE, text=True, env=ENVIRONMENT | {"TMPDIR": str(tmp_path)}
    ) as demo:
        assert demo.stdout is not None
        for line in demo.stdout:
            if line.startswith("$ inkstamp authority"):
                break
        (folder,) = tmp_path.iterdir()
        web = int((folder / "web" / "web.pid").read_text())
        demo.send_signal(signal.SIGTERM)
        demo.stdout.read()
        assert demo.wait(15) == 130
    deadline = time.monotonic() + 5
    while Path(f"/proc/{web}").exists() and time.monotonic() < deadline:
        time.sleep(0.05)
    assert not Path(f"/proc/{web}").exists()
    assert list(tmp_path.iterdir()) == []


def test_the_world_is_made_in_the_temporary_folder_and_on_loopback_only(tmp_path: Path) -> None:
    from inkstamp.demo.children import Children
    from inkstamp.demo.world import build, running

    folder = Path(tempfile.mkdtemp(dir=tmp_path))
    build(folder)
    config = (folder / "inkstamp.toml").read_text()
    assert set(re.findall(r"\d+\.\d+\.\d+\.\d+", config)) == {"127.0.0.1"}
    assert (folder / "inkstamp.toml").stat().st_mode & 0o777 == 0o600
    with Children() as children, running(folder, children) as world:
        assert world.ca.directory_url.startswith("https://localhost:")
