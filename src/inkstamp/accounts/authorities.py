"""The authorities of the configuration: added, with the account at an ACME CA, and listed."""

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from msgspec import Struct

from inkstamp.accounts.account import open_account
from inkstamp.accounts.account_keys import fetch_account_key
from inkstamp.acme.jws import public_jwk
from inkstamp.config.entries import is_entry_name
from inkstamp.config.model import Authority
from inkstamp.errors import UsageError
from inkstamp.files import file_trouble, read_secret, write_bytes
from inkstamp.home import Home
from inkstamp.key_files import read_key
from inkstamp.pki import keys

if TYPE_CHECKING:
    from inkstamp.accounts.context import AccountsContext, AuthoritiesContext


class Added(Struct, frozen=True, kw_only=True):
    """What `authority add` did."""

    authority: str
    kind: str
    """`acme` or `portal`."""
    directory: str
    page: str
    """URL of the portal."""
    account_url: str
    contact: str
    terms: str
    """URL of the CA's terms; empty when it has none."""
    account_opened: bool
    """False when the account was there already."""
    entry_written: bool
    config_file: str


def add_authority(
    context: "AccountsContext",
    name: str,
    wanted: Authority | None,
    *,
    agree_terms: bool,
    account_key: Path | None = None,
) -> Added:
    """Open the account at a CA and write its entry, or open the account of an entry that is there.

    Args:
        context: The parts of the run.
        name: The entry's name.
        wanted: The entry to write; None to use the one that is there.
        agree_terms: Whether the terms are agreed to on the command line.
        account_key: File with the key that the account has, or is to have; None for one that is made.

    Raises:
        UsageError: The name cannot be used, there is no such entry, it differs from what is wanted, or there is
            another account key already.

    """
    present = context.configuration.current_or_empty().authority.get(name)
    entry = _choose_entry(name, present, wanted, context.configuration.path)
    if not entry.is_acme:
        return _add_portal(context, name, entry, written=present is None)
    if agree_terms:
        entry = msgspec.structs.replace(entry, agree_terms=True)
    if account_key is not None and entry.account_key_of:
        raise UsageError(f"the account has the key of that at {entry.account_key_of}", advice="leave --key-file out")
    if account_key is not None:
        _bring_key(context.home, name, account_key)
        context.store.keep_account_key(name)
    return _add_acme(context, name, entry, written=present is None)


def _choose_entry(name: str, present: Authority | None, wanted: Authority | None, file: Path) -> Authority:
    """Return the entry that counts: the one that is there, or the one that is to be written."""
    if not is_entry_name(name, "authority"):
        raise UsageError(
            f"“{name}” cannot be the name of an authority", advice="use lower-case letters, digits and hyphens"
        )
    if present is not None:
        if wanted is not None and _differs(present, wanted):
            raise UsageError(
                f"authority “{name}” is configured differently already",
                where=str(file),
                advice="edit its table there, or choose another name",
            )
        return present
    if wanted is None:
        raise UsageError(
            f"there is no authority “{name}” yet",
            where=str(file),
            advice=f"add it: inkstamp authority add {name} --directory URL (or --portal URL)",
        )
    return wanted


def _add_acme(context: "AccountsContext", name: str, entry: Authority, *, written: bool) -> Added:
    """Open the account, another one where the one before was retired, then write the entry."""
    fetch_account_key(context, entry.account_key_of or name)
    before = context.ledger.account(name)
    if before is not None and before.retired is not None:
        known = context.configuration.current_or_empty().authority
        shared_with = [
            entry.account_key_of or "",
            *(each for each, other in known.items() if other.account_key_of == name),
        ]
        other = next(filter(None, shared_with), "")
        if other:
            raise UsageError(
                f"the account at “{name}” was deactivated, and a CA opens no second one for a key; it is shared with "
                f"“{other}”",
                advice=f"take account_key_of out of [authority.{name if entry.account_key_of else other}], "
                "then run the command again",
            )
        _put_key_aside(context.home, name, before.retired)
        context.store.keep_account_key(name)
    account = open_account(context, name, entry, again=True)
    try:
        terms = account.client.directory().meta.terms_of_service
    finally:
        account.close()
    if written:
        context.configuration.add_entries(("authority", name, entry))
    return Added(
        authority=name,
        kind="acme",
        directory=entry.directory,
        page="",
        account_url=account.url,
        contact=entry.email,
        terms=terms,
        account_opened=before is None or before.url != account.url,
        entry_written=written,
        config_file=str(context.configuration.path),
    )


def _bring_key(home: Home, name: str, source: Path) -> None:
    """Take a key that was made elsewhere for the account."""
    key = read_key(source)
    try:
        public_jwk(key)
    except KeyError:
        raise UsageError("accounts have keys on the curves P-256 and P-384, or RSA", where=str(source)) from None
    file = home.account_key(name)
    pem = keys.to_pem(key)
    if file.exists() and read_secret(file) != pem:
        raise UsageError(
            f"“{name}” has another account key already",
            where=str(file),
            advice=f"choose another name, or change the key of the account: inkstamp authority rollover {name}",
        )
    write_bytes(file, pem, mode=0o600)


def _put_key_aside(home: Home, name: str, retired: datetime) -> None:
    """Keep a retired account's key under another name: a CA opens no second account for it."""
    file = home.account_key(name)
    if file.exists():
        with file_trouble("rename", file):
            file.rename(file.with_name(f"{name}.retired-{retired:%Y%m%dT%H%M%SZ}.pem"))


def _add_portal(context: "AccountsContext", name: str, entry: Authority, *, written: bool) -> Added:
    """Write a portal's entry; there is no account to open, a person has one there."""
    if written:
        context.configuration.add_entries(("authority", name, entry))
    return Added(
        authority=name,
        kind="portal",
        directory="",
        page=entry.page,
        account_url="",
        contact="",
        terms="",
        account_opened=False,
        entry_written=written,
        config_file=str(context.configuration.path),
    )


def _differs(present: Authority, wanted: Authority) -> bool:
    told = [key for key in Authority.__struct_fields__ if key not in Authority.BY_HAND]
    return any(getattr(present, key) != getattr(wanted, key) for key in told)


def caa_names(context: "AuthoritiesContext", name: str) -> tuple[str, ...]:
    """Return the domain names that an authority goes by in CAA records: as configured, else as its directory said."""
    entry = context.configuration.current_or_empty().authority.get(name)
    if entry is None:
        return ()
    known = context.ledger.account(name) if not entry.caa and context.has_ledger() else None
    return entry.caa or (known.caa if known is not None and known.directory == entry.directory else ())


class ConfiguredAuthority(Struct, frozen=True, kw_only=True):
    """A configured authority and what the ledger knows of our account."""

    name: str
    kind: str
    """`acme` or `portal`."""
    directory: str
    page: str
    """URL of the portal."""
    contact: str
    account_url: str
    """Empty when there is no account yet."""


def list_authorities(context: "AccountsContext") -> list[ConfiguredAuthority]:
    """Return the configured authorities, without asking any CA."""
    found = []
    for name, entry in context.configuration.current_or_empty().authority.items():
        record = context.ledger.account(name)
        url = record.url if record and record.directory == entry.directory else ""
        found.append(
            ConfiguredAuthority(
                name=name,
                kind=entry.kind,
                directory=entry.directory,
                page=entry.page,
                contact=entry.email,
                account_url=url,
            )
        )
    return found
