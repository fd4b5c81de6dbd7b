"""A `server` block of its own for names that a block answers by a wildcard or as the default."""

import re
from collections.abc import Iterator, Sequence

from inkstamp.errors import ServerTrouble
from inkstamp.servers.interface import Supply
from inkstamp.servers.nginx.edit import PASSPHRASES, certificate_lines
from inkstamp.servers.nginx.reading import ServerBlock
from inkstamp.servers.text import Directive, Splice, apply, indent_at
from inkstamp.servers.tls_edits import without

_OF_THE_SOCKET = re.compile(
    r"(default|default_server|bind|deferred|reuseport|(backlog|rcvbuf|sndbuf|setfib|fastopen|accept_filter|ipv6only"
    r"|so_keepalive)=.*)"
)
"""Words of `listen` that count for the whole socket, and may be said once."""
_REPLACED = frozenset({"server_name", "ssl_certificate", "ssl_certificate_key", PASSPHRASES})


def own_block(host: ServerBlock, text: str, names: Sequence[str], supply: Supply) -> Splice:
    """Return the edit that puts a block for just these names behind another one, alike but for names and certificate.

    Args:
        host: The block that answers them now.
        text: Its file's text.
        names: Exact names, none of which stands in the block.
        supply: Certificate and key.

    Raises:
        ServerTrouble: The block's certificate stands in a file that it includes.

    """
    block = host.block
    inside = block.block or ()
    own = [each for each in inside if each.file == block.file and block.start <= each.start < block.end]
    foreign = next((each for each in inside if each.name in _REPLACED and each not in own), None)
    if foreign is not None:
        raise ServerTrouble(
            f"a block of its own cannot be made: {foreign.name} is included",
            where=f"{foreign.file}, line {foreign.line}",
            advice=f"move {foreign.name} from that file into the server block",
        )
    splices = [*_without(own, text), *_listens(own)]
    lines = [f"server_name {' '.join(names)};", *certificate_lines(supply)]
    end_of_line = "\r\n" if "\r\n" in text else "\n"
    indent = indent_at(text, own[0].start) if own else indent_at(text, block.start) + "    "
    head = "".join(f"{end_of_line}{indent}{line}" for line in lines)
    splices.append(Splice(block.file, block.block_start, block.block_start, head))
    outside = text[: block.start], text[block.end :]
    copy = apply(text, splices)[len(outside[0]) :]
    copy = copy[: len(copy) - len(outside[1])]
    return Splice(block.file, block.end, block.end, f"{end_of_line}{end_of_line}{indent_at(text, block.start)}{copy}")


def _without(own: Sequence[Directive], text: str) -> Iterator[Splice]:
    """Take out what is written again."""
    return (without(each, text) for each in own if each.name in _REPLACED)


def _listens(own: Sequence[Directive]) -> Iterator[Splice]:
    for each in own:
        if each.name == "listen":
            for word in each.words[2:]:
                if _OF_THE_SOCKET.fullmatch(word.value):
                    yield Splice(each.file, word.start - 1, word.end, "")
