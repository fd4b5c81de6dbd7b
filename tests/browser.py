"""A real browser, driven by its own driver (W3C WebDriver) over loopback."""

import json
import subprocess
import urllib.request
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from world import find_program, wait_for_port

from inkstamp.standins.ports import free_ports

_QUIET = ("--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-sync",
          "--disable-background-networking", "--disable-component-update")  # fmt: skip


@dataclass(frozen=True)
class Seen:
    """A page as a window shows it."""

    window: int
    page: int
    """Pixels from its left edge to its right one."""
    title: str
    shown: int
    """Headings of names that take up room."""


def widths_in_a_browser(file: Path, width: int, folder: Path) -> Seen:
    """Open a page in a window of that width."""
    script = (
        "const root = document.documentElement;"
        "return [window.innerWidth, root.scrollWidth, document.title,"
        " [...document.querySelectorAll('h3')].filter(each => each.getClientRects().length).length];"
    )
    return Seen(*in_a_browser(file, script, folder, width=width))


def in_a_browser(file: Path, script: str, folder: Path, *, width: int = 1280) -> Any:
    """Open a page in a window of that width, and return what a script in it returns."""
    (port,) = free_ports(1)
    log = folder / f"driver-{width}.log"
    with log.open("wb") as out:
        driver = subprocess.Popen([find_program("chromedriver"), f"--port={port}"], stdout=out, stderr=out)
    try:
        wait_for_port(port, driver, log)
        arguments = [*_QUIET, f"--window-size={width},900", f"--user-data-dir={folder}/browser-{width}"]
        options: dict[str, Any] = {"binary": find_program("chromium"), "args": arguments}
        if width < 500:  # no window is as narrow as a phone
            options["mobileEmulation"] = {"deviceMetrics": {"width": width, "height": 844, "pixelRatio": 2.0}}
        begun = _ask(port, "session", {"capabilities": {"alwaysMatch": {"goog:chromeOptions": options}}})
        session = f"session/{begun['sessionId']}"
        _ask(port, f"{session}/url", {"url": file.as_uri()})
        seen = _ask(port, f"{session}/execute/sync", {"script": script, "args": []})
        urllib.request.urlopen(
            urllib.request.Request(f"http://127.0.0.1:{port}/{session}", method="DELETE"), timeout=30
        ).close()
        return seen
    finally:
        driver.terminate()
        driver.wait(10)


def _ask(port: int, path: str, body: dict[str, Any]) -> Any:
    request = urllib.request.Request(
        f"http://127.0.0.1:{port}/{path}", json.dumps(body).encode(), {"Content-Type": "application/json"}
    )
    with urllib.request.urlopen(request, timeout=60) as reply:
        return json.load(reply)["value"]
