"""Our account with an ACME CA: its key, and opening it."""

from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct

from inkstamp.accounts.account_keys import settle_key, take_shared_key
from inkstamp.acme.client import CaClient
from inkstamp.acme.jws import binding, public_jwk, thumbprint, unb64url
from inkstamp.acme.patience import TROUBLE, Patience
from inkstamp.acme.session import Session, Signer
from inkstamp.config.model import Authority
from inkstamp.errors import AccountTrouble, CaMisbehaved, CaProblem, ConfigurationError
from inkstamp.files import read_secret, write_bytes
from inkstamp.key_files import read_key
from inkstamp.ledger.records import AccountRecord
from inkstamp.pki import keys
from inkstamp.pki.keys import PrivateKey

if TYPE_CHECKING:
    from inkstamp.accounts.context import AccountContext
    from inkstamp.ledger.store import Ledger


class AccountSession(Struct, frozen=True, kw_only=True):
    """An open account: the client that speaks for it, and the key's thumbprint for proofs."""

    authority: str
    entry: Authority
    client: CaClient
    thumbprint: str
    key_kind: str
    session: Session
    signer: Signer

    @property
    def url(self) -> str:
        """Where the CA has it."""
        return self.signer.account_url

    @property
    def requests(self) -> Counter[str]:
        """Requests made in this run, by kind."""
        return self.session.counts

    def close(self) -> None:
        """Close the connections."""
        self.session.close()


def _account_key(context: "AccountContext", authority: str, entry: Authority) -> PrivateKey:
    """Return the account's key, perhaps that of another account, made and durable before the CA can hear of it."""
    owner = entry.account_key_of or authority
    file = context.home.account_key(owner)
    if file.exists():
        return read_key(file)
    with context.locks.account(owner):
        if file.exists():  # another run has made it, perhaps on another machine
            return read_key(file)
        key = keys.make(entry.account_key)
        write_bytes(file, keys.to_pem(key), mode=0o600)
        context.store.keep_account_key(owner)
    return key


def make_session(context: "AccountContext", entry: Authority, patience: Patience = TROUBLE) -> Session:
    """Make the conversation with the CA of an entry; nothing is sent yet."""
    return Session(
        entry.directory,
        trust=Path(entry.trust) if entry.trust else None,
        clock=context.clock,
        on_wait=context.progress.waits,
        on_notice=lambda text: context.progress.step("CA", text),
        patience=patience,
        expect=context.locks.expect,
    )


def open_account(context: "AccountContext", authority: str, entry: Authority, *, again: bool = False) -> AccountSession:
    """Return the account at an authority, opened now if the ledger knows none, and brought in line with the entry.

    Opening twice is harmless: for a known key the CA answers with the account there is (RFC 8555 section 7.3.1).

    Args:
        context: The parts of the run.
        authority: Its name.
        entry: What is configured of it.
        again: Whether to open another account where the one before was retired.

    Raises:
        AccountTrouble: The CA has terms that are not agreed to, or binds accounts to customers, or it was retired.
        CaProblem, NetworkTrouble: The CA refused or cannot be reached.

    """
    session = make_session(context, entry)
    try:
        known = context.ledger.account(authority)
        known = known if known is not None and known.directory == entry.directory else None
        if known is not None and known.retired is not None and not again:
            raise AccountTrouble(
                f"the account at “{authority}” was deactivated on {known.retired:%Y-%m-%d}",
                where=known.url,
                advice=f"open another one: inkstamp authority add {authority}; or name another authority",
            )
        if known is not None and known.retired is None:
            unsettled = settle_key(context, authority, session, known.url, make_session)
            key = unsettled or _account_key(context, authority, entry)
            if entry.account_key_of:
                take_shared_key(context, authority, session, known.url, key)
            signer = Signer(key, known.url)
            if known.contact != entry.email:
                _change_contact(context.ledger, CaClient(session, signer), known, entry.email)
        else:
            signer = _register(context, session, authority, entry)
        known_by = thumbprint(public_jwk(signer.key))
        if context.ledger.machines is not None:  # servers of other machines answer challenges for it
            context.ledger.machines.keep_thumbprint(entry.account_key_of or authority, known_by)
    except BaseException:
        session.close()
        raise
    return AccountSession(
        authority=authority,
        entry=entry,
        client=CaClient(session, signer),
        signer=signer,
        thumbprint=known_by,
        key_kind=keys.describe(signer.key.public_key()),
        session=session,
    )


def contacts(email: str) -> list[str]:
    """Return an account's contacts as the CA takes them."""
    return [f"mailto:{email}"] if email else []


def _change_contact(ledger: "Ledger", client: CaClient, known: AccountRecord, email: str) -> None:
    """Tell the CA of the contact that the configuration names now."""
    client.change_contact(contacts(email))
    ledger.save_account(known.authority, directory=known.directory, url=known.url, contact=email,
                                  caa=known.caa, what=f"contact changed to {email or 'none'}")  # fmt: skip


def _register(context: "AccountContext", session: Session, authority: str, entry: Authority) -> Signer:
    directory = session.directory()
    meta = directory.meta
    if meta.terms_of_service and not entry.agree_terms:
        raise AccountTrouble(
            f"the terms of service of “{authority}” are not agreed to",
            where=meta.terms_of_service,
            advice="read them at that address; if you agree, run the same `authority add` with --agree-terms; for one "
            f"that is configured, set agree_terms = true under [authority.{authority}]",
        )
    if meta.external_account_required and not entry.binding_id:
        raise AccountTrouble(
            f"“{authority}” requires external account binding (EAB)",
            where=entry.directory,
            advice="get the EAB key ID and MAC key from the CA; put the MAC key into a file of mode 0600, and run "
            "the same `authority add` with --binding-id ID --binding-key-file FILE; for one that is configured, write "
            f"binding_id and binding_key_file under [authority.{authority}]",
        )
    key = _account_key(context, authority, entry)
    bound_by = None
    if entry.binding_id:
        bound_by = binding(public_jwk(key), key_id=entry.binding_id, mac_key=_mac_key(entry),
                           alg=entry.binding_algorithm, url=directory.new_account)  # fmt: skip
    client = CaClient(session, Signer(key))
    try:
        opened = client.new_account(contacts(entry.email), terms_agreed=entry.agree_terms, bound_by=bound_by)
    except CaProblem as problem:
        if bound_by is not None and problem.kind in {"unauthorized", "malformed"}:
            advice = "check binding_id and the MAC key in binding_key_file, which the CA's pages give together"
        elif problem.kind == "unauthorized":
            advice = "the CA opens no account for this key: see its message above"
        else:
            raise
        raise problem.amended(advice=advice) from problem.__cause__
    if opened.account.status != "valid":
        raise CaMisbehaved(
            f"the account at “{authority}” is {opened.account.status}",
            where=opened.url,
            advice=f"move {authority}.pem out of accounts/ in the data directory to open a new account",
        )
    context.ledger.save_account(
        authority, directory=entry.directory, url=opened.url, contact=entry.email, caa=meta.caa_identities,
        what=opened.url if opened.is_new else f"found, {opened.url}",
    )  # fmt: skip
    return Signer(key, opened.url)


def _mac_key(entry: Authority) -> bytes:
    """Read the MAC key as CAs hand it out: base64url, with or without padding."""
    file = Path(entry.binding_key_file)
    try:
        key = unb64url(read_secret(file).decode("ascii").strip().rstrip("="))
    except ValueError as error:
        raise ConfigurationError(
            "the MAC key for external account binding is not base64url",
            where=str(file),
            advice="write the key there exactly as the CA shows it",
        ) from error
    if not key:
        raise ConfigurationError("the file with the MAC key is empty", where=str(file), advice="write the key into it")
    return key
