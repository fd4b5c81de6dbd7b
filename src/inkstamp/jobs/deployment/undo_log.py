"""Earlier installs and editions: how to go back to them, and which are not kept any longer."""

from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.config.carrying import is_away
from inkstamp.config.model import Certificate
from inkstamp.files import remove_tree
from inkstamp.jobs import way_back
from inkstamp.jobs.deployment.plan import Group, names_on
from inkstamp.ledger.records import EditionRecord

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace


def undo_folder(home: Path, name: str) -> Path:
    """Return where what the installs of a certificate changed is kept."""
    return home / "undo" / name


def undoable(home: Path, name: str, token: str = "") -> list[Path]:
    """Return the folders with what one install changed, one a group; of the last install when none is named."""
    known = [(each, way_back.kept(each) or {}) for each in way_back.kept_folders(undo_folder(home, name))]
    wanted = token or (known[-1][1].get("token") if known else None)
    return [folder for folder, manifest in reversed(known) if manifest.get("token") == wanted and manifest.get("done")]


def group_back(workplace: "Workplace", entry: Certificate, folder: Path) -> Group:
    """Return what takes an earlier install of some servers back.

    Where a server had no edition before, none is looked for afterwards: the shelf may have had one all the same.
    """
    manifest = way_back.kept(folder) or {}
    changes = way_back.reversed_changes(workplace.servers, folder)
    names = {
        server: names_on(workplace, server, entry) if server in manifest["had"] else ()
        for server in manifest["servers"]
    }
    return Group(names, manifest["copied"], tuple(changes))


def edition_before(workplace: "Workplace", name: str, folder: Path) -> EditionRecord | None:
    """Return the edition that the servers had before an install."""
    number = (way_back.kept(folder) or {})["before"]
    return workplace.ledger.edition(name, number) if number else None


def drop_old_editions(workplace: "Workplace", name: str, entry: Certificate) -> None:
    """Remove the editions beyond those that are kept, but none that a server has; what led back to them goes too."""
    shelf = workplace.shelf
    there = shelf.numbers(name)
    gone = [number for number in there[: -entry.keep] if number != shelf.current(name)]
    if gone:  # only then, since it takes reading all sites
        used = _in_use(workplace, name, entry)
        gone = [number for number in gone if number not in used]
    if not gone:
        return
    for folder in way_back.kept_folders(undo_folder(workplace.home, name)):
        manifest = way_back.kept(folder) or {}
        if manifest.get("done") and manifest["before"] in gone:
            remove_tree(folder)
    for number in gone:
        remove_tree(shelf.edition(name, number))
    text = f"{'editions' if len(gone) > 1 else 'edition'} {', '.join(map(str, gone))}"
    workplace.ledger.note("dropped", text, name)


def _in_use(workplace: "Workplace", name: str, entry: Certificate) -> set[int | None]:
    """Return the editions that servers have, by the ledger or because a configuration names their files."""
    used = {workplace.ledger.installs.installed(name, server) for server in entry.install}
    folder = f"{workplace.shelf.of(name)}/"
    for server in entry.install:
        if is_away(workplace.config, server):
            continue
        for site in workplace.server(server).sites():
            number = site.certificate_file.removeprefix(folder).partition("/")[0]
            if site.certificate_file.startswith(folder) and number.isdigit():
                used.add(int(number))
    return used
