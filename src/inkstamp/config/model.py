"""What `inkstamp.toml` can say, as data.

Paths are written relative to the file's own folder and made absolute when it is read.
"""

from typing import ClassVar, Literal

import msgspec

from inkstamp.config.ledger_settings import LedgerSettings, MachineSettings
from inkstamp.config.record_changers import Nameserver, Program
from inkstamp.config.section import Section
from inkstamp.config.server_kinds import ServerKindName
from inkstamp.config.words import BY_HAND, CopyForm, Matter, Method, PortalStep
from inkstamp.errors import ConfigurationError
from inkstamp.pki.kinds import KeyKind, ValidationLevel
from inkstamp.pki.subject import Subject


class PortalStage(Section, frozen=True):
    """One of an authority's `steps`: what its orders usually go through, and how long it takes."""

    step: PortalStep
    days: float = 0.0
    """How many days it usually takes; 0 where that is not known."""
    level: tuple[ValidationLevel, ...] = ()
    """The certificates that need it; empty for all."""


class Authority(Section, frozen=True):
    """`[authority.NAME]`: one CA and our account with it."""

    directory: str = ""
    """URL of the ACME directory (RFC 8555 section 7.1.1); a portal has none."""
    BY_HAND: ClassVar = frozenset(
        {
            "agree_terms",
            "fetch_issuers",
            "draft",
            "caa",
            "at_once",
            "default",
            "level_load",
            "staging",
            "staging_trust",
            "staging_roots",
            "profile",
            "level",
            "steps",
            "roots",
        }
    )
    """Keys that are written by hand and not by `authority add`, so that they make no entry another one."""

    kind: Literal["acme", "portal"] = "acme"
    email: str = ""
    """Contact of the account; empty for none."""
    agree_terms: bool = False
    """Whether the CA's terms of service are agreed to."""
    trust: str = ""
    """PEM file with the roots of the API's own certificate; empty for the system's."""
    staging: str = ""
    """URL of the CA's directory for tests, which rehearsals go to; empty for none."""
    staging_trust: str = ""
    """PEM file with the roots of that API's own certificate; empty for the system's."""
    staging_roots: str = ""
    """PEM file with the roots that certificates from there lead to; empty to not judge that."""
    account_key: KeyKind = KeyKind.ECDSA_P256
    account_key_of: str = ""
    """Another authority whose account's key this account has too, so that servers can answer for both."""
    binding_id: str = ""
    """What the CA calls the customer that the account is bound to (RFC 8555 section 7.3.4); empty for none."""
    binding_key_file: str = ""
    """File with the MAC key that it gave for this, base64url."""
    binding_algorithm: Literal["HS256", "HS384", "HS512"] = "HS256"
    profile: str = ""
    """Which of the sorts of certificates that the CA offers to ask for; empty for its usual one."""
    root: str = ""
    """Common name or SHA-256 fingerprint of the root that chains should lead to; empty for the shortest chain."""
    roots: str = ""
    """PEM file with the roots of a private CA, which its certificates lead to; empty for a public CA."""
    page: str = ""
    """URL of the portal, for the person who goes there."""
    path: str = ""
    """A portal's rule for file proofs: the path, with placeholders (see `config.templates`)."""
    lines: tuple[str, ...] = ()
    """What stands in that file."""
    record: str = ""
    """A portal's rule for DNS proofs: the record's name."""
    value: str = ""
    """Its value."""
    record_type: Literal["cname", "txt"] = "cname"
    level: ValidationLevel | None = None
    """What a portal's certificates say that their CA has vetted; None when that is not stated."""
    steps: tuple[PortalStage, ...] = ()
    """What orders at a portal usually go through after the CSR, in this order; empty when that is not stated."""
    caa: tuple[str, ...] = ()
    """Domain names that the CA goes by in CAA records; empty when they are not known."""
    at_once: int = 4
    """How many orders are led at the same time in a run."""
    default: bool = False
    """Whether new certificates come from it, where no other is named."""
    level_load: bool = False
    """Whether renewals are levelled also by renewing before the window that the CA names (RFC 9773)."""
    draft: bool = False
    """Whether challenge types of IETF drafts may be used there."""
    fetch_issuers: bool = False
    """Whether missing intermediates may be fetched from where the certificate says (AIA)."""

    @property
    def is_private(self) -> bool:
        """Whether its certificates lead to roots of its own, which browsers do not trust."""
        return bool(self.roots)

    @property
    def is_acme(self) -> bool:
        """Whether it speaks ACME; otherwise a person has an account at its portal."""
        return self.kind == "acme"


class FileCopy(Section, frozen=True):
    """One of a server's `files`: where a copy of each edition goes, and in which form."""

    path: str
    """Absolute on the server's machine; may have placeholders (see `config.server_rules`)."""
    form: CopyForm
    mode: str = ""
    """Octal, as in `0640`; empty for 0600 where the key is in it, else 0644."""
    owner: str = ""
    """Name or number; empty for the user that writes."""
    group: str = ""
    passphrase_file: str = ""
    """File with the passphrase of a PKCS#12."""


class Server(Section, frozen=True):
    """`[server.NAME]`: something that serves the names' web pages, or other services of theirs."""

    kind: ServerKindName
    """`files` is any other server: nothing is known of it but where its files lie."""
    program: str = ""
    """The server's program: a path, or a name found in PATH; empty for the usual one of its kind."""
    main_file: str = ""
    """The configuration file that the program is started with; empty for the usual one of its kind."""
    prefix: str = ""
    """The folder that relative paths start from; empty for the one the program was built with."""
    root: str = ""
    """`files`: its document root, which may have the placeholder `{domain}`."""
    files: tuple[FileCopy, ...] = ()
    """`files`: the copies that it takes of each edition."""
    test: tuple[str, ...] = ()
    """A command that tests its configuration, in the place of the usual one of its kind."""
    reload: tuple[str, ...] = ()
    """A command that has it take new files, in the place of the usual one of its kind."""
    tls: Literal["strict", "wide"] | None = None
    """The policy for sites that had no TLS: which protocols and ciphers they take (see the guide)."""
    http2: bool = False
    """Whether sites that had no TLS offer HTTP/2 (RFC 9113); HAProxy always does."""
    redirect: bool = False
    """Whether sites that had no TLS send plain HTTP on to HTTPS from then on, but for proofs."""
    hsts_days: int = 0
    """How long browsers shall come back to such sites by HTTPS alone (RFC 6797), in days; 0 to say nothing of it."""
    decrypt: bool = False
    """Whether it is given plain keys where a certificate's keys are encrypted (`key_passphrase_file`)."""
    client_roots: str = ""
    """File on the server's machine with the CA whose certificates visitors of such sites must show."""
    address: str = ""
    """`balancer`: URL of its API."""
    listener: str = ""
    """`balancer`: the listener that certificates are attached to."""
    token_file: str = ""
    """`balancer`: file with the token of its API."""
    trust: str = ""
    """`balancer`: PEM file with the roots of the API's own certificate; empty for the system's."""
    store: Literal["My", "WebHosting"] = "My"
    """`iis`, `windows`: the certificate store of the machine that editions are imported into."""
    script: str = ""
    """`windows`: path of the administrator's own script on that machine, which gives a service its certificate."""
    exportable: bool = False
    """`iis`, `windows`: whether the private keys there can be exported again."""
    friendly_name: str = "{certificate} {edition}"
    """`iis`, `windows`: what editions are called in the store."""
    look: tuple[str, ...] = ()
    """`files` and `balancer`: where it serves TLS, each `host:port`, with `smtp://`, `imap://`, `pop3://` before it for
    STARTTLS."""
    reach: str = ""
    """Another machine, as `ssh://user@host:port`; empty for this one."""
    ssh_config: str = ""
    """A file for OpenSSH's client in the place of the user's own (ssh_config(5))."""
    sudo: bool = False
    """Whether commands are given to `sudo`, which must not ask for a password: on another machine all of them, on this
    one those that test, reload and start the server."""
    certificate_folder: str = "/var/lib/inkstamp/certificates"
    """On another machine: where copies of editions are put, in a folder of their own for each certificate."""
    proof_folder: str = "/var/lib/inkstamp-proofs"
    """Where proofs lie for sites whose proof path `prove --let-through` has opened."""
    machines: tuple[str, ...] = ()
    """With a shared ledger: the machines that have this server, each by a name in which `*` stands for anything."""
    standing: bool = False
    """Whether it has a standing answer wherever it is (`prove --standing`), so that no file is ever put there."""


class Certificate(Section, frozen=True):
    """`[certificate.NAME]`: a set of names that must always be served by a good certificate."""

    names: tuple[str, ...]
    authority: str
    via: str | tuple[str, ...] = BY_HAND
    """What carries the proofs: servers (files), a nameserver or program (records), `listener`, or `by-hand`."""
    proof: Method | tuple[Method, ...] | None = None
    """At an ACME CA `http-01`, which is also the default, `dns-01` or `tls-alpn-01`, or several in the order in which
    they are tried; one of the others at a portal, None to decide later."""
    install: tuple[str, ...] = ()
    """The servers that are given the certificate."""
    key: KeyKind = KeyKind.ECDSA_P256
    key_stays: bool = False
    """Whether renewals keep the key, so that TLSA records for it stay right."""
    tlsa_via: str = ""
    """The nameserver or program that changes TLSA records with a key; empty for that in `via`."""
    sites: tuple[str, ...] = ()
    """Those of the names under a wildcard whose virtual hosts get it; empty for all that are there."""
    renew_with_left: float | None = None
    """The share of the lifetime that is left when it is renewed, in the place of the one for all."""
    otherwise: tuple[str, ...] = ()
    """Further ACME authorities, asked in this order where the one above does not issue."""
    profile: str = ""
    """Which sort of certificate to ask for, in the place of the authority's."""
    lifetime_days: int = 0
    """For how long a certificate is asked for, where the CA lets one ask; 0 for its usual time."""
    own_site: bool = False
    """Whether names that a virtual host answers by a wildcard or as the default get a virtual host of their own where
    the certificate of others would be taken from them."""
    leave_out_failing: bool = False
    """Whether to go without names that the CA refuses when there would be no good certificate at all otherwise."""
    key_passphrase_file: str = ""
    """File with the passphrase that keys are encrypted with on the shelf; empty for plain keys."""
    keep: int = 3
    """How many editions stay on the shelf; one that a server has stays in any case."""
    subject: Subject | None = None
    """Whom a portal's request is for, in the place of the one for all."""
    level: ValidationLevel | None = None
    """What the CA is to vet, in the place of what the portal's entry says."""
    key_elsewhere: bool = False
    """Whether another machine has its private key, which made the CSR that was brought."""
    same_request: bool = False
    """At a portal, or where the key is elsewhere: whether renewals go on with the CSR of the edition before."""

    rollout: tuple[str | int, ...] = ()
    """With a shared ledger: the steps in which machines are given a new edition, each by names of machines, in which
    `*` stands for anything, or by how many are next; empty for all at once."""
    rollout_wait_minutes: float = 0.0
    """How long the machines of a step serve it before the next step begins."""

    @property
    def carriers(self) -> tuple[str, ...]:
        """`via` as a list."""
        return (self.via,) if isinstance(self.via, str) else self.via

    @property
    def methods(self) -> tuple[Method, ...]:
        """The ways of proving to an ACME CA, in the order in which they are tried."""
        if self.proof is None:
            return ("http-01",)
        return (self.proof,) if isinstance(self.proof, str) else self.proof


class CertificateGroup(Certificate, frozen=True, kw_only=True):
    """`[group.NAME]`: what the certificates of a group have in common; their names are kept in the ledger."""

    names: tuple[str, ...] = ()
    """Always empty."""


class ViewSettings(Section, frozen=True):
    """`[view]`: how the public sees a name; left out in production."""

    resolver: str = ""
    """`address:port` of the DNS resolver; empty for the system's."""
    http_port: int = 80
    https_port: int = 443
    dns_port: int = 53
    """Where authoritative nameservers are asked."""
    roots: str = ""
    """PEM file with the roots that the public trusts; empty for the system's."""


class Messenger(Section, frozen=True):
    """`[messenger.NAME]`: whom to tell what, by e-mail or by a webhook."""

    kind: Literal["mail", "webhook"]
    server: str = ""
    """`mail`: the SMTP server, `host:port`; without a port 587, or 465 where `tls` is “tls”."""
    tls: Literal["starttls", "tls", "none"] = "starttls"
    """`mail`: by STARTTLS (RFC 3207), from the first byte (RFC 8314), or none."""
    sender: str = ""
    """`mail`: the address that messages come from."""
    to: tuple[str, ...] = ()
    """`mail`: the addresses that they go to."""
    user: str = ""
    """`mail`: who logs in (RFC 4954); empty for nobody."""
    password_file: str = ""
    """`mail`: file with the password."""
    url: str = ""
    """`webhook`: where JSON is posted to."""
    key_file: str = ""
    """`webhook`: file with the key that requests are signed with."""
    trust: str = ""
    """PEM file with the roots of the other side's certificate; empty for the system's."""
    about: tuple[Matter, ...] = ("failing", "expiring", "not-installed", "waiting", "account")
    """What is told."""
    failing_times: int = 3
    """After how many failures in a row it is told that a certificate fails."""
    days_left: int = 14
    """With how many days left it is told that a certificate expires; a quarter of the lifetime where that is less."""


class Renewal(Section, frozen=True):
    """`[renewal]`: how `renew` goes about it."""

    with_left: float | None = None
    """The share of the lifetime that is left when a certificate is renewed whose CA names no window; None for three
    tenths, three days at least."""
    metrics: str = ""
    """File for figures in the text format of Prometheus; empty for none."""


class Mistake(msgspec.Struct, frozen=True):
    """What is wrong with an entry, so that nothing can be done for it."""

    what: str
    where: str
    """File and line."""
    advice: str

    @property
    def error(self) -> ConfigurationError:
        """What to raise for an entry that cannot be used."""
        return ConfigurationError(self.what, where=self.where, advice=self.advice)


class Configuration(Section, frozen=True):
    """The whole file."""

    authority: dict[str, Authority] = msgspec.field(default_factory=dict)
    server: dict[str, Server] = msgspec.field(default_factory=dict)
    nameserver: dict[str, Nameserver] = msgspec.field(default_factory=dict)
    program: dict[str, Program] = msgspec.field(default_factory=dict)
    certificate: dict[str, Certificate] = msgspec.field(default_factory=dict)
    group: dict[str, CertificateGroup] = msgspec.field(default_factory=dict)
    messenger: dict[str, Messenger] = msgspec.field(default_factory=dict)
    view: ViewSettings = ViewSettings()
    renewal: Renewal = Renewal()
    ledger: LedgerSettings = LedgerSettings()
    machine: MachineSettings = MachineSettings()
    subject: Subject = Subject()
    """Whom portal requests are for."""
    key_group: str = ""
    """The group on this machine that may read the keys of editions, name or number; empty for nobody."""
    home: str = ""
    """Folder of ledger, accounts and shelf, when it is not the default one."""
    orders: bool = True
    """Whether this machine orders certificates; not in the file, which is for all machines (`ledger.workers`)."""
    mistaken: dict[str, Mistake] = msgspec.field(default_factory=dict)
    """Certificates that are left out, since their entries cannot be used: one must not stop all others."""
    mistaken_beside: dict[str, Mistake] = msgspec.field(default_factory=dict)
    """Other entries that are left out, by table and name (`server.front`)."""

    def account_key_owner(self, authority: str) -> str:
        """Return the authority whose account's key an account has: its own, or that of `account_key_of`."""
        entry = self.authority.get(authority)
        return (entry.account_key_of if entry is not None else "") or authority

    @property
    def usual_authority(self) -> str:
        """The authority of new certificates where none is named: the only one, or the default; empty for none."""
        marked = [name for name, each in self.authority.items() if each.default]
        found = marked or list(self.authority)
        return found[0] if len(found) == 1 else ""

    def mistake_in(self, table: str, name: str) -> Mistake | None:
        """Return what is wrong with an entry that is left out; None for one that is not."""
        if table == "certificate":
            return self.mistaken.get(name)
        return self.mistaken_beside.get(f"{table}.{name}")
