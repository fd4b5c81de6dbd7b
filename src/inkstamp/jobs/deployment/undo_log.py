"""Earlier installs and editions: how to go back to them, and which are not kept any longer."""

from collections.abc import Sequence
from pathlib import Path

from inkstamp.config.carrying import is_away
from inkstamp.config.model import Certificate
from inkstamp.errors import UsageError
from inkstamp.files import remove_tree
from inkstamp.home import Home
from inkstamp.jobs.deployment.context import DeploymentContext
from inkstamp.jobs.deployment.plan import Group, names_on
from inkstamp.ledger.records import EditionRecord
from inkstamp.servers import backup
from inkstamp.servers.interface import SharesPassphrases


def undoable(home: Home, name: str, token: str = "") -> list[Path]:
    """Return the folders with what one install changed, one a group; of the last install when none is named."""
    known = [(each, backup.kept(each) or {}) for each in backup.kept_folders(home.undo(name))]
    wanted = token or (known[-1][1].get("token") if known else None)
    return [folder for folder, manifest in reversed(known) if manifest.get("token") == wanted and manifest.get("done")]


def group_back(context: DeploymentContext, name: str, entry: Certificate, folder: Path) -> Group:
    """Return what takes an earlier install of some servers back.

    Where a server had no edition before, none is looked for afterwards: the shelf may have had one all the same.
    """
    manifest = backup.kept(folder) or {}
    changes = backup.reversed_changes(context.servers, folder, context.shelf.seal(name))
    _check(context, name, changes)
    names = {
        server: names_on(context, server, entry) if server in manifest["had"] else () for server in manifest["servers"]
    }
    return Group(names, manifest["copied"], tuple(changes), manifest["held"])


def _check(context: DeploymentContext, name: str, changes: Sequence[backup.Change]) -> None:
    """Refuse to take back what other certificates need; ServerTrouble."""
    for server in dict.fromkeys(each.server for each in changes):
        kind = context.servers.get(server)
        if isinstance(kind, SharesPassphrases):
            kind.check_undo(name, [each.file for each in changes if each.server == server])


def all_back(context: DeploymentContext, name: str) -> tuple[list[Path], list[Group]]:
    """Return what takes all installs of a certificate back, group by group, and the folder of each one's first.

    Raises:
        UsageError: What a server had before its first install is not kept.
        ServerTrouble: What was put into a file cannot be told apart any more.

    """
    by_servers: dict[tuple[str, ...], list[Path]] = {}
    for folder in backup.kept_folders(context.home.undo(name)):
        manifest = backup.kept(folder) or {}
        if manifest.get("done"):
            by_servers.setdefault(tuple(manifest["servers"]), []).append(folder)
    firsts = {servers: folders for servers, folders in by_servers.items() if any(map(backup.is_first, folders))}
    covered = {server for servers in firsts for server in servers}
    lost = [each for each in has_it(context, name) if each not in covered]
    if lost:
        raise UsageError(
            f"what {', '.join(lost)} had before the first install of “{name}” is not kept",
            advice="change its configuration by hand, then remove it with --servers leave",
        )
    groups = []
    for servers, folders in firsts.items():
        manifest = backup.kept(folders[0]) or {}
        changes = tuple(backup.first_state(context.servers, folders, context.shelf.seal(name)))
        _check(context, name, changes)
        groups.append(Group(dict.fromkeys(servers, ()), manifest["copied"], changes, manifest["held"]))
    return [next(filter(backup.is_first, folders)) for folders in firsts.values()], groups


def has_it(context: DeploymentContext, name: str) -> tuple[str, ...]:
    """Return the servers that have an edition of a certificate, by the ledger."""
    installs = context.ledger.installs
    return tuple(server for server in installs.of(name) if server and installs.installed(name, server) is not None)


def edition_before(context: DeploymentContext, name: str, folder: Path) -> EditionRecord | None:
    """Return the edition that the servers had before an install."""
    number = (backup.kept(folder) or {})["before"]
    return context.ledger.edition(name, number) if number else None


def drop_old_editions(context: DeploymentContext, name: str, entry: Certificate) -> None:
    """Remove the editions beyond those that are kept, but none that a server has; what led back to them goes too."""
    shelf = context.shelf
    there = shelf.numbers(name)
    gone = [number for number in there[: -entry.keep] if number != context.local_copy.current(name)]
    if gone:  # only then, since it takes reading all sites
        used = _in_use(context, name, entry)
        gone = [number for number in gone if number not in used]
    if not gone:
        return
    for folder in backup.kept_folders(context.home.undo(name)):
        manifest = backup.kept(folder) or {}
        if manifest.get("done") and manifest["before"] in gone:
            remove_tree(folder)
    for number in gone:
        shelf.remove(name, number)
    text = f"{'editions' if len(gone) > 1 else 'edition'} {', '.join(map(str, gone))}"
    context.ledger.note("dropped", text, name)


def _in_use(context: DeploymentContext, name: str, entry: Certificate) -> set[int | None]:
    """Return the editions that servers have, by the ledger or because a configuration names their files."""
    used = {context.ledger.installs.installed(name, server) for server in entry.install}
    folder = f"{context.shelf.of(name)}/"
    for server in entry.install:
        if is_away(context.config, server):
            continue
        for site in context.servers.get(server).sites():
            number = site.certificate_file.removeprefix(folder).partition("/")[0]
            if site.certificate_file.startswith(folder) and number.isdigit():
                used.add(int(number))
    return used
