"""The entry that new names are given, by what was asked for and the configuration alone. Pure."""

from collections.abc import Collection, Container, Sequence
from itertools import chain, count
from typing import TYPE_CHECKING

from msgspec import Struct

from inkstamp.config.carrying import can_prove, carries, takes_certificates
from inkstamp.config.config_file import expect_known
from inkstamp.config.entries import is_entry_name
from inkstamp.config.model import Certificate, Configuration, Server
from inkstamp.config.words import ACME_METHODS, BY_HAND, DRAFT_METHODS, LISTENER, Method
from inkstamp.errors import UsageError
from inkstamp.pki.keys import PrivateKey
from inkstamp.pki.kinds import KeyKind
from inkstamp.pki.names import as_address

if TYPE_CHECKING:
    from pathlib import Path


class StampRequest(Struct, frozen=True, kw_only=True):
    """What the user asked for; empty fields leave the choice to us."""

    names: tuple[str, ...]
    """Names of configured certificates, or domain names."""
    entry_name: str = ""
    authority: str = ""
    via: tuple[str, ...] = ()
    proof: tuple[Method, ...] = ()
    """At an ACME CA: the ways of proving, in the order in which they are tried."""
    install: tuple[str, ...] | None = None
    key: KeyKind | None = None
    own_site: bool = False
    """Whether a virtual host of its own may be made."""
    csr: bytes = b""
    """The CSR of a machine that has the key, PEM or DER; empty for a key of ours."""
    csr_file: str = ""
    """Where it was read, for messages."""
    same_request: bool = False
    """Whether the CSR of the last edition is to be used again, from now on."""
    own_key: PrivateKey | None = None
    """A key that there is already, which the next order is to be for; None to make one."""


class Plan(Struct, frozen=True, kw_only=True):
    """What will be done for one certificate."""

    name: str
    entry: Certificate
    new_servers: tuple[tuple[str, Server], ...] = ()
    """Server entries to write first."""
    write: bool = False
    """Whether the certificate's entry is to be written."""
    proof: str = "http-01"
    """The way of proving, in words."""
    brought: str = ""
    """The CSR that was brought, as PEM, which is kept for the order."""
    same_request: bool = False
    """Whether its entry is to say so."""
    own_key: PrivateKey | None = None
    """The key that there is already for its next order."""


def propose(
    config: Configuration,
    request: StampRequest,
    names: tuple[str, ...],
    *,
    authority: str,
    via: tuple[str, ...],
    found: Collection[str],
    taken: Container[str],
    file: "Path",
) -> Plan:
    """Return the entry to write for what was asked, by the configuration alone.

    Args:
        config: The configuration; servers that were found and are used here count as configured.
        request: What was asked.
        names: The names, normalised.
        authority: The authority's name; it is configured.
        via: What answers the challenges.
        found: Those servers that are not in the file yet.
        taken: The names of certificates that there are.
        file: The configuration file, for messages.

    Raises:
        UsageError: Something that was named is not known, a name cannot be validated so, or the name is taken.

    """
    records = {**config.nameserver, **config.program}
    expect_known("server", {*config.server, *records, BY_HAND, LISTENER}, via, file)
    expect_known("server", config.server, request.install or (), file)
    proof = _ways(config, authority, request, via, names) if config.authority[authority].is_acme else ()
    name = request.entry_name or free_name(entry_name(names), taken)
    _expect_free(taken, name)
    install = request.install
    if install is None:
        install = tuple(each for each in via if each in config.server and takes_certificates(config.server[each]))
    usual = not proof or (proof == ("http-01",) and set(via) != {BY_HAND})
    written = None if usual else proof[0] if len(proof) == 1 else proof
    entry = Certificate(
        names=names,
        authority=authority,
        via=via[0] if len(via) == 1 else via,
        proof=written,
        install=install,
        key=request.key or KeyKind.ECDSA_P256,
        own_site=request.own_site,
    )
    new_servers = tuple((each, config.server[each]) for each in dict.fromkeys((*via, *install)) if each in found)
    return Plan(name=name, entry=entry, new_servers=new_servers, write=True, proof=proof_words(config, entry))


def _expect_free(taken: Container[str], name: str) -> None:
    """Raise UsageError when a new certificate cannot have that name."""
    if not is_entry_name(name, "certificate"):
        raise UsageError(
            f"“{name}” cannot be the name of a certificate", advice="use lower-case letters, digits, hyphens and dots"
        )
    if name in taken:
        raise UsageError(f"there is a certificate “{name}” already", advice="choose another name with --as")


def _ways(
    config: Configuration, authority: str, request: StampRequest, via: Sequence[str], names: Sequence[str]
) -> tuple[Method, ...]:
    """Return the challenge types that the carriers can meet, or those asked for; UsageError when a name has none."""
    known = [each for each in ACME_METHODS if each not in DRAFT_METHODS]
    if config.authority[authority].draft and any(each in config.nameserver or each in config.program for each in via):
        known.insert(0, "dns-persist-01")  # once it is there, nothing has to be done for a renewal
    usual: tuple[Method, ...] = tuple(each for each in known if any(carries(config, c, each) for c in via))
    if set(via) == {BY_HAND} and not all(as_address(each) for each in names):
        usual = ("dns-01",)  # records stand until the next time, files do not; asked for, they can be made by hand, too
    if not request.proof and LISTENER in via:
        usual = tuple(each for each in usual if each != "tls-alpn-01") or usual
    ways = request.proof or usual
    for method in ways:
        if method not in usual and not any(carries(config, each, method) for each in via):
            raise UsageError(f"{', '.join(via)} cannot be used for {method}", advice="name one with --via that can")
    lost = next((each for each in names if not any(can_prove(way, each) for way in ways)), "")
    if not lost:
        return ways
    told = " or ".join(ways) or "nothing"
    if lost.startswith("*."):
        advice = dns_advice([*config.nameserver, *config.program])
        raise UsageError(f"{told} cannot validate the wildcard {lost}", advice=advice)
    raise UsageError(
        f"{told} cannot validate the address {lost}", advice="IP addresses are validated by http-01 or tls-alpn-01"
    )


def proof_words(config: Configuration, entry: Certificate) -> str:
    """Say how a certificate's names are validated."""
    if config.authority[entry.authority].is_acme:
        return ", or ".join(entry.methods)
    return str(entry.proof or "by the rule of the portal")


def dns_advice(records: Sequence[str]) -> str:
    """Say what wildcards need, by what puts records into DNS here."""
    return f"wildcards need dns-01: name the nameserver with --via ({', '.join([*records, BY_HAND])})"


def entry_name(names: Sequence[str]) -> str:
    """Return what a certificate is called by itself: like its first name, so that nobody has to guess."""
    return names[0].removeprefix("*.").replace(":", "-")[:200].rstrip(".-")


def free_name(base: str, *taken: Container[str]) -> str:
    """Return `base`, or the first of `base-2`, `base-3` … where that is the name of another certificate."""
    numbered = (f"{base}-{number}" for number in count(2))
    return next(each for each in chain((base,), numbered) if not any(each in some for some in taken))
