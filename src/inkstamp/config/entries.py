"""The entries of `inkstamp.toml`: each read into data, and of each mistake what, where and what instead."""

import difflib
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import msgspec

from inkstamp.config.carrying import can_prove, carries, methods_for, takes_certificates
from inkstamp.config.ledger_settings import LedgerSettings
from inkstamp.config.locate import line_of
from inkstamp.config.model import (
    Authority,
    Certificate,
    CertificateGroup,
    Configuration,
    FileCopy,
    Messenger,
    Mistake,
    PortalStage,
    Renewal,
    Server,
    ViewSettings,
)
from inkstamp.config.record_changers import Nameserver, Program
from inkstamp.config.renewal_rules import (
    certificate_fault,
    elsewhere_fault,
    encryption_fault,
    key_owner_fault,
    messenger_fault,
    nameserver_fault,
    stages_fault,
)
from inkstamp.config.section import Section, allowed_values
from inkstamp.config.server_rules import Fault, find_fault
from inkstamp.config.sharing import ledger_fault, machine_fault, rollout_fault, server_machines_fault, via_fault
from inkstamp.config.templates import template_fault
from inkstamp.config.words import ACME_METHODS, BY_HAND, DRAFT_METHODS, LISTENER
from inkstamp.decoding import from_plain
from inkstamp.errors import ConfigurationError, NameTrouble
from inkstamp.pki.names import as_address, identifiers
from inkstamp.pki.subject import Subject

_ENTRY = re.compile(r"[a-z0-9][a-z0-9-]{0,62}")
_CERTIFICATE = re.compile(r"(?=.{1,200}\Z)[a-z0-9][a-z0-9-]*(\.[a-z0-9-]+)*")
TABLES: dict[str, type[Section]] = {
    "authority": Authority,
    "server": Server,
    "nameserver": Nameserver,
    "program": Program,
    "certificate": Certificate,
    "group": CertificateGroup,
    "messenger": Messenger,
}
PATHS = {
    Authority: ("trust", "roots", "staging_trust", "staging_roots", "binding_key_file"),
    Server: (
        "program",
        "main_file",
        "prefix",
        "root",
        "ssh_config",
        "proof_folder",
        "certificate_folder",
        "token_file",
        "trust",
    ),
    Nameserver: ("key_file", "trust", "recipe"),
    Certificate: ("key_passphrase_file",),
    CertificateGroup: ("key_passphrase_file",),
    ViewSettings: ("roots",),
    Renewal: ("metrics",),
    Messenger: ("password_file", "key_file", "trust"),
    LedgerSettings: ("password_file", "seal_key_file"),
}
NAMES_OR_PATHS = {"program", "recipe"}
"""Keys whose values are paths where they have a slash."""
INNER: dict[type[Section], dict[str, type[Section]]] = {Server: {"files": FileCopy}, Authority: {"steps": PortalStage}}
_ACME_KEYS = ("directory", "trust", "agree_terms", "staging", "binding_id", "profile", "account_key_of", "draft")
_PORTAL_KEYS = ("page", "path", "lines", "record", "value", "level", "steps")


def is_entry_name(text: str, table: str) -> bool:
    """Tell whether `text` may name an entry of a table; it becomes a folder's name, so little is allowed.

    Certificates may be named like their first domain name.
    """
    return (_CERTIFICATE if table == "certificate" else _ENTRY).fullmatch(text) is not None


class EntryReader:
    """One pass over one file; knows what to say about mistakes in it."""

    def __init__(
        self,
        text: str,
        file: Path,
        mistaken: dict[tuple[str, str], Mistake] | None,
        variables: Mapping[tuple[str, ...], str],
    ) -> None:
        self._text = text
        self._file = file
        self._variables = variables
        """Environment variables by the keys that they set."""
        self.mistaken = mistaken
        """Where entries with a mistake go, by table and name; None when the first mistake ends all."""

    def absolute(self, value: str, path: tuple[str, ...]) -> str:  # noqa: ARG002  another reader has no file
        """Return a path that may be relative to the file's folder."""
        return str(self._file.parent / value)

    def fail(self, what: str, path: tuple[str, ...], advice: str) -> ConfigurationError:
        variable = self._variables.get(path)
        where = f"environment variable {variable}" if variable else f"{self._file}, line {line_of(self._text, path)}"
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
        if kind is CertificateGroup and "names" in given:
            raise self.fail(f"[{'.'.join(path)}] has names, which are not kept in this file", (*path, "names"),
                            f"remove the line, then: inkstamp enrol --group {path[-1]} NAME…")  # fmt: skip
        self.check_keys(given, kind.__struct_fields__, path)
        if isinstance(given.get("subject"), dict):
            self.check_keys(given["subject"], Subject.__struct_fields__, (*path, "subject"))
        for inner in self.inner_tables(kind, given, path):
            if isinstance(inner.get("passphrase_file"), str):
                inner["passphrase_file"] = str(self._file.parent / inner["passphrase_file"])
        for key in PATHS.get(kind, ()):
            value = given.get(key)
            if isinstance(value, str) and value and (key not in NAMES_OR_PATHS or "/" in value):
                given[key] = self.absolute(value, (*path, key))
        try:
            return from_plain(given, kind)
        except msgspec.ValidationError as error:
            said, _, at = str(error).partition(" - at `$.")
            key = re.split(r"[.\[`]", at)[0] if at else ""
            missing = re.search(r"missing required field `(\w+)`", said)
            what = f"[{'.'.join(path)}] lacks the key “{missing[1]}”" if missing else f"“{key}” is wrong: {said}"
            within = INNER.get(kind, {}).get(key)
            inmost = (re.findall(r"[a-z_]+", at) or [key])[-1]
            allowed = allowed_values(within, inmost) if within else allowed_values(kind, key)
            advice = f"add a line {missing[1]} = …" if missing else allowed
            raise self.fail(what, (*path, key) if key else path, advice) from error

    def inner_tables(
        self, kind: type[Section], given: Mapping[str, Any], path: tuple[str, ...]
    ) -> Iterator[dict[str, Any]]:
        """Go through the tables in the lists of a table, with only such keys in them as are known."""
        for key, inner in INNER.get(kind, {}).items():
            listed = given.get(key)
            for each in listed if isinstance(listed, list) else ():
                if isinstance(each, dict):
                    self.check_keys(each, inner.__struct_fields__, (*path, key))
                    yield each

    def subject(self, given: dict[str, object]) -> Subject:
        try:
            return from_plain(given, Subject)
        except msgspec.ValidationError as error:
            said, _, at = str(error).partition(" - at `$.")
            raise self.fail(
                f"“{at.rstrip('`')}” is wrong: {said}", ("subject", at.rstrip("`")), "write text"
            ) from error

    @contextmanager
    def apart(self, table: str, name: str) -> Iterator[None]:
        """Take a mistake that leaves the block as one of that entry alone, where others are read nevertheless."""
        try:
            yield
        except ConfigurationError as error:
            if self.mistaken is None:
                raise
            self.mistaken[table, name] = Mistake(what=error.what, where=error.where, advice=error.advice)

    def right_ones(self, table: str, entries: Mapping[str, Any], check: Callable[[str, Any], None]) -> dict[str, Any]:
        """Return the entries that `check` raises nothing for."""
        right = {}
        for name, entry in entries.items():
            with self.apart(table, name):
                check(name, entry)
                right[name] = entry
        return right

    def entries(self, table: str, given: object) -> dict[str, Any]:
        """Read the entries of a table."""
        if not isinstance(given, dict):
            raise self.fail(f"“{table}” must hold tables", (table,), f"write [{table}.NAME] and keys below it")
        found = {}
        for name, entry in given.items():
            if not is_entry_name(name, table):
                dots = ", dots between them, 200 at most" if table == "certificate" else ", 63 at most"
                raise self.fail(
                    f"“{name}” cannot be the name of a {table}", (table, name),
                    f"use lower-case letters, digits and hyphens{dots}",
                )  # fmt: skip
            with self.apart(table, name):
                found[name] = self.section(TABLES[table], entry, (table, name))
        return found

    def refers(self, value: str, table: str, known: Mapping[str, object], path: tuple[str, ...]) -> None:
        if value not in known:
            for other in (table, *TABLES):
                wrong = (self.mistaken or {}).get((other, value))
                if wrong is not None and other != "certificate":
                    raise ConfigurationError(f"[{other}.{value}] has an error: {wrong.what}", where=wrong.where,
                                             advice=wrong.advice)  # fmt: skip
            near = difflib.get_close_matches(value, known, n=1)
            hint = f"did you mean “{near[0]}”?" if near else f"add a table [{table}.{value}], or name one there is"
            raise self.fail(f"there is no {table} “{value}”", path, hint)

    def authority(self, name: str, entry: Authority, among: Mapping[str, Authority]) -> None:
        """Refuse keys of the other kind of authority, what cannot be filled in, and a second default."""
        path = ("authority", name)
        self.only_default(path, entry, among)
        if entry.is_acme and not entry.directory:
            raise self.fail(
                f"[authority.{name}] lacks the key “directory”", path, 'add a line directory = …, or kind = "portal"'
            )
        if not 1 <= entry.at_once <= 64:
            raise self.fail("“at_once” must be from 1 to 64", (*path, "at_once"), "4 suits most CAs")
        if bool(entry.binding_id) != bool(entry.binding_key_file):
            raise self.fail("“binding_id” and “binding_key_file” go together", path, "add the other one")
        self.expect_no(key_owner_fault(name, among), path)
        wrong = _ACME_KEYS if not entry.is_acme else _PORTAL_KEYS
        for key in wrong:
            if getattr(entry, key):
                raise self.fail(f"“{key}” does not apply to kind = “{entry.kind}”", (*path, key), "remove the line")
        for key, template in (*(("lines", line) for line in entry.lines),
                              *((key, getattr(entry, key)) for key in ("path", "record", "value"))):  # fmt: skip
            fault = template_fault(template)
            if fault is not None:
                raise self.fail(f"“{key}” has the unknown placeholder {{{fault[0]}}}", (*path, key), fault[1])
        self.expect_no(stages_fault(entry.steps), path)
        for first, second in (("path", "lines"), ("record", "value")):
            if bool(getattr(entry, first)) != bool(getattr(entry, second)):
                there, lacking = (first, second) if getattr(entry, first) else (second, first)
                raise self.fail(f"“{there}” needs “{lacking}” beside it", (*path, there), f"add a line {lacking} = …")

    def only_default(self, path: tuple[str, ...], entry: Authority, among: Mapping[str, Authority]) -> None:
        """Refuse a default beside one that comes before it."""
        first = next((other for other, each in among.items() if each.default), path[-1])
        if entry.default and first != path[-1]:
            raise self.fail(
                f"[authority.{first}] is the default as well", (*path, "default"), "leave it to one of them"
            )

    def server(self, name: str, entry: Server, ledger: LedgerSettings) -> None:
        """Refuse keys that do not go with the server's kind or with the ledger, and a machine that cannot be read."""
        path = ("server", name)
        if name in {BY_HAND, LISTENER}:
            raise self.fail(f"“{name}” has a meaning of its own", path, "give the server another name")
        self.expect_no(find_fault(name, entry), path)
        self.expect_no(server_machines_fault(name, entry, ledger), path)

    def nameserver(self, name: str, entry: Nameserver) -> None:
        """Refuse keys that do not go with the nameserver's kind."""
        path = ("nameserver", name)
        self.expect_no(nameserver_fault(entry), path)
        if entry.kind == "http":
            # Libraries that no other table needs.
            from inkstamp.config.recipe_file import recipe_fault  # noqa: PLC0415

            self.expect_no(recipe_fault(entry), path)

    def shared(self, whole: Configuration) -> None:
        self.expect_no(ledger_fault(whole.ledger), ("ledger",))
        self.expect_no(machine_fault(whole.machine), ("machine",))

    def messenger(self, name: str, entry: Messenger) -> None:
        """Refuse keys that do not go with the messenger's kind."""
        self.expect_no(messenger_fault(name, entry), ("messenger", name))

    def expect_no(self, fault: Fault | None, path: tuple[str, ...]) -> None:
        if fault is not None:
            raise self.fail(fault.what, (*path, *fault.key), fault.advice)

    def proof(self, path: tuple[str, ...], entry: Certificate, authority: Authority) -> None:
        """Refuse a way of proving that the kind of authority does not know."""
        if authority.is_acme:
            if entry.via == BY_HAND and entry.proof is None:
                raise self.fail(
                    f"[{'.'.join(path)}] lacks the key “via”",
                    path,
                    'add a line via = …, the server with the sites; or proof = "http-01" or "dns-01" to do it by hand',
                )
            wrong = next((each for each in entry.methods if each not in ACME_METHODS), None)
            if wrong is not None:
                raise self.fail(f"“{entry.authority}” speaks ACME: “{wrong}” is for portals", (*path, "proof"),
                                f"known values: {', '.join(ACME_METHODS)}")  # fmt: skip
            draft = next((each for each in entry.methods if each in DRAFT_METHODS), "")
            if draft and not authority.draft:
                raise self.fail(f"“{draft}” is an IETF draft, which may change", (*path, "proof"),
                                f"if that CA offers it: draft = true under [authority.{entry.authority}]")  # fmt: skip
        elif entry.proof is not None and (len(entry.methods) > 1 or entry.methods[0] in ACME_METHODS):
            raise self.fail(f"“{entry.authority}” is a portal, which has its own methods", (*path, "proof"),
                            "known values: file, cname, txt, email; or leave it out")  # fmt: skip

    def carried(self, path: tuple[str, ...], entry: Certificate, whole: Configuration) -> None:
        """Refuse a method that nothing named in `via` carries, and a carrier that carries nothing."""
        portal = not whole.authority[entry.authority].is_acme
        if portal and (entry.proof is None or entry.carriers == (BY_HAND,)):
            return
        self.expect_no(via_fault(entry, whole), path)
        methods = entry.methods
        for method in methods:
            if not any(carries(whole, each, method) for each in entry.carriers):
                them = ", ".join(entry.carriers)
                lacking = "a server" if method in {"http-01", "file"} else "a nameserver or a program, or by-hand"
                if method == "tls-alpn-01":
                    lacking = LISTENER
                raise self.fail(f"“{them}” cannot be used for {method}", (*path, "via"), f"name {lacking} there")
        for each in entry.carriers:
            others = [other for other in entry.carriers if each == BY_HAND and other != BY_HAND]
            left = [method for method in methods if not any(carries(whole, other, method) for other in others)]
            if not any(carries(whole, each, method) for method in left):
                raise self.fail(f"“{each}” cannot be used for {' or '.join(methods)}", (*path, "via"),
                                "remove it, or add its method to `proof`")  # fmt: skip

    def names(self, path: tuple[str, ...], entry: Certificate, whole: Configuration) -> tuple[str, ...]:
        """Return the names as certificates have them; refuse those that cannot be proven as configured."""
        if not entry.names:
            raise self.fail(f"[{'.'.join(path)}] has no names", (*path, "names"), "list at least one name")
        try:
            names = identifiers(entry.names)
        except NameTrouble as error:
            raise self.fail(error.what, (*path, "names"), error.advice) from error
        portal = not whole.authority[entry.authority].is_acme
        for each in names:
            if portal and as_address(each):
                raise self.fail(f"{each} is an address, which is ordered at ACME CAs alone", (*path, "names"),
                                "remove it")  # fmt: skip
            known = methods_for(entry, each) if not portal else [m for m in entry.methods if can_prove(m, each)]
            if not known and (not portal or entry.proof is not None):
                what = f"the wildcard {each}" if each.startswith("*.") else f"the address {each}"
                advice = "name each host, or use dns-01, which wildcards need" if each.startswith("*.") else (
                    "IP addresses are validated by http-01 or tls-alpn-01")  # fmt: skip
                raise self.fail(f"{' or '.join(entry.methods)} cannot validate {what}", (*path, "names"), advice)
        return names

    def certificate(self, name: str, entry: Certificate, whole: Configuration) -> Certificate:
        """Check an entry by the rest of the file; returns it with its names as certificates have them."""
        self.settings(("certificate", name), entry, whole)
        return self.with_names(("certificate", name), entry, whole)

    def with_names(self, path: tuple[str, ...], entry: Certificate, whole: Configuration) -> Certificate:
        """Return an entry with its names as certificates have them; refuse what cannot be validated as it says."""
        names = self.names(path, entry, whole)
        return entry if names == entry.names else msgspec.structs.replace(entry, names=names)

    def settings(self, path: tuple[str, ...], entry: Certificate, whole: Configuration) -> None:
        """Refuse what an entry says, but for its names, where the rest of the file does not allow it."""
        self.refers(entry.authority, "authority", whole.authority, (*path, "authority"))
        if not entry.carriers or len(set(entry.carriers)) < len(entry.carriers):
            raise self.fail(
                "“via” is empty or names one twice", (*path, "via"), "name each server, nameserver or program once"
            )
        if entry.tlsa_via:
            self.refers(entry.tlsa_via, "nameserver", {**whole.nameserver, **whole.program}, (*path, "tlsa_via"))
        carriers = {**whole.server, **whole.nameserver, **whole.program, BY_HAND: None, LISTENER: None}
        for each in entry.carriers:
            self.refers(each, "server", carriers, (*path, "via"))
        self.proof(path, entry, whole.authority[entry.authority])
        self.carried(path, entry, whole)
        for server in entry.install:
            self.refers(server, "server", {**whole.server, **whole.program}, (*path, "install"))
            if server in whole.server and not takes_certificates(whole.server[server]):
                raise self.fail(
                    f"“{server}” takes no certificates: it has no `files`",
                    (*path, "install"),
                    f"add files = [{{ path = …, form = … }}] to [server.{server}], or leave it out",
                )
        for each in entry.otherwise:
            self.refers(each, "authority", whole.authority, (*path, "otherwise"))
        for fault in (certificate_fault(entry, whole.authority), elsewhere_fault(entry, whole.server),
                      encryption_fault(entry, whole.server), rollout_fault(entry, whole)):  # fmt: skip
            self.expect_no(fault, path)
        if entry.keep < 1:
            raise self.fail("“keep” is less than one edition", (*path, "keep"), "write how many editions stay")
