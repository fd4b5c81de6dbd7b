"""A `<VirtualHost>` of its own for names that another one answers by a wildcard or as the default."""

from collections.abc import Sequence

from inkstamp.errors import ServerTrouble
from inkstamp.servers.apache.edit import quote, style, wanted, without
from inkstamp.servers.apache.reading import Reading, VirtualHost
from inkstamp.servers.interface import Supply
from inkstamp.servers.text import Splice, apply, indent_at

_REPLACED = frozenset(
    {"servername", "serveralias", "sslcertificatefile", "sslcertificatekeyfile", "sslcertificatechainfile"}
)


def own_host(host: VirtualHost, reading: Reading, names: Sequence[str], supply: Supply) -> Splice:
    """Return the edit that makes a host for just these names, alike but for names and certificate.

    It goes before the one that answers them now where that has a wildcard for them, since the first match counts, and
    behind it where that is the default, which is the first one of its address. Where it comes first itself by that, it
    shows strange names the same.

    Args:
        host: The host that answers them now; `_check_own_text` has passed it.
        reading: The configuration.
        names: Exact names, none of which stands in the host.
        supply: Certificate and key.

    Raises:
        ServerTrouble: A line of the host's certificate is included.

    """
    block, text = host.block, reading.texts[host.block.file]
    own = [each for each in block.block or () if each.file == block.file and block.start <= each.start < block.end]
    foreign = next((each for each in host.own(*_REPLACED) if each not in own), None)
    if foreign is not None:
        raise ServerTrouble(
            f"a virtual host of its own cannot be made: {foreign.name} is included",
            where=f"{foreign.file}, line {foreign.line}",
            advice=f"move {foreign.name} from that file into the <VirtualHost>",
        )
    by_wildcard = any(host.answers(name) for name in names)
    end_of_line, indent = style(host, text)
    lines = [f"ServerName {names[0]}", *([f"ServerAlias {' '.join(names[1:])}"] if names[1:] else [])]
    lines += [f"{name} {quote(value)}" for name, value in wanted(supply, reading.setting.version).items()]
    splices = [without(each, text) for each in own if each.name.lower() in _REPLACED]
    head = "".join(f"{end_of_line}{indent}{line}" for line in lines)
    splices.append(Splice(block.file, block.block_start, block.block_start, head))
    copy = apply(text, splices)[block.start :]
    copy = copy[: len(copy) - (len(text) - block.end)]
    if by_wildcard:
        gap = f"{end_of_line}{end_of_line}{indent_at(text, block.start)}"
        return Splice(block.file, block.start, block.start, copy + gap)
    gap = f"{end_of_line}{end_of_line}{indent_at(text, block.start)}"
    return Splice(block.file, block.end, block.end, gap + copy)
