"""What servers, nameservers and certificates are configured as: shown, and changed without an editor."""

from collections.abc import Mapping, Sequence
from typing import Any, Literal

import msgspec
from msgspec import Struct

from inkstamp.config.config_file import expect_known
from inkstamp.config.enrolled import OWN_SETTINGS, enrolled_entry
from inkstamp.config.entries import is_entry_name
from inkstamp.config.locate import line_of
from inkstamp.config.model import Certificate, Configuration, Mistake, Server
from inkstamp.config.record_changers import Nameserver
from inkstamp.config.section import Section
from inkstamp.config.server_kinds import KINDS
from inkstamp.config.values import read_values
from inkstamp.errors import UsageError
from inkstamp.jobs.lifecycle.context import LifecycleContext
from inkstamp.ledger.roster import keep_copy

Table = Literal["server", "nameserver"]
_KINDS: dict[Table, type[Section]] = {"server": Server, "nameserver": Nameserver}


class EntryShown(Struct, frozen=True, kw_only=True):
    """An entry, and who needs it."""

    name: str
    where: str
    """File and line; or that it is on the roster, or was found and is not configured."""
    settings: dict[str, Any]
    """Those that are not the usual ones."""
    used_by: tuple[str, ...] = ()
    """Certificates of the file, and groups, that name it."""
    is_found: bool = False
    """Whether it was found in its usual place and is not configured."""


class SettingChange(Struct, frozen=True, kw_only=True):
    """A setting that is otherwise now."""

    key: str
    before: Any
    """None where it was not set."""
    after: Any


def show_entries(context: LifecycleContext, table: Table, name: str = "") -> list[EntryShown]:
    """Return the entries of a table, or one; servers that are found here and not configured are among them.

    Raises:
        UsageError: There is none of that name.

    """
    context.configuration.leaves_out_mistakes = True
    config, file = context.configuration.current_or_empty(), context.configuration.path
    entries, wrong = _entries(config, table), _mistaken(config, table)
    found = {each: known for each, known in context.servers.found.items() if each not in {**entries, **wrong}}
    beside: Mapping[str, Section] = found if table == "server" else {}
    if name:
        expect_known(table, {**entries, **wrong, **beside}, [name], file)
    text = file.read_text("utf-8") if file.exists() else ""
    shown = [
        *(
            EntryShown(name=each, where=f"{file}, line {line_of(text, (table, each))}", settings=entry.given(),
                       used_by=_users(config, each))
            for each, entry in entries.items()
        ),
        *(EntryShown(name=each, where=fault.where, settings={"error": fault.what}) for each, fault in wrong.items()),
        *(EntryShown(name=each, where="found here, not configured", is_found=True,
                     settings=entry.given()) for each, entry in beside.items()),
    ]  # fmt: skip
    return [each for each in shown if not name or each.name == name]


def _entries(config: Configuration, table: Table) -> Mapping[str, Section]:
    found: Mapping[str, Section] = getattr(config, table)
    return found


def _mistaken(config: Configuration, table: Table) -> dict[str, Mistake]:
    """Return the entries of a table that cannot be used, by name."""
    return {key.partition(".")[2]: each for key, each in config.mistaken_beside.items() if key.startswith(f"{table}.")}


def _users(config: Configuration, name: str) -> tuple[str, ...]:
    certificates = [each for each, entry in config.certificate.items() if name in (*entry.carriers, *entry.install)]
    groups = [f"group {each}" for each, entry in config.group.items() if name in (*entry.carriers, *entry.install)]
    return (*certificates, *groups)


def show_certificate(context: LifecycleContext, name: str) -> EntryShown:
    """Return a certificate's entry; UsageError where there is none of that name."""
    entry, record, file = (
        context.certificates.entry(name),
        context.certificates.record(name),
        context.configuration.path,
    )
    if record is None:
        where = f"{file}, line {line_of(file.read_text('utf-8'), ('certificate', name))}"
        return EntryShown(name=name, where=where, settings=entry.given())
    customer = {"customer": record.customer} if record.customer else {}
    where = f"on the roster, in group {record.group}"
    return EntryShown(name=name, where=where, settings={**entry.given(), **customer})


def add_entry(context: LifecycleContext, table: Table, name: str, pairs: Sequence[str]) -> EntryShown:
    """Add an entry with settings as typed (see `config.values`).

    Raises:
        UsageError: A setting is not possible, or the name.
        ConfigurationError: There is such an entry, or it would not be valid; nothing is written then.

    """
    if not is_entry_name(name, table):
        raise UsageError(
            f"“{name}” cannot be the name of a {table}", advice="use lower-case letters, digits and hyphens"
        )
    values = read_values(_KINDS[table], pairs)
    if table == "server" and "kind" not in values:
        known = context.servers.found.get(name)
        if known is None:
            raise UsageError(f"what kind of server is “{name}”?", advice=f"say kind=…: {', '.join([*KINDS, 'files'])}")
        values = {**msgspec.to_builtins(known.given()), **values}
    context.configuration.add_values(table, name, values)
    (shown,) = show_entries(context, table, name)
    return shown


def change_entry(context: LifecycleContext, table: Table, name: str, pairs: Sequence[str]) -> list[SettingChange]:
    """Change settings of an entry as typed, also of one with a mistake; returns what is otherwise.

    Raises:
        UsageError, ConfigurationError: As of `add_entry`.

    """
    before = _expect_entry(context, table, name)
    context.configuration.change_entry(table, name, read_values(_KINDS[table], pairs))
    return _differences(before, _entries(context.config, table)[name])


def _expect_entry(context: LifecycleContext, table: Table, name: str) -> Section | None:
    """Return an entry of the file, None for one with a mistake; UsageError where there is none of that name."""
    context.configuration.leaves_out_mistakes = True
    entries = _entries(context.config, table)
    expect_known(table, {**entries, **_mistaken(context.config, table)}, [name], context.configuration.path)
    return entries.get(name)


def remove_entry(context: LifecycleContext, table: Table, name: str) -> None:
    """Take an entry out.

    Raises:
        UsageError: There is none of that name, or a certificate or group needs it.

    """
    _expect_entry(context, table, name)
    users = _users(context.config, name)
    if users:
        raise UsageError(
            f"{table} “{name}” is used by {', '.join(users)}", where=str(context.configuration.path),
            advice="have them use another one first: inkstamp certificate change NAME via=WHERE install=SERVER",
        )  # fmt: skip
    context.configuration.remove_entry(table, name)


def _differences(before: Section | None, after: Section) -> list[SettingChange]:
    old, new = before.given() if before is not None else {}, after.given()
    return [
        SettingChange(key=key, before=old.get(key), after=new.get(key))
        for key in {**old, **new} if old.get(key) != new.get(key)
    ]  # fmt: skip


def change_certificate(
    context: LifecycleContext, name: str, pairs: Sequence[str], *, group: str = "", customer: str | None = None
) -> list[SettingChange]:
    """Change settings of a certificate as typed, wherever its entry is; returns what is otherwise.

    Args:
        context: The parts of the run.
        name: The certificate.
        pairs: Settings as typed.
        group: Which group of the roster it goes to; empty to leave it.
        customer: Whose it is; None to leave that.

    Raises:
        UsageError: There is no such certificate or group, or a setting is not possible.
        ConfigurationError: The entry would not be valid then; nothing is changed.

    """
    context.configuration.leaves_out_mistakes = True
    with context.locks.certificate(name):
        wrong = name in context.config.mistaken
        before, record = None if wrong else context.certificates.entry(name), context.certificates.record(name)
        if (group or customer is not None) and record is None:
            raise UsageError(
                f"“{name}” is in the configuration file, and groups and customers are of the roster",
                advice="leave out --group and --customer",
            )
        change_settings(context, name, read_values(Certificate, pairs), group=group, customer=customer)
        told = _differences(before, context.certificates.entry(name))
    if record is not None:
        pairs_of = (("group", record.group, group), ("customer", record.customer, customer))
        told += [
            SettingChange(key=key, before=old or None, after=new or None)
            for key, old, new in pairs_of
            if new is not None and new != old and (new or key == "customer")
        ]
    return told


def change_settings(
    context: LifecycleContext, name: str, settings: Mapping[str, Any], *, group: str = "", customer: str | None = None
) -> None:
    """Set keys of a certificate's entry, as in the file; None takes one out. Otherwise as `change_certificate`."""
    record = context.certificates.record(name)
    if record is None:
        if name not in context.config.mistaken:
            context.certificates.entry(name)
        context.configuration.change_entry("certificate", name, settings)
        return
    unknown = next((key for key in settings if key not in OWN_SETTINGS), "")
    if unknown:
        raise UsageError(
            f"“{unknown}” is no setting of a certificate on the roster", advice="inkstamp enrol changes names"
        )
    merged = {key: value for key, value in {**record.settings, **settings}.items() if value is not None}
    place = group or record.group
    enrolled_entry(context.config, name, place, record.names, merged)
    changed = msgspec.structs.replace(
        record, settings=merged, group=place, customer=record.customer if customer is None else customer
    )
    context.ledger.roster.enrol([changed], f"“{name}”: {', '.join(settings) or 'group or customer'} changed")
    context.certificates.forget()
    keep_copy(context.home, context.store, context.ledger.roster)
