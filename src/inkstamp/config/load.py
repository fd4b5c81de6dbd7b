"""Read `inkstamp.toml` into data."""

import hashlib
import os
import re
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import msgspec

from inkstamp import __version__
from inkstamp.config.entries import TABLES, EntryReader
from inkstamp.config.environment import laid_over, settings_of
from inkstamp.config.ledger_settings import LedgerSettings, MachineSettings
from inkstamp.config.model import (
    Certificate,
    Configuration,
    Renewal,
    ViewSettings,
)
from inkstamp.config.renewal_rules import share_fault, twin_fault
from inkstamp.config.toml_file import LIMIT, read_toml
from inkstamp.decoding import from_msgpack
from inkstamp.errors import ConfigurationError, FileTrouble
from inkstamp.files import private_folder, read_bytes, write_bytes
from inkstamp.ownership import expect_ours
from inkstamp.pki.subject import Subject
from inkstamp.printable import one_line

_GROUP = re.compile(r"[A-Za-z_][A-Za-z0-9_.-]{0,31}\$?|\d{1,9}")
_SHOWN = 300
_NOT_IN_FILE = {"mistaken", "mistaken_beside", "orders"}


class _Copy(msgspec.Struct, frozen=True):
    """A parsed configuration, kept in HOME, good only for the very bytes it was made from."""

    made_from: str
    configuration: Configuration


def parse(data: bytes, file: Path, *, leave_out: bool = False) -> Configuration:
    """Read the bytes of the configuration file `file`.

    With `leave_out`, entries that have a mistake are `mistaken` or `mistaken_beside`, as are certificates that name
    them, and the others are read.

    Environment variables count more than the file (`config/environment.py`).

    Raises:
        ConfigurationError: The file is not TOML, has an unknown key or a wrong value; names the line or the variable.

    """
    text, raw = read_toml(data, file)
    variables = laid_over(raw, settings_of())
    with fail_clearly(str(file), str(file)):
        return _interpret(EntryReader(text, file, {} if leave_out else None, variables), raw, file)


@contextmanager
def fail_clearly(what: str, where: str) -> Iterator[None]:
    """Make an error of the configuration out of a value of a sort that nobody thought of.

    The places that read one say more where they can.
    """
    try:
        yield
    except ConfigurationError:
        raise
    except (ValueError, TypeError, LookupError, AttributeError, RecursionError, OverflowError) as error:
        raise ConfigurationError(
            f"{what} has a value that cannot be used", where=where, said=one_line(str(error), _SHOWN),
            advice="compare it with docs/configuration.md, key by key",
        ) from error  # fmt: skip


def _interpret(reader: EntryReader, raw: dict[str, Any], file: Path) -> Configuration:
    reader.check_keys(raw, [each for each in Configuration.__struct_fields__ if each not in _NOT_IN_FILE], ())
    home, subject = raw.get("home", ""), raw.get("subject", {})
    if not isinstance(subject, dict):
        raise reader.fail("[subject] must be a table", ("subject",), "write [subject] and keys below")
    reader.check_keys(subject, Subject.__struct_fields__, ("subject",))
    if not isinstance(home, str):
        raise reader.fail("“home” must be a path", ("home",), 'write home = "/path"')
    group = raw.get("key_group", "")
    if not isinstance(group, str) or (group and not _GROUP.fullmatch(group)):
        raise reader.fail("“key_group” is no group", ("key_group",), 'write its name, as in key_group = "ssl-cert"')
    for key in ("http_port", "https_port", "dns_port"):
        port = raw.get("view", {}).get(key, 1) if isinstance(raw.get("view", {}), dict) else 1
        if isinstance(port, int) and not 0 < port < 65_536:
            raise reader.fail(f"“{key}” is no port: {port}", ("view", key), "ports go from 1 to 65535")
    tables: dict[str, Any] = {table: reader.entries(table, raw.get(table, {})) for table in TABLES}
    whole = Configuration(
        **tables,
        view=reader.section(ViewSettings, raw.get("view", {}), ("view",)),
        renewal=reader.section(Renewal, raw.get("renewal", {}), ("renewal",)),
        ledger=reader.section(LedgerSettings, raw.get("ledger", {}), ("ledger",)),
        machine=reader.section(MachineSettings, raw.get("machine", {}), ("machine",)),
        subject=reader.subject(subject),
        key_group=group,
        home=str(file.parent / home) if home else "",
    )
    reader.shared(whole)
    whole = msgspec.structs.replace(
        whole,
        authority=reader.right_ones(
            "authority", whole.authority, lambda name, each: reader.authority(name, each, whole.authority)
        ),
        server=reader.right_ones("server", whole.server, lambda name, each: reader.server(name, each, whole.ledger)),
        nameserver=reader.right_ones("nameserver", whole.nameserver, reader.nameserver),
        messenger=reader.right_ones("messenger", whole.messenger, reader.messenger),
    )
    reader.expect_no(share_fault(whole.renewal.with_left, "with_left"), ("renewal",))
    certificates: dict[str, Certificate] = {}
    alike: dict[tuple[frozenset[str], str], list[str]] = {}
    for name, entry in whole.certificate.items():
        with reader.apart("certificate", name):
            read = reader.certificate(name, entry, whole)
            twins = alike.setdefault((frozenset(read.names), read.key), [])
            reader.expect_no(twin_fault(read, [(each, certificates[each]) for each in twins]), ("certificate", name))
            certificates[name] = read
            twins.append(name)
    groups = reader.right_ones("group", whole.group, lambda name, each: reader.settings(("group", name), each, whole))
    left_out = (reader.mistaken or {}).items()
    return msgspec.structs.replace(
        whole,
        certificate=certificates,
        group=groups,
        mistaken={name: each for (table, name), each in left_out if table == "certificate"},
        mistaken_beside={f"{table}.{name}": each for (table, name), each in left_out if table != "certificate"},
    )


def load(data: bytes, file: Path, cache: Path) -> Configuration:
    """Return what `parse` makes of `data`, from the copy in the folder `cache` when it is of these bytes.

    A large configuration takes seconds to parse and milliseconds to load from the copy. The copy is left
    alone when it cannot be written: it is only a help.
    """
    variables = repr(settings_of()).encode("utf-8", "surrogateescape")
    made_from = hashlib.sha256(b"\0".join((__version__.encode(), os.fsencode(file), variables, data))).hexdigest()
    kept = cache / "configuration.msgpack"
    with suppress(
        FileTrouble, msgspec.DecodeError, ValueError
    ):  # none yet, or of an older release: it is written anew below
        expect_ours(kept, "the parsed copy of the configuration")
        copy = from_msgpack(read_bytes(kept, limit=LIMIT), _Copy)
        if copy.made_from == made_from:
            return copy.configuration
    configuration = parse(data, file, leave_out=True)
    if len(configuration.certificate) >= 100:  # below that, parsing is as fast
        with suppress(FileTrouble):
            write_bytes(
                private_folder(cache) / kept.name, msgspec.msgpack.encode(_Copy(made_from, configuration)), mode=0o600
            )
    return configuration
