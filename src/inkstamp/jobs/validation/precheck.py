"""What a CA will look at for each name, looked at beforehand; no CA is needed for it."""

import secrets
from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from inkstamp.accounts.account_keys import known_thumbprint
from inkstamp.accounts.authorities import caa_names
from inkstamp.bulkhead import apart, as_they_end, attempt
from inkstamp.config.carrying import methods_for
from inkstamp.config.config_file import expect_known
from inkstamp.config.words import BY_HAND, LISTENER, RECORD_METHODS
from inkstamp.deadline import within
from inkstamp.errors import InkStampError, ServerTrouble
from inkstamp.findings import Finding, bad, note, ok, warn
from inkstamp.jobs.inventory.placement import serving_server
from inkstamp.jobs.validation import dns_records
from inkstamp.jobs.validation.context import ValidationContext
from inkstamp.jobs.validation.dns_records import Placed, challenge_record, place
from inkstamp.jobs.validation.persistent_records import persistent_findings
from inkstamp.jobs.validation.web_files import answers_at, in_the_way, put_up, take_down_of
from inkstamp.jobs.validation.zone_check import check_zone
from inkstamp.ledger.records import TRIAL_ORDER
from inkstamp.pki.certifiable import why_not_certifiable
from inkstamp.pki.names import as_address, normalise, readable
from inkstamp.pki.suffixes import registrable
from inkstamp.progress import as_far_as_it_goes
from inkstamp.proof.caa import judge_caa
from inkstamp.proof.observation import Caution, look_at
from inkstamp.proof.record import RecordProof
from inkstamp.proof.web_file import FileProof, random_proof
from inkstamp.reach.ports import local_listeners
from inkstamp.severity import Severity, worst
from inkstamp.view.addresses import Addresses, address_book
from inkstamp.view.lookups import Records
from inkstamp.view.point import is_own_address

if TYPE_CHECKING:
    from inkstamp.config.config_file import ConfigFile
    from inkstamp.view.point import View

_AT_ONCE = 16
_NAME_SECONDS = 120.0
"""For all that is looked at for one name."""


class NameCheck(Struct, frozen=True, kw_only=True):
    """What was seen of one name."""

    name: str
    addresses: tuple[str, ...]
    method: str
    """The challenge type that was looked at."""
    findings: tuple[Finding, ...]

    tried: bool = True
    """Whether the proof was: put where it will be, and seen from outside."""

    @property
    def passes(self) -> bool:
        """Whether all was tried, and nothing was seen that a CA would fail on."""
        return self.tried and worst(self.findings) is not Severity.BAD

    def mark(self, topic: str) -> str:
        """Say in one word how one topic stands; a dash when it was not looked at."""
        about = [each for each in self.findings if each.topic == topic]
        return worst(about).value if about else "-"


class _NameToCheck(Struct, frozen=True):
    """A name, and how it is to be proven."""

    name: str
    method: str
    via: tuple[str, ...]
    """The servers that carry the trial, or `listener`; empty for none."""
    authority: str
    lacking: str = ""
    """Why there is nothing that would carry it."""
    whole: bool = True
    """Whether each of its addresses must be seen."""


def precheck(
    context: ValidationContext,
    targets: Sequence[str],
    *,
    authority: str = "",
    via: Sequence[str] = (),
    whole: bool = True,
) -> list[NameCheck]:
    """Look at each target: a domain name, or a configured certificate for all of its names.

    Where something can carry it, a file of random content is put up for each name, or a record made, looked at from
    outside, and taken away again. With `whole` an address that cannot be reached from here does not pass.

    Raises:
        UsageError: A named authority or server is not configured.
        NameTrouble: A target is neither a certificate nor a name.

    """
    wishes = [replace(each, whole=whole) for each in _wishes(context, targets, authority, via)]
    trials: dict[str, FileProof] = {}
    troubles: dict[str, list[Finding]] = {}
    records: dict[str, Placed] = {}
    thumbprints = _thumbprints(context, wishes)
    with context.locks.trial(), ExitStack() as listening:
        take_down_of(context, TRIAL_ORDER)  # of a run that was killed
        try:
            for wish in wishes:
                if _servers(context.configuration, wish):
                    _plant(context, wish, _trial(wish, thumbprints), trials, troubles)
                elif wish.method in {"dns-01", "dns-account-01"}:
                    _make_record(context, wish, records, troubles)
            heard = [
                _trial(each, thumbprints) for each in wishes if each.via == (LISTENER,) and each.method == "http-01"
            ]
            _listen(context, heard, trials, troubles, listening)
            look = _looker(context, trials, records, troubles)

            def look_at(wish: _NameToCheck) -> NameCheck:
                with within(_NAME_SECONDS):
                    found = attempt(look, wish)
                if not isinstance(found, InkStampError):
                    return found
                finding = bad("precheck", wish.name, found.what, found.advice)
                return NameCheck(name=wish.name, addresses=(), method=wish.method, findings=(finding,), tried=False)

            looked_at = as_they_end(lambda at: (at, look_at(wishes[at])), range(len(wishes)), _AT_ONCE)
            found = as_far_as_it_goes(context.progress, "checked", looked_at, [each.name for each in wishes])
            return list(found.values())
        finally:
            take_down_of(context, TRIAL_ORDER)


def _wishes(
    context: ValidationContext, targets: Sequence[str], authority: str, via: Sequence[str]
) -> list[_NameToCheck]:
    config = context.configuration.current_or_empty()
    known = [*config.server, *config.nameserver, *config.program, BY_HAND, LISTENER]
    expect_known("server, nameserver or program", known, via, context.configuration.path)
    expect_known("authority", config.authority, [authority] if authority else [], context.configuration.path)
    usual = authority or config.usual_authority
    wishes = []
    for target in targets:
        entry = context.certificates.get(target)
        if entry is not None:
            acme = config.authority[entry.authority].is_acme
            carriers = tuple(each for each in via or entry.carriers if each in known)
            for name in entry.names:
                ways = methods_for(entry, name) if acme else ()
                wishes.append(
                    _NameToCheck(name, next(iter(ways), _usual(name)), carriers, authority or entry.authority)
                )
            continue
        name = as_address(target) or normalise(target)
        wishes.append(_as_asked(context, name, via, usual))
    return list(dict.fromkeys(wishes))


def _as_asked(context: ValidationContext, name: str, via: Sequence[str], authority: str) -> _NameToCheck:
    """Return how a name that is not configured would be proven: by what is named, or what `stamp` would choose."""
    config = context.configuration.current_or_empty()
    records = [*config.nameserver, *config.program]
    method = _usual(name)
    if via and set(via) <= {*records, BY_HAND} and not as_address(name):
        method = "dns-01"
    if via or method == "dns-01":
        usual = records if len(records) == 1 else []
        return _NameToCheck(name, method, tuple(via or usual), authority)
    try:
        return _NameToCheck(name, method, (serving_server(context, [name]),), authority)
    except InkStampError as error:
        return _NameToCheck(
            name, method, (), authority, f"{error.what}; {error.advice}" if error.advice else error.what
        )


def _usual(name: str) -> str:
    return "dns-01" if name.startswith("*.") else "http-01"


def _thumbprints(context: ValidationContext, wishes: Sequence[_NameToCheck]) -> dict[str, str]:
    """Return the thumbprints of our account keys at the authorities of some names; empty where there is no account."""
    config = context.configuration.current_or_empty()
    asked = dict.fromkeys(each.authority for each in wishes if each.method == "http-01")
    acme = [each for each in asked if each in config.authority and config.authority[each].is_acme]
    return {each: known_thumbprint(context, each) for each in acme}


def _trial(wish: _NameToCheck, thumbprints: Mapping[str, str]) -> FileProof:
    """Make the response to a challenge of a random token, as our account would, or with any thumbprint before."""
    return random_proof(wish.name, thumbprints.get(wish.authority, ""))


def _plant(
    context: ValidationContext,
    wish: _NameToCheck,
    proof: FileProof,
    trials: dict[str, FileProof],
    troubles: dict[str, list[Finding]],
) -> None:
    """Put up the trial's file; that no virtual host or folder is there for it is a finding, too."""
    if wish.method != "http-01":
        return
    try:
        with apart():
            put_up(context, TRIAL_ORDER, _servers(context.configuration, wish), [proof])
    except InkStampError as error:
        about = "server" if isinstance(error, ServerTrouble) else "validation"
        told = bad(about, wish.name, error.what, error.advice)
        troubles[wish.name] = [told, *in_the_way(context, _servers(context.configuration, wish), proof)]
        return
    trials[wish.name] = proof


def _listen(
    context: ValidationContext,
    heard: Sequence[FileProof],
    trials: dict[str, FileProof],
    troubles: dict[str, list[Finding]],
    listening: ExitStack,
) -> None:
    """Answer on the port for those that nothing else carries; that it is taken is a finding, too."""
    proofs = {each.name: each for each in heard}
    if not proofs:
        return
    from inkstamp.proof.listener import answer_files, where_to_listen  # noqa: PLC0415  most files are put up by web servers

    names = list(proofs)
    book, port = address_book(context.view), context.view.http_port
    addresses = where_to_listen([address for name in names for address in book.look_up(name).all])
    listening.enter_context(context.locks.port(port))
    try:
        listening.callback(answer_files(addresses, port, list(proofs.values())).close)
    except ServerTrouble as error:
        troubles |= {name: [bad("server", name, f"{error.what} at {error.where}", error.advice)] for name in names}
        return
    trials |= proofs


def _looker(
    context: ValidationContext,
    trials: dict[str, FileProof],
    made: dict[str, Placed],
    troubles: dict[str, list[Finding]],
) -> Callable[[_NameToCheck], NameCheck]:
    records = Records(context.view)
    issuers = {name: caa_names(context, name) for name in context.configuration.current_or_empty().authority}
    accounts = {name: context.ledger.account(name) for name in issuers}

    def look(wish: _NameToCheck) -> NameCheck:
        name = wish.name
        findings, addresses = [*_name(context.view, name)], tuple[str, ...]()
        if wish.method == "dns-persist-01":
            findings += persistent_findings(context, wish.authority, name)
        elif wish.method not in RECORD_METHODS:
            found = address_book(context.view).look_up(name)
            addresses = found.all
            findings += _addresses(context, wish, found, records)
            findings += _web(context, wish, trials, troubles) if wish.method == "http-01" else _tls(context.view)
        else:
            findings += check_zone(context, name, wish.method, wish.authority)
            findings += _record(context, wish, made.get(name), troubles)
        account = accounts.get(wish.authority)
        if not as_address(name):  # CAA is about names (RFC 8659 section 1)
            findings.append(
                judge_caa(
                    name,
                    records.caa(name),
                    issuers=issuers.get(wish.authority, ()),
                    method=wish.method,
                    account=account.url if account else "",
                    authority=wish.authority or "your CA",
                )
            )
        tried = name in trials or name in made or name in troubles
        tried = tried or wish.method == "dns-persist-01" or (wish.method == "tls-alpn-01" and not as_address(name))
        return NameCheck(name=name, addresses=addresses, method=wish.method, findings=tuple(findings), tried=tried)

    return look


def _name(view: "View", name: str) -> list[Finding]:
    reason = why_not_certifiable(name)
    if reason and view.is_private:
        return [ok("name", name, f"a private CA may issue for it, a public CA may not: {reason}")]
    if reason:
        return [bad("name", name, f"no public CA may issue for it: {reason}", "leave it out, or ask a private CA")]
    if name.startswith("*."):
        return [ok("name", readable(name), "a wildcard: validated by dns-01 only")]
    if as_address(name):
        return [ok("name", name, "an IP address: public CAs may issue for it (RFC 8738), few do")]
    return [ok("name", readable(name), f"a public CA may issue for it; its registrable domain is {registrable(name)}")]


def _addresses(context: ValidationContext, wish: _NameToCheck, known: Addresses, records: Records) -> list[Finding]:
    """Whose each address is: this machine's, the server's as its configuration says, or somebody else's."""
    name, addresses, trouble = wish.name, known.all, known.trouble
    if not addresses:
        if records.is_broken_by_dnssec(name):
            trouble = "its DNSSEC signatures are not right: validating resolvers refuse its answers"
            return [bad("address", name, trouble, "sign the zone again, or correct the DS record")]
        told = trouble.removeprefix(f"{name} ")
        return [bad("address", name, told, known.remedy(name))]
    findings = []
    for address in addresses:
        ours = next(
            (
                each
                for each in _servers(context.configuration, wish)
                if context.servers.get(each).answers_at(name, address)
            ),
            "",
        )
        if ours:
            findings.append(ok("address", name, f"{address} is answered by {ours}"))
        elif is_own_address(address):
            findings.append(note("address", name, f"{address} is this machine's"))
        else:
            findings.append(
                warn("address", name, f"{address} is neither this machine nor a configured server",
                     "if a load balancer or CDN is there, it must pass the challenge path on")
            )  # fmt: skip
    return findings


def _web(
    context: ValidationContext, wish: _NameToCheck, trials: dict[str, FileProof], troubles: dict[str, list[Finding]]
) -> list[Finding]:
    if wish.name in troubles:
        return troubles[wish.name]
    proof = trials.get(wish.name)
    if proof is None:
        by_hand = "the file is created by hand" if BY_HAND in wish.via else "no server is named; add --via SERVER"
        why = wish.lacking or by_hand
        return [warn("validation", wish.name, f"was not tried: {why}", f"inkstamp precheck {wish.name} --via SERVER")]
    servers = _servers(context.configuration, wish)
    seen = look_at(proof, context.view, answers_at(context, servers), Caution(whole=wish.whole))
    return seen if worst(seen) is not Severity.BAD else [*seen, *in_the_way(context, servers, proof)]


def _servers(configuration: "ConfigFile", wish: _NameToCheck) -> tuple[str, ...]:
    if wish.method != "http-01":
        return ()
    return tuple(each for each in wish.via if each in configuration.current_or_empty().server)


def _make_record(
    context: ValidationContext, wish: _NameToCheck, made: dict[str, Placed], troubles: dict[str, list[Finding]]
) -> None:
    """Put a record into DNS as it would be for the proof; that it cannot be is a finding, too."""
    carrier = _record_carrier(context.configuration, wish)
    if not carrier:
        return
    try:
        with apart():
            where = challenge_record(context, wish.method, wish.authority, wish.name)
            (placed,) = place(context, [RecordProof("txt", where, f"trial-{secrets.token_hex(16)}")])
            dns_records.put_up(context, TRIAL_ORDER, carrier, [placed])
    except InkStampError as error:
        told = f"{error.what}{f': {error.said}' if error.said else ''}"
        troubles[wish.name] = [bad("validation", wish.name, told, error.advice)]
        return
    made[wish.name] = placed


def _record_carrier(configuration: "ConfigFile", wish: _NameToCheck) -> str:
    config = configuration.current_or_empty()
    return next((each for each in wish.via if each in config.nameserver or each in config.program), "")


def _record(
    context: ValidationContext, wish: _NameToCheck, placed: Placed | None, troubles: dict[str, list[Finding]]
) -> list[Finding]:
    if wish.name in troubles:
        return troubles[wish.name]
    if placed is None:
        why = "the record is created by hand" if BY_HAND in wish.via else "no nameserver is named"
        return [
            warn("validation", wish.name, f"was not tried: {why}", f"inkstamp precheck '{wish.name}' --via NAMESERVER")
        ]
    return dns_records.observe(context, _record_carrier(context.configuration, wish), [placed])[placed]


def _tls(view: "View") -> list[Finding]:
    """For handshakes: whether the port can be had."""
    port = view.https_port
    holder = next(iter(local_listeners(port)), None)
    if holder is not None:
        return [bad("validation", f"port {port}", f"is taken by {holder}, and tls-alpn-01 needs it",
                    "stop that program meanwhile, or use another method")]  # fmt: skip
    return [ok("validation", f"port {port}", "is free for tls-alpn-01")]
