"""Files that go into a shared ledger are sealed before they leave this process: a dump of the database gives no key.

AES-256-GCM (NIST SP 800-38D) with a fresh nonce for each, and with what the file is as associated data, so that no
sealed file can be put into another's place. The keys for it come from a file, or from a program of the user's own that
wraps them, as a KMS or an HSM does.
"""

import base64
import binascii
import os
import threading
from collections.abc import Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

import msgspec

from inkstamp.errors import ConfigurationError, LedgerTrouble
from inkstamp.files import read_secret
from inkstamp.ledger.interface import Database
from inkstamp.printable import one_line

if TYPE_CHECKING:
    from inkstamp.reach.interface import Host

_NONCE = 12
_KEY = 32
_MOST_KEYS = 16
_LONGEST_ID = 64
_PROGRAM_SECONDS = 30.0


class SealKeys(Protocol):
    """The keys that files are sealed with, by their ids."""

    def current(self) -> str:
        """Return the id of the key that files are sealed with from now on."""
        ...

    def get(self, key_id: str) -> bytes:
        """Return a key; ConfigurationError where there is none of that id here."""
        ...


def sealed(keys: SealKeys, data: bytes, subject: str) -> tuple[str, bytes]:
    """Seal data as what it is about; returns the key's id and what can be stored anywhere."""
    from cryptography.hazmat.primitives.ciphers.aead import AESGCM  # noqa: PLC0415  a run with nothing due seals nothing

    key_id, nonce = keys.current(), os.urandom(_NONCE)
    return key_id, nonce + AESGCM(keys.get(key_id)).encrypt(nonce, data, subject.encode("utf-8", "surrogateescape"))


def opened(keys: SealKeys, key_id: str, stored: bytes, subject: str) -> bytes:
    """Open what `sealed` returned.

    Raises:
        ConfigurationError: The key that it was sealed with is not here.
        LedgerTrouble: It was changed, or belongs elsewhere.

    """
    from cryptography.exceptions import InvalidTag  # noqa: PLC0415  as above
    from cryptography.hazmat.primitives.ciphers.aead import AESGCM  # noqa: PLC0415  as above

    try:
        associated = subject.encode("utf-8", "surrogateescape")
        return AESGCM(keys.get(key_id)).decrypt(stored[:_NONCE], stored[_NONCE:], associated)
    except (InvalidTag, ValueError) as error:
        raise LedgerTrouble(
            f"{subject} in the shared ledger was changed, or sealed with another key of the id “{key_id}”",
            where="the shared ledger", advice="see what else is: inkstamp ledger verify; then restore a backup of the"
            " database, or order that certificate again",
        ) from error  # fmt: skip


class KeyFile:
    """Keys in a file that nobody else may read: `id base64` a line; the first seals, all of them open."""

    def __init__(self, file: Path) -> None:
        self._file = file

    @cached_property
    def _keys(self) -> Mapping[str, bytes]:
        found: dict[str, bytes] = {}
        for number, line in enumerate(read_secret(self._file).decode("utf-8", "replace").splitlines(), 1):
            words = line.split()
            if not words or words[0].startswith("#"):
                continue
            key = _decoded(words[1]) if len(words) == 2 else b""
            if len(key) != _KEY or words[0] in found or len(words[0]) > _LONGEST_ID:
                raise ConfigurationError(
                    "a line of the sealing keys is none, or its id is there twice", where=f"{self._file}:{number}",
                    advice="write an id, a blank and 32 random bytes as base64: openssl rand -base64 32",
                )  # fmt: skip
            found[words[0]] = key
        if not 0 < len(found) <= _MOST_KEYS:
            raise ConfigurationError(
                f"{self._file} holds {len(found) or 'no'} sealing keys, of which there may be {_MOST_KEYS}",
                where=str(self._file), advice="write an id, a blank and 32 random bytes as base64, a line each",
            )  # fmt: skip
        return found

    def current(self) -> str:
        return next(iter(self._keys))

    def get(self, key_id: str) -> bytes:
        if key_id not in self._keys:
            raise ConfigurationError(
                f"the sealing key “{key_id}” is not here", where=str(self._file),
                advice="add its line from a machine that has it, or from a backup; where a program has wrapped it, name"
                " that too (seal_program), with seal_with = \"file\", then: inkstamp ledger reseal",
            )  # fmt: skip
        return self._keys[key_id]


class KeyProgram:
    """Data keys in the database, each wrapped by a program of the user's own, which is asked once a run for each.

    It is told `{"format": 1, "action": "wrap", "key": BASE64}` and answers `{"done": true, "wrapped": TEXT}`; told
    `{"format": 1, "action": "unwrap", "wrapped": TEXT}` it answers `{"done": true, "key": BASE64}`.
    """

    def __init__(self, database: Database, host: "Host", command: Sequence[str]) -> None:
        self._database = database
        self._host = host
        self._command = tuple(command)
        self._open: dict[str, bytes] = {}
        self._asking = threading.RLock()

    def current(self) -> str:
        with self._asking:
            row = self._database.row("SELECT id FROM seal_key ORDER BY made DESC, id DESC LIMIT 1")
            return str(row["id"]) if row is not None else self.make()

    def make(self) -> str:
        """Make a new data key, which seals from now on; returns its id."""
        key = os.urandom(_KEY)
        wrapped = self._ask({"action": "wrap", "key": base64.b64encode(key).decode()}, "wrapped")
        with self._database.writing():
            row = self._database.row("SELECT count(*) AS many FROM seal_key")
            key_id = f"data-{(row['many'] if row is not None else 0) + 1}"
            self._database.insert("seal_key", id=key_id, wrapped=wrapped, made=row["many"] + 1 if row else 1)
        self._open[key_id] = key
        return key_id

    def has(self, key_id: str) -> bool:
        """Tell whether a key is one of those that the program has wrapped."""
        with self._asking:
            known = key_id in self._open
            return known or self._database.row("SELECT id FROM seal_key WHERE id = :id", {"id": key_id}) is not None

    def get(self, key_id: str) -> bytes:
        with self._asking:
            if key_id not in self._open:
                row = self._database.row("SELECT wrapped FROM seal_key WHERE id = :id", {"id": key_id})
                if row is None:
                    raise ConfigurationError(
                        f"the sealing key “{key_id}” is not in the database", where="[ledger]",
                        advice="if it is one of a file, name that too (seal_key_file), then: inkstamp ledger reseal",
                    )  # fmt: skip
                key = _decoded(self._ask({"action": "unwrap", "wrapped": row["wrapped"]}, "key"))
                if len(key) != _KEY:
                    raise self._trouble("what it unwrapped is no key of 32 bytes")
                self._open[key_id] = key
            return self._open[key_id]

    def _ask(self, told: Mapping[str, str], wanted: str) -> str:
        """Ask the program; nothing of its output but its own error is ever shown, since there may be a key in it."""
        from inkstamp.reach.answers import read_json  # noqa: PLC0415  where a program is asked alone

        ran = self._host.run(self._command, _PROGRAM_SECONDS, msgspec.json.encode({"format": 1, **told}))
        answer = read_json(ran.output.encode("utf-8", "replace")) if ran.status == 0 else None
        if not isinstance(answer, dict):
            raise self._trouble(f"exit status {ran.status}" if ran.status else "its answer is no JSON object")
        value = answer.get(wanted)
        if answer.get("done") is not True or not isinstance(value, str):
            raise self._trouble(one_line(str(answer.get("error") or f"its answer has no “{wanted}”"), 300))
        return value

    def _trouble(self, said: str) -> ConfigurationError:
        return ConfigurationError(
            "the program that wraps sealing keys failed", where=" ".join(self._command), said=said,
            advice="try it by hand with the JSON of docs/fleet.md on its standard input",
        )  # fmt: skip


class BothKeys:
    """Data keys that a program wraps, and those of a file: one sort seals, both open what was sealed with them."""

    def __init__(self, program: KeyProgram, file: KeyFile, *, with_file: bool) -> None:
        self._program = program
        self._file = file
        self.sealing: KeyProgram | KeyFile = file if with_file else program
        """Those that seal."""

    def current(self) -> str:
        return self.sealing.current()

    def get(self, key_id: str) -> bytes:
        return self._program.get(key_id) if self._program.has(key_id) else self._file.get(key_id)


def _decoded(text: str) -> bytes:
    try:
        return base64.b64decode(text, validate=True)
    except (binascii.Error, ValueError):
        return b""
