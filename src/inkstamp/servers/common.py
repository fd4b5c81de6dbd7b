"""What all kinds of server do alike when a certificate is installed."""

import re
from collections.abc import Callable, Collection, Iterable, Sequence

from cryptography import x509
from msgspec import Struct

from inkstamp.errors import EditionUnfit, FileTrouble, NamesLost, ServerTrouble
from inkstamp.pki.certificates import key_kind, read_pem, subject_names
from inkstamp.pki.names import uncovered
from inkstamp.reach.interface import Host, Rights
from inkstamp.reach.ports import ListeningProgram, who_is_in_the_way
from inkstamp.servers.interface import Endpoint, Listen, Obstacle, Site, Supply
from inkstamp.servers.text import Directive

REMARK = "# lets CAs see proofs of control; put here by `inkstamp prove --let-through`"
"""Stands above what opens the challenge path."""


class ProofFolder(Struct, frozen=True):
    """What a server is to show: the files below `root` at the challenge path."""

    path: str
    """With slashes at both ends."""
    root: str


def matches(expression: str, text: str, *, ignore_case: bool = False) -> bool:
    """Tell whether a server's regular expression matches a path or a name.

    One that only the server can read counts as no match: the look from outside has the last word. So does one that may
    take for ever, since a customer may have written it: where what repeats is repeated again, or too much repeats.
    """
    if not _is_tame(expression):
        return False
    try:
        return re.search(expression, text[:_LONGEST_SUBJECT], re.IGNORECASE if ignore_case else 0) is not None
    except (re.error, RecursionError, OverflowError):
        return False


_REPEATS = re.compile(r"[*+]|\{\d*,?\d*\}")
_LONGEST_EXPRESSION, _LONGEST_SUBJECT = 1000, 500
_MOST_REPEATS = 2
_TOLD = {" ": "a blank", "\t": "a tab", ",": "a comma"}


def _is_tame(expression: str) -> bool:
    """Tell whether an expression has few repetitions, and none of what repeats itself or has alternatives."""
    if len(expression) > _LONGEST_EXPRESSION:
        return False
    at, repeats, groups, closed = 0, 0, [False], False
    while at < len(expression):
        letter = expression[at]
        repeat = _REPEATS.match(expression, at)
        if repeat is not None and at:
            repeats += 1
            if closed or repeats > _MOST_REPEATS:
                return False
            groups = [True] * len(groups)
            at = repeat.end()
            continue
        closed = False
        if letter == "\\":
            at += 2
            continue
        if letter == "[":
            end = expression.find("]", at + 2)
            at = end + 1 if end >= 0 else len(expression)
            continue
        if letter == "|":
            groups = [True] * len(groups)
        elif letter == "(":
            groups.append(False)
        elif letter == ")" and len(groups) > 1:
            closed = groups.pop()  # whether it can match in several ways: then it must not be repeated itself
        at += 1
    return True


def obstacle(directive: Directive, what: str) -> Obstacle:
    """Say that a directive is in a path's way."""
    return Obstacle(f"{directive.file}, line {directive.line}", what)


class Taken(Struct, frozen=True, kw_only=True):
    """A virtual host that is about to be given another certificate."""

    names: Sequence[str]
    """Its own, without regular expressions."""
    certificate_files: Sequence[str]
    """Absolute paths of those that it serves now."""
    answers: Callable[[str], bool]
    """Tells whether it is the one that answers for a name with TLS."""
    may_part: bool
    """Whether none of the names in question stands in it: they can be given one of their own."""
    where: str
    """File and line."""


def check_names_kept(host: Host, supply: Supply, taken: Taken) -> None:
    """Refuse to take a good certificate from names that the new one does not cover.

    Those are all that the virtual host answers, whether it names them, has a wildcard for them or is the default, and
    that the certificate it has, or another one of ours for this server, covers. One that is self-signed covers
    nothing that anybody believes.

    Raises:
        NamesLost: A name would lose its certificate.

    """
    own = {supply.served, supply.leaf}  # whose names a person chose, and may choose anew
    bare = uncovered(supply.names, taken.names)
    lost: list[str] = []
    if not own & set(taken.certificate_files):  # else nothing changes hands
        lost += uncovered(supply.names, [each for each in supply.others() if taken.answers(each)])
    for file in taken.certificate_files:
        old = leaf_of(host, file) if bare or file not in own else None
        if old is not None and old.subject != old.issuer:
            covered = subject_names(old)
            lost += [each for each in bare if not uncovered(covered, [each])]
            if file not in own:
                lost += [each for each in uncovered(supply.names, covered) if taken.answers(each)]
    if lost:
        kept = ", ".join(dict.fromkeys(lost))
        how = "`own_site = true` in its table (`--own-site` for a new one) makes one"
        raise NamesLost(
            f"the virtual host also serves {kept}, which the new certificate does not cover",
            where=taken.where,
            advice=f"have one certificate for all: add {kept} to its names; or give it a virtual host of its own"
            + (f": {how}" if taken.may_part else ""),
        )


def expect_plain(paths: Iterable[str], server: str, cannot: str) -> None:
    """Refuse paths that a server's configuration would read back otherwise, however they are written.

    Args:
        paths: Absolute; empty ones are passed over.
        server: What the server is called in the message.
        cannot: The characters that have another meaning there.

    Raises:
        ServerTrouble: One has such a character; says which.

    """
    for path in paths:
        for each in filter(set(cannot).__contains__, path):
            told = _TOLD.get(each, each)
            raise ServerTrouble(
                f"{server} cannot be given {path}: {told} has another meaning in its configuration",
                where=path, advice=f"choose a data directory without {told} in its path",
            )  # fmt: skip


def check_default_kept(host: Host, names: Sequence[str], certificate_file: str, where: str) -> None:
    """Refuse to take a good certificate from names that it alone covers, where no configuration lists the names.

    One that is self-signed covers nothing that anybody believes.

    Args:
        host: Where the files are.
        names: Those that the new certificate covers.
        certificate_file: The one that is served now; empty for none.
        where: File and line of what names it.

    Raises:
        NamesLost: A name would lose its certificate.

    """
    old = leaf_of(host, certificate_file)
    if old is not None and old.subject != old.issuer:
        lost = uncovered(names, subject_names(old))
        if lost:
            raise NamesLost(
                f"the new certificate does not cover {', '.join(lost)}, and would take the place of one that does",
                where=where,
                advice=f"have one certificate for all: add {', '.join(lost)} to its names",
            )


def leaf_of(host: Host, certificate_file: str) -> x509.Certificate | None:
    """Return the certificate in a file; None when there is none that can be read."""
    if not certificate_file:
        return None
    try:
        return read_pem(host.read_certificates(certificate_file), certificate_file)[0]
    except (FileTrouble, EditionUnfit):
        return None


class FreePorts:
    """Makes sure that a server can listen where it does not yet: some end when they find that they cannot.

    The machine is asked once for each port, however many sites are to be answered there.
    """

    def __init__(self, host: Host, own: Collection[str]) -> None:
        """Begin; `own` are the names of the server's own program."""
        self._host, self._own = host, own
        self._others: dict[int, list[ListeningProgram]] = {}

    def expect(self, addresses: Collection[str], port: int, where: str) -> None:
        """Make sure that a port is free at new `addresses`; `*` for all.

        Args:
            addresses: They may be none.
            port: The port.
            where: File and line of the site that is to be answered there.

        Raises:
            ServerTrouble: Another program listens there.

        """
        if addresses and port not in self._others:
            self._others[port] = [each for each in self._host.listeners(port) if each.program not in self._own]
        other = who_is_in_the_way(self._others.get(port, ()), addresses)
        if other is not None:
            raise ServerTrouble(
                f"port {port} at {other.address} is taken by {other}, and the site would be answered there",
                where=where,
                advice="have that program listen elsewhere, or give the site an address of its own for TLS",
            )


def endpoints(listens: Sequence[Listen], host: Host, *, plain: bool = False) -> list[Endpoint]:
    """Return where to connect to from this machine for the TLS listens among `listens` of a server on `host`.

    With `plain`, for those without TLS too.
    """
    here = host.address == "127.0.0.1"
    anywhere = dict.fromkeys(("*", "0.0.0.0"), host.address) | {"[::]": "::1" if here else host.address}  # noqa: S104
    found = [
        Endpoint(anywhere.get(each.address, each.address.strip("[]")), each.port, each.upgrade)
        for each in listens
        if (each.tls or plain) and each.port
    ]
    return list(dict.fromkeys(found))


def present(host: Host, path: str) -> tuple[bytes | None, Rights | None]:
    """Return what stands in the place of a copy, and whose it is; None and None for nothing."""
    return host.present(path) or (None, None)


def plain_names(site: Site) -> tuple[str, ...]:
    """Return the site's names that are names, without wildcards, regular expressions and the catch-all."""
    return tuple(name for name in site.names if "." in name.strip(".") and not set(name) & set("*~^$_ "))


def which_of(host: Host, present: Sequence[str], supply: Supply, path: str, where: str) -> int | None:
    """Return which of a site's certificate files an edition takes the place of; None to stand beside them.

    A site may have two certificates, one with an RSA key and one with an ECDSA key: an edition takes the place of the
    one with a key like its own, and stands beside one of ours with another.

    Args:
        host: Where the files are.
        present: Absolute paths of the certificates that the site has now.
        supply: The edition.
        path: What the site is to name: the edition's `served`, or its `leaf`.
        where: File and line of the site.

    Raises:
        ServerTrouble: It cannot be told which one.

    """
    if path in present:
        return present.index(path)
    if not present:
        return None
    if any("$" in each for each in present):
        raise ServerTrouble(
            "the certificate's file is named by a variable", where=where,
            advice="write the path itself, or put the files of `inkstamp export` where the variable leads",
        )  # fmt: skip
    algorithms = [_algorithm(host, each) for each in present]
    alike = [at for at, each in enumerate(algorithms) if not supply.algorithm or each in {"", supply.algorithm}]
    if not alike and all(each.startswith(supply.ours) for each in present):
        return None
    if len(present) == 1 or len(alike) == 1:
        return (alike or [0])[0]
    raise ServerTrouble(
        f"the virtual host has {len(present)} certificates, and it is unclear which one to replace",
        where=where, advice="leave one with an RSA key and one with an ECDSA key, or one alone",
    )  # fmt: skip


def _algorithm(host: Host, path: str) -> str:
    """Return the algorithm of a certificate's key; empty when it cannot be read."""
    leaf = leaf_of(host, path)
    return key_kind(leaf).partition("-")[0] if leaf is not None else ""
