"""Names that begin in a given way, read from a ledger in HOME without opening it for writing: for completion."""

import sqlite3
from collections.abc import Sequence
from pathlib import Path

_SECONDS = 0.05
"""Nobody waits for a ledger that is busy with a key pressed."""
_QUERIES = {
    "certificate": "SELECT certificate FROM enrolled WHERE certificate >= ? AND certificate < ? ORDER BY certificate",
    "group": "SELECT DISTINCT group_name FROM enrolled WHERE group_name >= ? AND group_name < ? ORDER BY group_name",
    "customer": "SELECT DISTINCT customer FROM enrolled WHERE customer >= ? AND customer < ? ORDER BY customer",
}
_AFTER_ALL = "\U0010ffff"


def enrolled_names(ledger: Path, kind: str, prefix: str, most: int) -> Sequence[str]:
    """Return certificates, groups or customers of the roster that begin with `prefix`, sorted.

    Of more than `most` it returns the first ones and the very last, so that what all of them begin with
    can still be read off. A ledger that is missing, busy or damaged has none.
    """
    query = _QUERIES[kind]
    try:
        database = sqlite3.connect(f"{ledger.as_uri()}?mode=ro", uri=True, timeout=_SECONDS)
    except sqlite3.Error:
        return ()
    try:
        bounds = (prefix, prefix + _AFTER_ALL)
        found = [each for (each,) in database.execute(f"{query} LIMIT {most + 1}", bounds) if each]
        if len(found) > most:
            found[most:] = [each for (each,) in database.execute(f"{query} DESC LIMIT 1", bounds)]
    except sqlite3.Error:
        return ()
    finally:
        database.close()
    return found
