"""The program that tells Apache httpd the passphrases of encrypted keys (`SSLPassPhraseDialog exec:`, mod_ssl).

httpd takes one such program for all its keys, and runs it for each virtual host with `servername:port`. Ours answers
for the virtual hosts in its own table, and hands all others on to the program that was configured before.
"""

import re
import shlex
from collections.abc import Iterable, Iterator, Sequence

from msgspec import Struct

from inkstamp.errors import ServerTrouble
from inkstamp.reach.interface import Host, Rights
from inkstamp.servers.apache.edit import quote
from inkstamp.servers.apache.reading import Reading, VirtualHost
from inkstamp.servers.common import present
from inkstamp.servers.interface import FileChange, Supply
from inkstamp.servers.text import Splice, append_lines

_DIRECTIVE = "SSLPassPhraseDialog"
_EXEC = "exec:"
_USUAL_PORT = 443
_ENTRY = re.compile(r"^    (?P<host>\S.*)\) file=(?P<file>\S.*) ;; # (?P<certificate>\S+)$", re.MULTILINE)
_OTHERS = re.compile(r"^    \*\) (.*) ;;$", re.MULTILINE)
_PROGRAM = """\
#!/bin/sh
# Written by Ink Stamp: tells Apache httpd the passphrases of the keys of these virtual hosts, and of no others.
case "$1" in
{entries}    *) {others} ;;
esac
IFS= read -r passphrase < "$file" || [ -n "$passphrase" ] || exit 1
printf '%s\\n' "${{passphrase%"$(printf '\\r')"}}"
"""
_NOBODY = """echo "no passphrase is known for $1" >&2; exit 1"""


class _Entry(Struct, frozen=True):
    """A line of the program's table."""

    host: str
    """`servername:port`, as httpd gives it."""
    file: str
    """The passphrase is its first line."""
    certificate: str

    def __str__(self) -> str:
        return f"    {shlex.quote(self.host)}) file={shlex.quote(self.file)} ;; # {self.certificate}\n"


def tell_passphrase(
    machine: Host, reading: Reading, hosts: Iterable[tuple[VirtualHost, Sequence[str]]], supply: Supply
) -> tuple[list[Splice], list[FileChange]]:
    """Return what has httpd learn the passphrase of an edition's key: edits, and the program with its table.

    Args:
        machine: Where httpd runs.
        reading: Its configuration.
        hosts: The virtual hosts that are given the edition, each with the names of one of its own (empty for none).
        supply: The edition; nothing is needed for a plain key.

    Raises:
        ServerTrouble: A virtual host has no ServerName, its other key has another passphrase, or passphrases come from
            a program in a way that cannot be handed on to.

    """
    if not supply.passphrase_file:
        return [], []
    path, wanted = supply.passphrase_program, quote(f"{_EXEC}{supply.passphrase_program}")
    before, there = present(machine, path)
    text = (before or b"").decode("utf-8", "replace")
    directive = next(
        (each for each in reversed(reading.directives) if each.name.lower() == _DIRECTIVE.lower() and not each.block),
        None,
    )
    said = directive.arguments[0] if directive is not None and directive.arguments else ""
    is_ours = said == f"{_EXEC}{path}"
    others = _OTHERS.search(text)
    hand_on = others[1] if is_ours and others else _handing_on(said if not is_ours else "", reading, directive)
    entries = [each for each in _table(text) if each.certificate != supply.certificate]
    mine = {_Entry(_identity(host, own), supply.passphrase_file, supply.certificate) for host, own in hosts}
    for each in entries:
        _check_alike(each, mine, reading)
    table = "".join(map(str, sorted([*entries, *mine], key=lambda each: (each.host, each.certificate))))
    after = _PROGRAM.format(entries=table, others=hand_on).encode()
    program = FileChange(path, before, after, Rights(0o700), there, own_folder=True, shared=True)
    splices = []
    if directive is None:
        splices = [append_lines(reading.texts, reading.setting.main_file, [f"{_DIRECTIVE} {wanted}"])]
    elif not is_ours:
        word = directive.words[1]
        splices = [Splice(directive.file, word.start, word.end, wanted)]
    return splices, [program] if program.is_change else []


def _table(text: str) -> Iterator[_Entry]:
    """Read the table of a program of ours; ServerTrouble where somebody has changed it so that it cannot be read."""
    for found in _ENTRY.finditer(text):
        try:
            (host,), (file,) = shlex.split(found["host"]), shlex.split(found["file"])
        except ValueError as error:
            raise ServerTrouble(
                "a line of the program that tells passphrases cannot be read",
                where=_DIRECTIVE,
                said=found[0].strip(),
                advice="correct that line, or remove it and install its certificate again",
            ) from error
        yield _Entry(host, file, found["certificate"])


def _identity(host: VirtualHost, own_names: Sequence[str]) -> str:
    """Return what httpd gives the program for a virtual host: its ServerName, and the port in that, or 443."""
    given = [each.arguments[0] for each in host.own("servername") if each.arguments]
    name = own_names[0] if own_names else given[-1].rpartition("//")[2] if given else ""
    if not name:
        raise ServerTrouble(
            "the virtual host has no ServerName, by which httpd asks for the passphrase of its key",
            where=f"{host.block.file}, line {host.block.line}",
            advice="give it a ServerName; or give this server the plain key: decrypt = true",
        )
    return name if name.rpartition(":")[2].isdigit() and ":" in name else f"{name}:{_USUAL_PORT}"


def _check_alike(entry: _Entry, mine: Iterable[_Entry], reading: Reading) -> None:
    """Refuse a second key of the same virtual host with another passphrase: httpd asks for both in the same way."""
    if any(each.host == entry.host and each.file != entry.file for each in mine):
        raise ServerTrouble(
            f"the virtual host {entry.host} also has the key of “{entry.certificate}”, with a passphrase of its own",
            where=reading.setting.main_file,
            advice="have both certificates use one `key_passphrase_file`; or give this server plain keys: "
            "decrypt = true",
        )


def _handing_on(said: str, reading: Reading, directive: object) -> str:
    """Return what the program does for hosts that are not in its table."""
    if said in {"", "builtin"}:
        return _NOBODY
    program = said.removeprefix(_EXEC)
    if said.startswith("|") or program == said or any(each in program for each in "\n\r;"):
        raise ServerTrouble(
            f"httpd asks for passphrases by {said}, which cannot be handed on to",
            where=f"{getattr(directive, 'file', reading.setting.main_file)}, line {getattr(directive, 'line', 1)}",
            advice=f"write {_DIRECTIVE} exec:/path/of/a/program; or give this server the plain key: decrypt = true",
        )
    return f'exec {shlex.quote(program)} "$@"'


def check_undo(certificate: str, changes: Iterable[FileChange]) -> None:
    """Refuse to take an install back while the keys of other certificates need the program that it brought.

    Raises:
        ServerTrouble: Others are in its table, and would not be any more.

    """
    for change in changes:
        if change.shared:
            now, then = (
                set(_table((data or b"").decode("utf-8", "replace"))) for data in (change.before, change.after)
            )
            lost = sorted({each.certificate for each in now - then if each.certificate != certificate})
            if lost:
                raise ServerTrouble(
                    f"the passphrases of {', '.join(lost)} are told by the program that this install brought",
                    where=change.path,
                    advice=f"undo those first: inkstamp undo {lost[-1]}",
                )
