"""Where all certificates stand, as one page: what needs somebody first, searchable in a browser without a server."""

from pathlib import Path

from browser import in_a_browser
from simulated import SimulatedWorld

SCRIPT = """
const field = document.getElementById("find");
field.value = " PIER ";
field.dispatchEvent(new Event("input"));
const rows = [...document.querySelectorAll("tr.row")];
const root = document.documentElement;
return [rows.length, rows.filter(each => each.getClientRects().length).map(each => each.cells[0].textContent),
        document.getElementById("found").textContent, root.scrollWidth <= window.innerWidth,
        [...document.querySelectorAll("h2")].map(each => each.textContent)];
"""


def test_the_page_shows_what_needs_somebody_first_and_finds_a_name(world: SimulatedWorld, tmp_path: Path) -> None:
    assert world.run("stamp", "rowing.saltmarsh.test", "--as", "rowing").status == 0
    entry = '\n[certificate.{0}]\nnames = ["{0}.saltmarsh.test"]\nauthority = "quayside"\nvia = "front"\n'
    world.config.write_text(world.config.read_text() + entry.format("pier") + entry.format("lido"))
    page = tmp_path / "all.html"
    assert world.run("status", "--report", str(page)).status == 0
    text = page.read_text()
    assert "http://" not in text
    assert "src=" not in text
    assert text.index("inkstamp stamp pier") < text.index('id="others"') < text.rindex("rowing.saltmarsh.test")
    for width in (1280, 390):
        rows, found, told, fits, headings = in_a_browser(page, SCRIPT, tmp_path, width=width)
        assert (rows, found, told) == (3, ["pier"], "1 found")
        assert headings == ["Not ok", "When they expire", "Ok"]
        assert fits
