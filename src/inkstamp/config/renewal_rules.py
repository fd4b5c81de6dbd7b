"""Which keys of `[renewal]` and of a `[messenger.NAME]` table go together, and which values are sensible."""

import re
from collections.abc import Iterator, Mapping, Sequence
from urllib.parse import urlsplit

from inkstamp.config.model import Authority, Certificate, Messenger, PortalStage, Server
from inkstamp.config.record_changers import Nameserver
from inkstamp.config.server_kinds import KINDS, WINDOWS
from inkstamp.config.server_rules import Fault
from inkstamp.urls import is_loopback
from inkstamp.wording import header_of

LEAST_LEFT, MOST_LEFT = 0.05, 0.9
_MOST_DAYS = 1000
_PLAIN_ALONE = {"postfix", "balancer", "iis", "windows"}
"""Kinds of servers that have no means at all for encrypted keys."""
_PLACE = re.compile(r"([A-Za-z0-9._-]+|\[[0-9A-Fa-f:.]+\])(:\d{1,5})?")
_ADDRESS = re.compile(r"[^@\s<>,]+@[^@\s<>,]+")
_ONLY_FOR = {
    **dict.fromkeys(("server", "sender", "to", "user", "password_file"), "mail"),
    **dict.fromkeys(("url", "key_file"), "webhook"),
}

_NAMESERVER_KEYS = {
    "trust": ("powerdns", "http"),
    "server_id": ("powerdns",),
    "recipe": ("http",),
    "settings": ("http",),
}
_NEEDED_BY_NAMESERVER = {"update": (), "powerdns": ("address", "key_file"), "http": ("recipe", "key_file")}


def may_be_plain(url: str) -> bool:
    """Tell whether an API may be asked without TLS: it is on this machine."""
    return is_loopback(urlsplit(url).hostname or "")


def share_fault(share: float | None, key: str) -> Fault | None:
    """Return what is wrong with a share of the lifetime."""
    if share is None or LEAST_LEFT <= share <= MOST_LEFT:
        return None
    return Fault(f"“{key}” is no share of a lifetime that leaves time for anything", (key,),
                 f"write a number from {LEAST_LEFT} to {MOST_LEFT}")  # fmt: skip


def nameserver_fault(entry: Nameserver) -> Fault | None:
    """Return what is wrong with a nameserver's table."""
    lost = next(
        (key for key, kinds in _NAMESERVER_KEYS.items() if key in entry.given() and entry.kind not in kinds), ""
    )
    if lost:
        return Fault(f"“{lost}” does not apply to kind = “{entry.kind}”", (lost,), "remove the line")
    for key in _NEEDED_BY_NAMESERVER[entry.kind]:
        if not getattr(entry, key):
            return Fault(f"kind = “{entry.kind}” needs “{key}”", (), f"add a line {key} = …")
    if entry.kind == "update" or not entry.address:
        return None
    parts = urlsplit(entry.address)
    if parts.scheme != "https" and not (parts.scheme == "http" and may_be_plain(entry.address)):
        return Fault(f"“{entry.address}” is no https URL", ("address",),
                     "its key goes there: begin it with https://; http:// is for an API on this machine")  # fmt: skip
    return None


def key_owner_fault(name: str, among: Mapping[str, Authority]) -> Fault | None:
    """Return what is wrong with whose account key an authority's account has."""
    owner = among[name].account_key_of
    if not owner:
        return None
    if owner not in among or owner == name:
        told = f"“account_key_of” names {f'“{owner}”, which is not there' if owner != name else 'the authority itself'}"
    elif not among[owner].is_acme or among[owner].account_key_of:
        told = f"“account_key_of” names “{owner}”, whose account has no key of its own"
    else:
        return None
    return Fault(told, ("account_key_of",), "name another ACME authority, whose account's key this one is to have too")


def certificate_fault(entry: Certificate, authorities: dict[str, Authority]) -> Fault | None:
    """Return what is wrong with when and where a certificate is renewed."""
    fault = share_fault(entry.renew_with_left, "renew_with_left")
    if not authorities[entry.authority].is_acme:
        wish = next((key for key in ("profile", "lifetime_days", "leave_out_failing") if getattr(entry, key)), "")
        if wish:
            told = f"“{wish}” is for ACME authorities, and “{entry.authority}” is a portal"
            fault = fault or Fault(told, (wish,), "remove it: it is chosen on the portal's pages")
    else:
        if entry.level is not None:
            told = f"“level” is for portals, and “{entry.authority}” speaks ACME"
            fault = fault or Fault(told, ("level",), "remove it: `profile` chooses among what an ACME CA issues")
        if entry.same_request and not entry.key_elsewhere:
            told = "“same_request” is for portals, and for a certificate whose key is elsewhere"
            fault = fault or Fault(told, ("same_request",), "remove it: an ACME CA is sent a new CSR each time")
    if entry.lifetime_days < 0:
        fault = fault or Fault("“lifetime_days” is less than a day", ("lifetime_days",), "write a number of days")
    if fault is not None or not entry.otherwise:
        return fault
    wrong = [each for each in (entry.authority, *entry.otherwise) if not authorities[each].is_acme]
    if wrong:
        return Fault(f"“otherwise” is for ACME authorities, and “{wrong[0]}” is a portal", ("otherwise",),
                     "remove it: a portal waits for a person")  # fmt: skip
    if len({entry.authority, *entry.otherwise}) <= len(entry.otherwise):
        return Fault("“otherwise” names an authority twice", ("otherwise",), "name each once")
    return None


def stages_fault(stages: Sequence[PortalStage]) -> Fault | None:
    """Return what is wrong with the steps that a portal's orders go through."""
    steps = [each.step for each in stages]
    twice = next((each for each in steps if steps.count(each) > 1), None)
    if twice is not None:
        return Fault(f"“steps” has “{twice}” twice", ("steps",), "keep one; `level` says which certificates need it")
    if not all(0 <= each.days <= _MOST_DAYS for each in stages):
        return Fault("“days” is no number of days", ("steps",), f"write a number from 0 to {_MOST_DAYS}")
    return None


def encryption_fault(entry: Certificate, servers: Mapping[str, Server]) -> Fault | None:
    """Return why a server cannot be given an encrypted key."""
    for name in entry.install if entry.key_passphrase_file else ():
        server = servers.get(name)
        if server is not None and not (server.decrypt or KINDS[server.kind].reads_encrypted_keys):
            why = (
                "takes plain keys alone"
                if server.kind in _PLAIN_ALONE
                else "would ask for the passphrase of an encrypted key on a terminal each time it starts"
            )
            return Fault(f"“{name}” cannot be given an encrypted key: {server.kind} {why}", ("key_passphrase_file",),
                         f"let it have the plain key: decrypt = true in [server.{name}]")  # fmt: skip
    return None


def elsewhere_fault(entry: Certificate, servers: Mapping[str, Server]) -> Fault | None:
    """Return what cannot be together with a key that is on another machine."""
    if entry.key_elsewhere:
        lost = next((key for key in ("key_passphrase_file", "key_stays") if getattr(entry, key)), "")
        if lost:
            return Fault(f"“{lost}” is for keys that are here, and “key_elsewhere” says that it is not", (lost,),
                         "remove it")  # fmt: skip
        windows = [each for each in entry.install if each in servers and servers[each].kind in WINDOWS]
        if windows != list(entry.install):
            return Fault("“install” needs the key, and “key_elsewhere” says that it is not here", ("install",),
                         "remove it, and hand the certificate out: inkstamp export NAME")  # fmt: skip
        if len({(servers[each].reach, servers[each].store) for each in windows}) > 1:
            return Fault("“install” names several machines, and with “key_elsewhere” one of them has the key",
                         ("install",), "have a certificate for each")  # fmt: skip
        if entry.leave_out_failing:
            return Fault("“leave_out_failing” excludes “key_elsewhere”: the CSR has all the names",
                         ("leave_out_failing",), "remove it")  # fmt: skip
    return None


def twin_fault(entry: Certificate, alike: Sequence[tuple[str, Certificate]]) -> Fault | None:
    """Return what is wrong with an entry that has the names and key algorithm of others, for the same servers.

    Each would take the other's place on them, again and again.
    """
    for name, other in alike:
        both = set(entry.install) & set(other.install)
        if both or (not entry.install and not other.install and entry.authority == other.authority):
            where = f", and is for {', '.join(sorted(both))} too" if both else ""
            told = f"it has the names and key algorithm of {header_of('certificate', name)}{where}"
            return Fault(told, ("names",), "remove one of them, or choose another key algorithm for one")
    return None


def messenger_fault(name: str, entry: Messenger) -> Fault | None:
    """Return the first fault of `[messenger.NAME]`."""
    return next(_messenger_faults(name, entry), None)


def _messenger_faults(name: str, entry: Messenger) -> Iterator[Fault]:
    for key, kind in _ONLY_FOR.items():
        if getattr(entry, key) and entry.kind != kind:
            yield Fault(f"“{key}” does not apply to kind = “{entry.kind}”", (key,), "remove the line")
    needed: Sequence[str] = ("server", "sender", "to") if entry.kind == "mail" else ("url", "key_file")
    for key in needed:
        if not getattr(entry, key):
            yield Fault(f"[messenger.{name}] lacks the key “{key}”", ("kind",), f"add a line {key} = …")
    yield from _mail_faults(entry) if entry.kind == "mail" else ()
    if entry.kind == "webhook" and not entry.url.startswith(("https://", "http://")):
        yield Fault(f"“url” is no web address: {entry.url}", ("url",), "write https://…")
    if not entry.about:
        yield Fault("“about” is empty", ("about",), "remove it, or the whole table")
    if entry.failing_times < 1:
        yield Fault("“failing_times” is less than one", ("failing_times",), "write how often something must fail")


def _mail_faults(entry: Messenger) -> Iterator[Fault]:
    if not _PLACE.fullmatch(entry.server):
        yield Fault(f"“server” is no host with a port: {entry.server}", ("server",), 'as in "mail.example.org:587"')
    wrong = next((each for each in (entry.sender, *entry.to) if not _ADDRESS.fullmatch(each)), None)
    if wrong is not None:
        yield Fault(f"“{wrong}” is no e-mail address", ("to",), "write addresses alone, without names")
    if bool(entry.user) != bool(entry.password_file):
        yield Fault("“user” and “password_file” go together", ("kind",), "add the other one")
    if entry.user and entry.tls == "none":
        yield Fault("a password is not sent without TLS", ("tls",), "remove tls = “none”")
