"""Read `inkstamp.toml` into data, and say of each mistake what, where and what instead."""

import difflib
import enum
import hashlib
import re
import tomllib
import types
import typing
from collections.abc import Iterable, Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

import msgspec

from inkstamp import __version__
from inkstamp.config.locate import line_of
from inkstamp.config.model import (
    BY_HAND,
    Authority,
    Certificate,
    Configuration,
    Nameserver,
    Program,
    Section,
    Server,
    View,
)
from inkstamp.config.templates import PLACEHOLDERS, unknown_placeholders
from inkstamp.errors import ConfigurationError, FileTrouble, NameTrouble
from inkstamp.files import private_folder, read_bytes, write_bytes
from inkstamp.pki.names import normalise_all
from inkstamp.pki.subject import Subject

_ENTRY = re.compile(r"[a-z0-9][a-z0-9-]{0,62}")
_TABLES: dict[str, type[Section]] = {
    "authority": Authority,
    "server": Server,
    "nameserver": Nameserver,
    "program": Program,
    "certificate": Certificate,
}
_PATHS = {
    Authority: ("trust",),
    Server: ("program", "main_file", "prefix"),
    Nameserver: ("key_file",),
    View: ("roots",),
}
_PORTAL_KEYS = ("page", "path", "lines", "record", "value")
_LIMIT = 67_108_864


class _Copy(msgspec.Struct, frozen=True):
    """A parsed configuration, kept in HOME, good only for the very bytes it was made from."""

    made_from: str
    configuration: Configuration


def is_entry_name(text: str) -> bool:
    """Tell whether `text` may name an entry; it becomes a folder's name, so little is allowed."""
    return _ENTRY.fullmatch(text) is not None


def _allowed(kind: type[Section], key: str) -> str:
    """Say which values a key takes, where it takes few."""
    known = typing.get_type_hints(kind).get(key)
    if typing.get_origin(known) is types.UnionType or typing.get_origin(known) is typing.Union:
        known = next(each for each in typing.get_args(known) if each is not type(None))  # a key that may be left out
    if isinstance(known, type) and issubclass(known, enum.Enum):
        return "known values: " + ", ".join(member.value for member in known)
    if typing.get_origin(known) is typing.Literal:
        return "known values: " + ", ".join(typing.get_args(known))
    return "correct the value"


class _Reader:
    """One pass over one file; knows what to say about mistakes in it."""

    def __init__(self, text: str, file: Path) -> None:
        self._text = text
        self._file = file

    def fail(self, what: str, path: tuple[str, ...], advice: str) -> ConfigurationError:
        where = f"{self._file}, line {line_of(self._text, path)}"
        return ConfigurationError(what, where=where, advice=advice)

    def check_keys(self, given: Iterable[str], known: Iterable[str], path: tuple[str, ...]) -> None:
        allowed = list(known)
        for key in given:
            if key not in allowed:
                near = difflib.get_close_matches(key, allowed, n=1, cutoff=0.5)
                hint = f"did you mean “{near[0]}”? " if near else ""
                place = f" in [{'.'.join(path)}]" if path else ""
                raise self.fail(f"unknown key “{key}”{place}", (*path, key), f"{hint}known here: {', '.join(allowed)}")

    def section(self, kind: type[Section], given: object, path: tuple[str, ...]) -> Any:
        if not isinstance(given, dict):
            raise self.fail(f"[{'.'.join(path)}] must be a table", path, f"write [{'.'.join(path)}] and keys below")
        self.check_keys(given, kind.__struct_fields__, path)
        if isinstance(given.get("subject"), dict):
            self.check_keys(given["subject"], Subject.__slots__, (*path, "subject"))
        for key in _PATHS.get(kind, ()):
            value = given.get(key)
            if isinstance(value, str) and value and (key != "program" or "/" in value):
                given[key] = str(self._file.parent / value)
        try:
            return msgspec.convert(given, kind)
        except msgspec.ValidationError as error:
            said, _, at = str(error).partition(" - at `$.")
            key = re.split(r"[.\[`]", at)[0] if at else ""
            missing = re.search(r"missing required field `(\w+)`", said)
            what = f"[{'.'.join(path)}] lacks the key “{missing[1]}”" if missing else f"“{key}” is wrong: {said}"
            advice = f"add a line {missing[1]} = …" if missing else _allowed(kind, key)
            raise self.fail(what, (*path, key) if key else path, advice) from error

    def subject(self, given: dict[str, object]) -> Subject:
        try:
            return msgspec.convert(given, Subject)
        except msgspec.ValidationError as error:
            said, _, at = str(error).partition(" - at `$.")
            raise self.fail(
                f"“{at.rstrip('`')}” is wrong: {said}", ("subject", at.rstrip("`")), "write text"
            ) from error

    def entries(self, table: str, given: object) -> dict[str, Any]:
        if not isinstance(given, dict):
            raise self.fail(f"“{table}” must hold tables", (table,), f"write [{table}.NAME] and keys below it")
        found = {}
        for name, entry in given.items():
            if not is_entry_name(name):
                raise self.fail(
                    f"“{name}” cannot be the name of a {table}",
                    (table, name),
                    "use lower-case letters, digits and hyphens, 63 at most",
                )
            found[name] = self.section(_TABLES[table], entry, (table, name))
        return found

    def refers(self, value: str, table: str, known: Mapping[str, object], path: tuple[str, ...]) -> None:
        if value not in known:
            near = difflib.get_close_matches(value, known, n=1)
            hint = f"did you mean “{near[0]}”?" if near else f"add a table [{table}.{value}], or name one there is"
            raise self.fail(f"there is no {table} “{value}”", path, hint)

    def authority(self, name: str, entry: Authority) -> None:
        """Refuse keys of the other kind of authority, and a portal's rule that cannot be filled in."""
        path = ("authority", name)
        if entry.kind == "acme" and not entry.directory:
            raise self.fail(
                f"[authority.{name}] lacks the key “directory”", path, 'add a line directory = …, or kind = "portal"'
            )
        wrong = ("directory", "trust", "agree_terms") if entry.kind == "portal" else _PORTAL_KEYS
        for key in wrong:
            if getattr(entry, key):
                raise self.fail(f"“{key}” does not apply to kind = “{entry.kind}”", (*path, key), "take the line out")
        for key, template in (*(("lines", line) for line in entry.lines),
                              *((key, getattr(entry, key)) for key in ("path", "record", "value"))):  # fmt: skip
            unknown = unknown_placeholders(template)
            if unknown:
                known = ", ".join(f"{{{each}}}" for each in PLACEHOLDERS)
                raise self.fail(
                    f"“{key}” has the unknown placeholder {{{unknown[0]}}}", (*path, key), f"known: {known}"
                )
        for first, second in (("path", "lines"), ("record", "value")):
            if bool(getattr(entry, first)) != bool(getattr(entry, second)):
                there, lacking = (first, second) if getattr(entry, first) else (second, first)
                raise self.fail(f"“{there}” needs “{lacking}” beside it", (*path, there), f"add a line {lacking} = …")

    def proof(self, path: tuple[str, ...], entry: Certificate, authority: Authority) -> None:
        """Refuse a way of proving that the kind of authority does not know."""
        if authority.kind == "acme":
            if entry.via == BY_HAND and entry.proof != "dns-01":
                raise self.fail(
                    f"[{'.'.join(path)}] lacks the key “via”",
                    path,
                    "add a line via = …, the server with the sites",
                )
            if entry.proof not in {None, "http-01", "dns-01"}:
                raise self.fail(f"“{entry.authority}” speaks ACME: “{entry.proof}” is for portals", (*path, "proof"),
                                'write proof = "http-01"')  # fmt: skip
        elif entry.proof == "http-01":
            raise self.fail(f"“{entry.authority}” is a portal: http-01 is for ACME", (*path, "proof"),
                            "known values: file, cname, txt, email; or leave it out")  # fmt: skip

    def carried(self, path: tuple[str, ...], entry: Certificate, whole: Configuration) -> None:
        """Refuse a carrier of records for files, and of files for records."""
        if entry.via == BY_HAND or (whole.authority[entry.authority].kind == "portal" and entry.proof is None):
            return
        records = entry.proof in {"dns-01", "cname", "txt"}
        if records and entry.via in whole.server:
            raise self.fail(
                f"the server “{entry.via}” cannot carry {entry.proof}",
                (*path, "via"),
                "name a nameserver or a program, or by-hand",
            )
        if not records and entry.via not in whole.server:
            raise self.fail(
                f"“{entry.via}” carries records, not {entry.proof or 'http-01'}",
                (*path, "via"),
                'name a server, or write proof = "dns-01"',
            )

    def certificate(self, name: str, entry: Certificate, whole: Configuration) -> Certificate:
        path = ("certificate", name)
        self.refers(entry.authority, "authority", whole.authority, (*path, "authority"))
        carriers = {**whole.server, **whole.nameserver, **whole.program, BY_HAND: None}
        self.refers(entry.via, "server", carriers, (*path, "via"))
        self.proof(path, entry, whole.authority[entry.authority])
        self.carried(path, entry, whole)
        for server in entry.install:
            self.refers(server, "server", whole.server, (*path, "install"))
        if not entry.names:
            raise self.fail(f"certificate “{name}” has no names", (*path, "names"), "list at least one name")
        try:
            names = normalise_all(entry.names)
        except NameTrouble as error:
            raise self.fail(error.what, (*path, "names"), error.advice) from error
        for each in names:
            by_file = whole.authority[entry.authority].kind == "acme" and entry.proof != "dns-01"
            if each.startswith("*.") and (by_file or entry.proof == "file"):
                raise self.fail(
                    f"{entry.proof or 'http-01'} cannot prove the wildcard {each}",
                    (*path, "names"),
                    "name each host; CAs give wildcards for DNS proofs only",
                )
        return entry if names == entry.names else msgspec.structs.replace(entry, names=names)


def parse(data: bytes, file: Path) -> Configuration:
    """Read the bytes of the configuration file `file`.

    Raises:
        ConfigurationError: The file is not TOML, has an unknown key or a wrong value; names the line.

    """
    try:
        text = data.decode("utf-8")
        raw = tomllib.loads(text)
    except UnicodeDecodeError as error:
        raise ConfigurationError(f"{file} is not UTF-8 text", where=str(file), advice="save it as UTF-8") from error
    except tomllib.TOMLDecodeError as error:
        raise ConfigurationError(
            f"{file} is not valid TOML", where=str(file), said=str(error), advice="correct that line"
        ) from error
    reader = _Reader(text, file)
    reader.check_keys(raw, Configuration.__struct_fields__, ())
    home, subject = raw.get("home", ""), raw.get("subject", {})
    if not isinstance(subject, dict):
        raise reader.fail("[subject] must be a table", ("subject",), "write [subject] and keys below")
    reader.check_keys(subject, Subject.__slots__, ("subject",))
    if not isinstance(home, str):
        raise reader.fail("“home” must be a path", ("home",), 'write home = "/path"')
    whole = Configuration(
        **{table: reader.entries(table, raw.get(table, {})) for table in _TABLES},
        view=reader.section(View, raw.get("view", {}), ("view",)),
        subject=reader.subject(subject),
        home=str(file.parent / home) if home else "",
    )
    for name, authority in whole.authority.items():
        reader.authority(name, authority)
    certificates = {name: reader.certificate(name, entry, whole) for name, entry in whole.certificate.items()}
    return msgspec.structs.replace(whole, certificate=certificates)


def read_home(data: bytes, file: Path) -> str:
    """Return the `home` that the file's head names, without reading the tables below it; empty for none."""
    head = re.split(rb"^\s*\[", data, maxsplit=1, flags=re.MULTILINE)[0]
    try:
        home = tomllib.loads(head.decode("utf-8")).get("home", "")
    except (UnicodeDecodeError, tomllib.TOMLDecodeError):
        return ""  # parse() will say what is wrong with the file
    return str(file.parent / home) if isinstance(home, str) and home else ""


def load(data: bytes, file: Path, cache: Path) -> Configuration:
    """Return what `parse` makes of `data`, from the copy in the folder `cache` when it is of these bytes.

    A large configuration takes seconds to parse and milliseconds to load from the copy. The copy is left
    alone when it cannot be written: it is only a help.
    """
    made_from = hashlib.sha256(b"\0".join((__version__.encode(), str(file).encode(), data))).hexdigest()
    kept = cache / "configuration.msgpack"
    with suppress(FileTrouble, msgspec.DecodeError):  # none yet, or of an older release: it is written anew below
        copy = msgspec.msgpack.decode(read_bytes(kept, limit=_LIMIT), type=_Copy)
        if copy.made_from == made_from:
            return copy.configuration
    configuration = parse(data, file)
    if len(configuration.certificate) >= 100:  # below that, parsing is as fast
        with suppress(FileTrouble):
            write_bytes(
                private_folder(cache) / kept.name, msgspec.msgpack.encode(_Copy(made_from, configuration)), mode=0o600
            )
    return configuration


def read_file(file: Path) -> bytes:
    """Read the configuration file's bytes; ConfigurationError when it is not there."""
    try:
        return read_bytes(file, limit=_LIMIT)
    except FileTrouble as error:
        raise ConfigurationError(
            f"cannot read the configuration {file}",
            where=str(file),
            said=error.said,
            advice="begin with `inkstamp authority add`, or say where it is with --config",
        ) from error
