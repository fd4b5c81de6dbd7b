"""Our account with an ACME CA: its key, opening it, adding the authority to the configuration."""

from collections import Counter
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from inkstamp.acme.client import CaClient
from inkstamp.acme.jws import public_jwk, thumbprint
from inkstamp.acme.session import Session, Signer
from inkstamp.config.load import is_entry_name
from inkstamp.config.model import Authority
from inkstamp.errors import AccountTrouble, CaMisbehaved, InkStampError, UsageError
from inkstamp.files import private_folder, read_secret, write_bytes
from inkstamp.pki import keys
from inkstamp.pki.keys import PrivateKey

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace


@dataclass(frozen=True, slots=True, kw_only=True)
class Account:
    """An open account: the client that speaks for it, and the key's thumbprint for proofs."""

    authority: str
    entry: Authority
    client: CaClient
    thumbprint: str
    url: str
    session: Session

    @property
    def requests(self) -> Counter[str]:
        """Requests made in this run, by kind."""
        return self.session.counts

    def close(self) -> None:
        """Close the connections."""
        self.session.close()


@dataclass(frozen=True, slots=True, kw_only=True)
class Added:
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


def _account_key(home: Path, authority: str, entry: Authority) -> PrivateKey:
    """Return the account's key, made and durable before the CA can hear of it."""
    file = private_folder(home / "accounts") / f"{authority}.pem"
    if file.exists():
        return keys.from_pem(read_secret(file), str(file))
    key = keys.make(entry.account_key)
    write_bytes(file, keys.to_pem(key), mode=0o600)
    return key


def _session(workplace: "Workplace", entry: Authority) -> Session:
    return Session(
        entry.directory,
        trust=Path(entry.trust) if entry.trust else None,
        clock=workplace.clock,
        on_wait=workplace.progress.waits,
    )


def open_account(workplace: "Workplace", authority: str, entry: Authority) -> Account:
    """Return the account at an authority, opened now if the ledger knows none.

    Opening twice is harmless: for a known key the CA answers with the account there is (RFC 8555 section 7.3.1).

    Raises:
        AccountTrouble: The CA has terms that are not agreed to, or ties accounts to customers.
        CaProblem, NetworkTrouble: The CA refused or cannot be reached.

    """
    session = _session(workplace, entry)
    try:
        known = workplace.ledger.account(authority)
        if known is not None and known.directory == entry.directory:
            key = _account_key(workplace.home, authority, entry)
            url = known.url
        else:
            url, key = _register(workplace, session, authority, entry)
    except BaseException:
        session.close()
        raise
    return Account(
        authority=authority,
        entry=entry,
        client=CaClient(session, Signer(key, url)),
        thumbprint=thumbprint(public_jwk(key)),
        url=url,
        session=session,
    )


def _register(workplace: "Workplace", session: Session, authority: str, entry: Authority) -> tuple[str, PrivateKey]:
    meta = session.directory().meta
    if meta.terms_of_service and not entry.agree_terms:
        raise AccountTrouble(
            f"the terms of service of “{authority}” are not agreed to",
            where=meta.terms_of_service,
            advice=f"read them at that address; if you agree, run `inkstamp authority add {authority} "
            f"--agree-terms`, or set agree_terms = true under [authority.{authority}]",
        )
    if meta.external_account_required:
        raise AccountTrouble(
            f"“{authority}” ties accounts to a customer number (external account binding)",
            where=entry.directory,
            advice="this is not supported yet; choose another authority",
        )
    key = _account_key(workplace.home, authority, entry)
    contact = [f"mailto:{entry.email}"] if entry.email else []
    client = CaClient(session, Signer(key))
    url, account = client.new_account(contact, terms_agreed=entry.agree_terms)
    if account.status != "valid":
        raise CaMisbehaved(
            f"the account at “{authority}” is {account.status}",
            where=url,
            advice=f"move {authority}.pem away from HOME/accounts to open a new one",
        )
    workplace.ledger.save_account(authority, directory=entry.directory, url=url, contact=entry.email)
    return url, key


def add_authority(workplace: "Workplace", name: str, wanted: Authority | None, *, agree_terms: bool) -> Added:
    """Open the account at a CA and write its entry, or open the account of an entry that is there.

    Args:
        workplace: The run's surroundings.
        name: The entry's name.
        wanted: The entry to write; None to use the one that is there.
        agree_terms: Whether the terms are agreed to on the command line.

    Raises:
        UsageError: The name cannot be used, there is no such entry, or it differs from what is wanted.

    """
    if not is_entry_name(name):
        raise UsageError(f"“{name}” cannot name an authority", advice="use lower-case letters, digits and hyphens")
    config = workplace.config_or_empty()
    present = config.authority.get(name)
    if present is None and wanted is None:
        raise UsageError(
            f"there is no authority “{name}” yet",
            where=str(workplace.config_file),
            advice=f"add it: inkstamp authority add {name} --directory URL (or --portal URL)",
        )
    if present is not None and wanted is not None and _differs(present, wanted):
        raise UsageError(
            f"authority “{name}” is configured differently already",
            where=str(workplace.config_file),
            advice="edit its table there, or take another name",
        )
    entry = present or wanted
    if entry is not None and entry.kind == "portal":
        return _add_portal(workplace, name, entry, written=present is None)
    if entry is None:  # pragma: no cover  both were None, which was refused above
        raise InkStampError("no authority to add")
    if agree_terms:
        entry = msgspec.structs.replace(entry, agree_terms=True)
    before = workplace.ledger.account(name)
    account = open_account(workplace, name, entry)
    try:
        terms = account.client.directory().meta.terms_of_service
    finally:
        account.close()
    if present is None:
        workplace.add_entries(("authority", name, entry))
    return Added(
        authority=name,
        kind="acme",
        directory=entry.directory,
        page="",
        account_url=account.url,
        contact=entry.email,
        terms=terms,
        account_opened=before is None or before.url != account.url,
        entry_written=present is None,
        config_file=str(workplace.config_file),
    )


def _add_portal(workplace: "Workplace", name: str, entry: Authority, *, written: bool) -> Added:
    """Write a portal's entry; there is no account to open, a person has one there."""
    if written:
        workplace.add_entries(("authority", name, entry))
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
        config_file=str(workplace.config_file),
    )


def _differs(present: Authority, wanted: Authority) -> bool:
    by_hand = {"agree_terms", "fetch_issuers", "caa", "at_once", "staging", "staging_trust", "staging_roots"}
    told = [key for key in Authority.__struct_fields__ if key not in by_hand]
    return any(getattr(present, key) != getattr(wanted, key) for key in told)


@dataclass(frozen=True, slots=True, kw_only=True)
class Known:
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


def list_authorities(workplace: "Workplace") -> list[Known]:
    """Return the configured authorities, without asking any CA."""
    found = []
    for name, entry in workplace.config_or_empty().authority.items():
        record = workplace.ledger.account(name)
        url = record.url if record and record.directory == entry.directory else ""
        found.append(
            Known(
                name=name,
                kind=entry.kind,
                directory=entry.directory,
                page=entry.page,
                contact=entry.email,
                account_url=url,
            )
        )
    return found
