"""Take a picture of each main command's output, from the demo's data, into docs/screenshots/.

    python tools/screenshots.py

Needs Debian's xvfb, xterm, fonts-dejavu-core, imagemagick and chromium. Each command runs in a real terminal; a
picture has its whole output and is as high as that needs, up to 1280 x 800 pixels. The acts of the demo are played one
after the other, so each picture shows the world as it is by then.
"""

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from inkstamp.demo.children import Children
from inkstamp.demo.scenario import ACTS
from inkstamp.demo.world import build, running

TARGET = Path(__file__).resolve().parent.parent / "docs" / "screenshots"
DISPLAY = ":97"
_PIXELS = 776
"""Of the screen's height, without a rim."""
COLUMNS, MOST_ROWS = 100, 42
"""Of the terminal, at a size of letters that is easily read; more rows get smaller ones."""
NAMES = {
    "inkstamp survey": "survey",
    "inkstamp precheck": "precheck",
    "inkstamp stamp rowing.saltmarsh.test": "stamp",
    "inkstamp check rowing.saltmarsh.test": "check",
    "inkstamp stamp museum.saltmarsh.test": "stamp-not-seen",
    "inkstamp order shop.saltmarsh.test": "order",
    "inkstamp prove shop.saltmarsh.test": "prove",
    "inkstamp why shop.saltmarsh.test": "why",
    "inkstamp collect": "collect",
    "inkstamp renew": "renew",
    "inkstamp revoke rowing.saltmarsh.test": "revoke",
    "inkstamp enrol": "enrol",
}
"""Which acts are kept as pictures, by the beginning of their command."""
MORE = {
    "status": "inkstamp status",
    "operating": "inkstamp schedule show; inkstamp backup {folder}/inkstamp.age --public-key {folder}/id.pub; "
    "inkstamp restore {folder}/inkstamp.age --private-key {folder}/id --preview; inkstamp status --healthy",
    "csr": "inkstamp csr make tides.saltmarsh.test '*.tides.saltmarsh.test' --organisation 'Saltmarsh Hosting' "
    "--state Kent --country GB --unit IT --into {folder}",
}
"""Commands beside those of the demo, in the world as it is at its end."""


def typed(command: str, environment: dict[str, str]) -> list[str]:
    """Run a command in a terminal of `COLUMNS` columns, and return the lines that it left there."""
    done = subprocess.run(
        ["script", "-q", "-e", "-c", f"stty cols {COLUMNS} rows 200; {command}", "/dev/null"],
        env=environment, capture_output=True, check=False, stdin=subprocess.DEVNULL,
    )  # fmt: skip
    return done.stdout.decode().replace("\r\n", "\n").splitlines()


def shoot(command: str, file: Path, environment: dict[str, str], *, most: int | None = None) -> None:
    """Run commands (parted by `; `) and take a picture of their whole output (of its first `most` lines)."""
    lines = []
    for each in command.split("; "):
        lines += [f"\033[1m$ {each}\033[0m", *typed(each, environment)]
    lines = lines[:most]
    while lines and not lines[-1].strip():
        lines.pop()
    page, done = file.with_suffix(".txt"), file.with_suffix(".done")
    page.write_text("\n".join(lines))
    size = min(11, int(_PIXELS / max(len(lines) + 1, 1) * 0.56))  # points for what a row may be high
    show = f"printf '\\033[?25l'; cat {shlex.quote(str(page))}; touch {shlex.quote(str(done))}; sleep 60"
    terminal = subprocess.Popen(
        ["xterm", "-fa", "DejaVu Sans Mono", "-fs", str(size), "-geometry", f"{COLUMNS}x{len(lines) + 1}+0+0",
         "-bg", "#fdfdf8", "-fg", "#202020", "-b", "12", "+sb", "-title", "picture", "-e", "bash", "-c", show],
        env=environment,
    )  # fmt: skip
    try:
        deadline = time.monotonic() + 60
        while not done.exists() and time.monotonic() < deadline:
            time.sleep(0.05)
        time.sleep(0.6)
        subprocess.run(["import", "-window", "picture", str(file)], check=True, env=environment)
    finally:
        terminal.terminate()
        terminal.wait()
        done.unlink(missing_ok=True)
        page.unlink()


def shoot_page(command: list[str], page: Path, environment: dict[str, str]) -> None:
    """Have a command write a page, and take a picture of it as a browser shows it."""
    subprocess.run([*command, "--report", str(page)], env=environment, check=False, capture_output=True)
    quiet = ["--disable-gpu", "--no-first-run", "--disable-background-networking", "--disable-component-update"]
    subprocess.run(
        ["chromium", "--headless", "--no-sandbox", *quiet, "--disable-sync", f"--user-data-dir={page.parent}/browser",
         "--window-size=1280,800", f"--screenshot={TARGET / 'report.png'}", page.as_uri()],
        env=environment, check=True, capture_output=True,
    )  # fmt: skip


def main() -> None:
    for program in ("Xvfb", "xterm", "import", "chromium"):
        if not shutil.which(program):
            raise SystemExit(f"{program} is missing: apt-get install xvfb xterm fonts-dejavu-core imagemagick chromium")
    TARGET.mkdir(parents=True, exist_ok=True)
    path = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    try:
        time.sleep(1)
        environment = {**os.environ, "DISPLAY": DISPLAY, "PATH": path}
        environment.pop("NO_COLOR", None)
        with tempfile.TemporaryDirectory(prefix="saltmarsh-") as folder:
            build(Path(folder))
            with Children() as children, running(Path(folder), children) as world:
                environment["INKSTAMP_CONFIG"] = str(world.config)
                taken: set[str] = set()
                for act in ACTS:
                    world.prepare(act.prepare)
                    command = act.typed(**world.known)
                    name = next((name for begin, name in NAMES.items() if command.startswith(begin)), "")
                    if name and name not in taken:  # a command that is repeated is shown as it was at first
                        taken.add(name)
                        shoot(command, TARGET / f"{name}.png", environment)
                    else:
                        subprocess.run(shlex.split(command), env=environment, check=False, capture_output=True)
                drawn = ["inkstamp", "calendar", "--picture", str(TARGET / "calendar.png")]
                subprocess.run(drawn, env=environment, check=True, capture_output=True)
                shoot_page(["inkstamp", "check"], Path(folder) / "report.html", environment)
                make = ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", f"{folder}/id"]
                subprocess.run(make, check=True, env=environment)
                for name, command in MORE.items():
                    shoot(command.replace("{folder}", folder), TARGET / f"{name}.png", environment)
        environment.pop("INKSTAMP_CONFIG")
        shoot("inkstamp --help", TARGET / "help.png", environment)
        shoot("inkstamp demo", TARGET / "demo.png", environment, most=MOST_ROWS)
    finally:
        screen.terminate()
        screen.wait()


if __name__ == "__main__":
    main()
