"""What could be meant by the beginning of a name: for completion in a shell, where every millisecond is felt."""

from collections.abc import Iterable, Sequence
from pathlib import Path

from inkstamp.config.locate import entries_of
from inkstamp.home import Home
from inkstamp.ledger.known_names import enrolled_names

_MOST = 200
"""More than that nobody reads below a prompt."""
_LARGEST = 67_108_864
"""Bytes of a configuration that is looked through."""
_IN_ROSTER = frozenset({"certificate", "group", "customer"})


def candidates(config_file: Path, home: Home, kind: str, prefix: str) -> Sequence[str]:
    """Return names that begin with `prefix`: of the configuration, the roster and the shelf; no file is written.

    Of very many it returns the first and the very last, from which a shell can still tell what all begin with.

    Args:
        config_file: The configuration; one that cannot be read has no names.
        home: The data directory.
        kind: A table of the configuration, such as `certificate` or `server`; or `customer`.
        prefix: What was typed so far.

    """
    found = {*_configured(config_file, kind)}
    if kind in _IN_ROSTER:
        found |= {*enrolled_names(home.ledger, kind, prefix, _MOST)}
    if kind == "certificate":
        found |= {*_folders(home.shelf)}
    return _some_of(sorted(each for each in found if each.startswith(prefix) and each.isprintable()))


def editions(home: Home, certificate: str, prefix: str) -> Sequence[str]:
    """Return the numbers of a certificate's editions that begin with `prefix`, the newest first."""
    if not certificate or "/" in certificate or certificate.startswith("."):
        return ()
    numbers = sorted((int(each) for each in _folders(home.shelf / certificate) if each.isdecimal()), reverse=True)
    return [str(each) for each in numbers if str(each).startswith(prefix)][:_MOST]


def _configured(file: Path, table: str) -> Iterable[str]:
    try:
        with file.open(encoding="utf-8", errors="replace") as stream:
            return entries_of(stream.read(_LARGEST), table)
    except OSError:
        return ()


def _folders(folder: Path) -> Iterable[str]:
    try:
        return [each.name for each in folder.iterdir()]
    except OSError:
        return ()


def _some_of(names: list[str]) -> list[str]:
    return names if len(names) <= _MOST else [*names[:_MOST], names[-1]]
