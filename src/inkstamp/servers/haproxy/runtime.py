"""HAProxy's runtime API: certificates changed in the running process (its management guide, section 9.3).

All that is changed goes through its transactions: nothing is served before every new certificate was accepted.
"""

import re
from collections.abc import Callable, Iterable, Mapping

from inkstamp.errors import ServerTrouble

Ask = Callable[[str], str]
"""Sends one request to the socket and returns the answer."""

_BATCH = 40
"""Requests in one line, which has to fit into HAProxy's buffer."""
_SHA1 = re.compile(r"^SHA1 FingerPrint: ([0-9A-Fa-f]+)", re.MULTILINE)
_FILE = re.compile(r"^Filename: \*?(.+)$", re.MULTILINE)
_PLAIN = re.compile(r"[^\s;\\]+")


def loaded(ask: Ask) -> dict[str, str]:
    """Return the certificates that the process has: by path, the leaf's SHA-1 in upper-case hexadecimal."""
    paths = [line for line in ask("show ssl cert").splitlines() if line and not line.startswith(("#", "*"))]
    found = {}
    for at in range(0, len(paths), _BATCH):
        answer = ask(";".join(f"show ssl cert {path}" for path in paths[at : at + _BATCH]))
        for block in re.split(r"(?m)^(?=Filename: )", answer):
            file, digest = _FILE.search(block), _SHA1.search(block)
            if file is not None:
                found[file[1].strip()] = digest[1].upper() if digest is not None else ""
    return {path: found.get(path, "") for path in paths}


def change(ask: Ask, new: Mapping[str, bytes], lists: Mapping[str, str], gone: Iterable[tuple[str, str]]) -> None:
    """Have the process serve new contents, add what it does not know yet, and forget what is gone.

    Args:
        ask: Speaks with it.
        new: By path, leaf, issuers and key as PEM.
        lists: For those that it does not know yet, the crt-list or folder that they belong to.
        gone: Crt-list or folder, and path.

    Raises:
        ServerTrouble: It refuses one; what was begun is given up, and all is served as before.

    """
    begun = []
    try:
        for path, data in new.items():
            if path in lists:
                _expect(ask(f"new ssl cert {_plain(path)}"), "New empty", path)
            begun.append(path)
            text = "\n".join(line for line in data.decode("ascii", "replace").splitlines() if line.strip())
            _expect(ask(f"set ssl cert {_plain(path)} <<\n{text}\n"), "Transaction", path)
    except ServerTrouble:
        for path in begun:
            ask(f"abort ssl cert {path}")
            if path in lists:
                ask(f"del ssl cert {path}")
        raise
    for path in new:
        _expect(ask(f"commit ssl cert {path}"), "Success", path)
        if path in lists:
            _expect(ask(f"add ssl crt-list {_plain(lists[path])} {path}"), "Success", path)
    for place, path in gone:
        _expect(ask(f"del ssl crt-list {_plain(place)} {_plain(path)}"), "deleted", path)
        _expect(ask(f"del ssl cert {path}"), "deleted", path)


def _plain(path: str) -> str:
    if _PLAIN.fullmatch(path) is None:
        raise ServerTrouble(f"the runtime API cannot name {path}", where=path, advice="use a path without blanks")
    return path


def _expect(answer: str, word: str, path: str) -> None:
    if word not in answer:
        raise ServerTrouble(
            f"HAProxy's runtime API refuses the certificate for {path}", where=path, said=answer.strip(),
            advice="see HAProxy's log",
        )  # fmt: skip
