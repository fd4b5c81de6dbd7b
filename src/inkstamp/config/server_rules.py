"""Which keys of a `[server.NAME]` table go together."""

import re
from collections.abc import Iterator

from msgspec import Struct

from inkstamp.config.model import FileCopy, Server
from inkstamp.config.server_kinds import KINDS, WINDOWS
from inkstamp.config.words import SECRET_FORMS

_SSH_URL = re.compile(r"ssh://([A-Za-z0-9._-]+@)?([A-Za-z0-9._-]+|\[[0-9A-Fa-f:.]+\])(:\d{1,5})?/?")
_LOOK = re.compile(r"((smtp|imap|pop3|tls)://)?([A-Za-z0-9._-]+|\[[0-9A-Fa-f:.]+\]):\d{1,5}")
_MODE = re.compile(r"0?[0-7]{3}")
_WINDOWS_PATH = re.compile(r"[A-Za-z]:\\[^\x00-\x1f\"<>|?*]+")
_WORD = re.compile(r"[A-Za-z0-9._-]+")
_TAKE_TLS_SETTINGS = tuple(kind for kind, facts in KINDS.items() if facts.takes_tls_settings)
_TEXT = tuple(kind for kind, facts in KINDS.items() if facts.is_text)
_ONLY_FOR = {
    **dict.fromkeys(("root", "files"), ("files",)),
    "look": ("files", "balancer", "windows"),
    **dict.fromkeys(("address", "listener", "token_file", "trust"), ("balancer",)),
    **dict.fromkeys(("program", "main_file", "prefix"), _TEXT),
    **dict.fromkeys(("test", "reload"), (*_TEXT, "files")),
    "reach": (*_TEXT, "files", *WINDOWS),
    "script": ("windows",),
    **dict.fromkeys(("tls", "http2", "redirect", "hsts_days", "client_roots"), _TAKE_TLS_SETTINGS),
}
"""By key, the kinds that it applies to, where those are not all."""
_IIS = Server(kind="iis")
"""What keys are when they are left out."""
_READ_BY_ALL = 0o004
COPY_PLACEHOLDERS = ("{certificate}", "{edition}", "{year}", "{month}")
"""In the path of a copy: the certificate's short name, the edition's number, and when it expires (UTC)."""
_PLACEHOLDER = re.compile(r"\{[^{}]*\}")


class Fault(Struct, frozen=True):
    """What is wrong with a table."""

    what: str
    key: tuple[str, ...]
    """Below the table."""
    advice: str


def is_ssh_url(text: str) -> bool:
    """Tell whether `text` names a machine for OpenSSH's client; no word that it could take for an option."""
    return _SSH_URL.fullmatch(text) is not None and "/-" not in text and "@-" not in text


def find_fault(name: str, entry: Server) -> Fault | None:
    """Return the first fault of `[server.NAME]`."""
    kind = [*_kind_faults(name, entry), *_balancer_faults(name, entry), *_manner_faults(entry)]
    return next(iter([*kind, *_reach_faults(entry), *_look_faults(entry), *_copies_faults(entry)]), None)


def _kind_faults(name: str, entry: Server) -> Iterator[Fault]:
    if entry.kind == "files" and not entry.root and not entry.files:
        yield Fault(f"[server.{name}] lacks the key “root” or “files”", ("kind",),
                    'add root = "/srv/www/{domain}" (challenge responses) or files = […] (certificates)')  # fmt: skip
    if entry.kind in WINDOWS:
        yield from _windows_faults(name, entry)
    elif (entry.store, entry.exportable, entry.friendly_name) != (_IIS.store, _IIS.exportable, _IIS.friendly_name):
        yield Fault(f"“store”, “exportable” and “friendly_name” do not apply to kind = “{entry.kind}”", ("kind",),
                    "remove the line")  # fmt: skip
    for key, kinds in _ONLY_FOR.items():
        if getattr(entry, key) and entry.kind not in kinds:
            yield Fault(f"“{key}” does not apply to kind = “{entry.kind}”", (key,), "remove the line")
    if set(_PLACEHOLDER.findall(entry.root)) - {"{domain}"}:
        yield Fault(f"“root” has an unknown placeholder: {entry.root}", ("root",), "known: {domain}")


def _windows_faults(name: str, entry: Server) -> Iterator[Fault]:
    if entry.kind == "windows" and not _WINDOWS_PATH.fullmatch(entry.script):
        yield Fault(f"[server.{name}] lacks the key “script”, an absolute path on that machine", ("kind",),
                    r"add script = 'C:\path\of\it.ps1'")  # fmt: skip
    if not entry.reach:
        yield Fault(f"[server.{name}] lacks the key “reach”", ("kind",), 'add reach = "ssh://administrator@host"')
    for key in ("sudo", "proof_folder", "certificate_folder"):
        if getattr(entry, key) != getattr(_IIS, key):
            yield Fault(f"“{key}” does not apply to kind = “{entry.kind}”", (key,), "remove the line")
    words, rest = _PLACEHOLDER.findall(entry.friendly_name), _PLACEHOLDER.sub("", entry.friendly_name)
    if (
        sorted(words) != ["{certificate}", "{edition}"]
        or set("{}") & set(rest)
        or not entry.friendly_name.isprintable()
    ):
        yield Fault(f"“friendly_name” does not tell editions apart: {entry.friendly_name}", ("friendly_name",),
                    "write {certificate} and {edition} into it, each once")  # fmt: skip


def _balancer_faults(name: str, entry: Server) -> Iterator[Fault]:
    for key in ("address", "listener", "token_file") if entry.kind == "balancer" else ():
        if not getattr(entry, key):
            yield Fault(f"[server.{name}] lacks the key “{key}”", ("kind",), f"add a line {key} = …")
    if entry.address and not entry.address.startswith("https://"):
        yield Fault(f"“{entry.address}” is no https URL", ("address",), "keys go there: begin it with https://")
    if entry.listener and _WORD.fullmatch(entry.listener) is None:
        yield Fault(f"“{entry.listener}” cannot name a listener", ("listener",), "use letters, digits, - . and _")


def _manner_faults(entry: Server) -> Iterator[Fault]:
    if entry.hsts_days < 0:
        yield Fault("“hsts_days” is less than nothing", ("hsts_days",), "write a number of days")
    if entry.client_roots and not entry.client_roots.startswith("/"):
        yield Fault(f"“{entry.client_roots}” is no absolute path", ("client_roots",), "begin it with /")


def _reach_faults(entry: Server) -> Iterator[Fault]:
    if entry.ssh_config and not entry.reach:
        yield Fault("“ssh_config” is for another machine", ("ssh_config",), 'add a line reach = "ssh://host"')
    if entry.sudo and entry.kind == "balancer":
        yield Fault("“sudo” does not apply to kind = “balancer”", ("sudo",), "remove the line")
    if entry.reach and not is_ssh_url(entry.reach):
        yield Fault(f"“{entry.reach}” does not say how to reach a machine", ("reach",), "write ssh://user@host:port")


def _look_faults(entry: Server) -> Iterator[Fault]:
    for each in entry.look:
        if _LOOK.fullmatch(each) is None:
            yield Fault(f"“{each}” is not host:port", ("look",), "write host:port, or smtp://host:port for STARTTLS")


def _copies_faults(entry: Server) -> Iterator[Fault]:
    paths = [each.path for each in entry.files]
    if len(set(paths)) < len(paths):
        yield Fault("two of “files” have the same path", ("files",), "give each a path of its own")
    for each in entry.files:
        yield from _copy_faults(each)


def _copy_faults(copy: FileCopy) -> Iterator[Fault]:
    key = ("files",)
    if not copy.path.startswith("/") or copy.path.endswith("/") or "/../" in copy.path:
        yield Fault(f"“{copy.path}” is no absolute path of a file", key, "begin it with /")
    folder, _, name = copy.path.rpartition("/")
    if set(_PLACEHOLDER.findall(copy.path)) - set(COPY_PLACEHOLDERS):
        yield Fault(f"“{copy.path}” has an unknown placeholder", key, f"known: {', '.join(COPY_PLACEHOLDERS)}")
    elif set(_PLACEHOLDER.findall(folder)) - {"{certificate}"}:
        yield Fault(f"the folder of “{copy.path}” changes with each edition", key,
                    "put {edition}, {year} and {month} into the name of the file")  # fmt: skip
    elif "{month}" in name and not {"{year}", "{edition}"} & set(_PLACEHOLDER.findall(name)):
        yield Fault(f"“{copy.path}” is the same name every year", key, "put {year} beside {month}")
    if copy.mode and _MODE.fullmatch(copy.mode) is None:
        yield Fault(f"“{copy.mode}” is no mode of a file", key, "write it in octal, like 0640")
    elif copy.form in SECRET_FORMS and copy.mode and int(copy.mode, 8) & _READ_BY_ALL:
        yield Fault(f"mode {copy.mode} would allow everybody to read the key in {copy.path}", key, "use 0600, or 0640")
    if (copy.form == "pkcs12") != bool(copy.passphrase_file):
        what = "needs" if copy.form == "pkcs12" else "takes no"
        yield Fault(f"the form {copy.form} {what} “passphrase_file”", key, "a PKCS#12 has one, the others none")
