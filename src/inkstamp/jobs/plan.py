"""Which certificates are meant by what was typed, and what the entry of a new one will be."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from inkstamp.config.carrying import can_prove, carries, takes_certificates
from inkstamp.config.load import is_entry_name
from inkstamp.config.model import Certificate, Configuration, Server
from inkstamp.config.words import ACME_METHODS, BY_HAND, LISTENER, Method
from inkstamp.errors import ServerTrouble, UsageError
from inkstamp.pki.kinds import KeyKind
from inkstamp.pki.names import identifiers

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace


@dataclass(frozen=True, slots=True, kw_only=True)
class StampRequest:
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


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """What will be done for one certificate."""

    name: str
    entry: Certificate
    new_server: tuple[str, Server] | None = None
    """A server entry to write first."""
    write: bool = False
    """Whether the certificate's entry is to be written."""
    proof: str = "http-01"
    """The way of proving, in words."""


def make_plans(workplace: "Workplace", request: StampRequest) -> list[Plan]:
    """Decide which certificates are meant and what their entries will be, changing nothing.

    Raises:
        UsageError: The names cannot be told apart, or a choice must be made that only a person can.

    """
    config = workplace.config
    if all(name in config.certificate for name in request.names):
        _refuse_choices(request, workplace)
        return [_plan_known(config, name) for name in dict.fromkeys(request.names)]
    names = identifiers(request.names)
    for name, entry in config.certificate.items():
        shared = [each for each in names if each in entry.names]
        if len(shared) == len(names) and not request.entry_name:
            _refuse_choices(request, workplace)
            return [_plan_known(config, name)]
        if shared and not request.entry_name:
            missing = ", ".join(each for each in names if each not in shared)
            raise UsageError(
                f"certificate “{name}” covers {', '.join(shared)} and not {missing}",
                where=str(workplace.config_file),
                advice=f"add {missing} to its names there and run `inkstamp stamp {name}`, or give the new "
                "certificate a name of its own with --as",
            )
    return [_new_entry(workplace, request, names)]


def _plan_known(config: Configuration, name: str) -> Plan:
    entry = config.certificate[name]
    return Plan(name=name, entry=entry, proof=_proof_words(config, entry))


def _proof_words(config: Configuration, entry: Certificate) -> str:
    if config.authority[entry.authority].kind == "acme":
        return ", or ".join(entry.methods)
    return str(entry.proof or "as the portal wants it")


def _refuse_choices(request: StampRequest, workplace: "Workplace") -> None:
    given = (request.entry_name, request.authority, request.via, request.proof, request.key, request.own_site)
    if any(given) or request.install is not None:
        raise UsageError(
            "the certificate is configured already: --as, --authority, --proof, --via, --install, --key and --own-site "
            "cannot apply",
            where=str(workplace.config_file),
            advice="leave the options out, or edit its table there",
        )


def _new_entry(workplace: "Workplace", request: StampRequest, names: tuple[str, ...]) -> Plan:
    config = workplace.config
    authority = request.authority or _only_authority(config)
    _expect_known(workplace, "authority", config.authority, [authority])
    portal = config.authority[authority].kind == "portal"
    records = {**config.nameserver, **config.program}
    via, new_server = request.via, None
    if not via and not portal and len(records) == 1 and any(each.startswith("*.") for each in names):
        via = (next(iter(records)),)
    if not config.server and (not via or set(via) - {*records, BY_HAND, LISTENER}):
        from inkstamp.jobs.survey import discover

        new_server = discover(workplace)
        workplace.use_config(_with_server(config, new_server))
        config = workplace.config
    wildcard = next((each for each in names if each.startswith("*.")), "")
    if not via and wildcard and not portal:
        raise UsageError(
            f"http-01 cannot prove the wildcard {wildcard}",
            advice="CAs give wildcards for DNS proofs only: name with --via what makes the records "
            f"({', '.join([*records, BY_HAND])})",
        )
    via = via or (_only_serving(workplace, config, names),)
    _expect_known(workplace, "server", {*config.server, *records, BY_HAND, LISTENER}, via)
    _expect_known(workplace, "server", config.server, request.install or ())
    proof = () if portal else _ways(config, request, via, names)
    name = request.entry_name or _short_name(names, config)
    if not is_entry_name(name):
        raise UsageError(f"“{name}” cannot name a certificate", advice="use lower-case letters, digits and hyphens")
    if name in config.certificate:
        raise UsageError(f"there is a certificate “{name}” already", advice="choose another name with --as")
    install = request.install
    if install is None:
        install = tuple(each for each in via if each in config.server and takes_certificates(config.server[each]))
    entry = Certificate(
        names=names,
        authority=authority,
        via=via[0] if len(via) == 1 else via,
        proof=None if proof in {(), ("http-01",)} else proof[0] if len(proof) == 1 else proof,
        install=install,
        key=request.key or KeyKind.ECDSA_P256,
        own_site=request.own_site,
    )
    return Plan(name=name, entry=entry, new_server=new_server, write=True, proof=_proof_words(config, entry))


def _ways(config: Configuration, request: StampRequest, via: Sequence[str], names: Sequence[str]) -> tuple[Method, ...]:
    """Return the ways of proving that the carriers can go, or those asked for; UsageError when a name has none."""
    usual: tuple[Method, ...] = tuple(each for each in ACME_METHODS if any(carries(config, c, each) for c in via))
    if not request.proof and LISTENER in via:
        usual = tuple(each for each in usual if each != "tls-alpn-01") or usual
    ways = request.proof or usual
    for method in ways:
        if method not in usual and not any(carries(config, each, method) for each in via):
            raise UsageError(f"{', '.join(via)} cannot carry {method}", advice="name with --via what can carry it")
    for name in names:
        if not any(can_prove(each, name) for each in ways):
            what = f"the wildcard {name}" if name.startswith("*.") else f"the address {name}"
            known = [*config.nameserver, *config.program, BY_HAND]
            advice = "addresses are proven by http-01 or tls-alpn-01"
            if name.startswith("*."):
                advice = f"CAs give wildcards for DNS proofs only: name with --via what makes the records " \
                    f"({', '.join(known)})"  # fmt: skip
            raise UsageError(f"{' or '.join(ways) or 'nothing'} cannot prove {what}", advice=advice)
    return ways


def _expect_known(workplace: "Workplace", table: str, known: Collection[str], given: Sequence[str]) -> None:
    for each in given:
        if each not in known:
            raise UsageError(
                f"there is no {table} “{each}” in the configuration",
                where=str(workplace.config_file),
                advice=f"known: {', '.join(known) or 'none'}",
            )


def _with_server(config: Configuration, server: tuple[str, Server]) -> Configuration:
    import msgspec

    return msgspec.structs.replace(config, server={**config.server, server[0]: server[1]})


def _only_authority(config: Configuration) -> str:
    if len(config.authority) == 1:
        return next(iter(config.authority))
    if not config.authority:
        raise UsageError(
            "no authority is configured", advice="add one first: inkstamp authority add NAME --directory URL"
        )
    raise UsageError(
        f"there are several authorities: {', '.join(config.authority)}", advice="choose one with --authority"
    )


def _only_serving(workplace: "Workplace", config: Configuration, names: Sequence[str]) -> str:
    """Return the one server that answers for the first name; the only server if there is just one.

    One that has the very name goes before those that answer by a wildcard, or as the default.
    """
    if len(config.server) == 1:
        return next(iter(config.server))
    serving = [name for name in config.server if any(names[0] in site.names for site in workplace.server(name).sites())]
    serving = serving or [name for name in config.server if _has_place(workplace, name, names[0])]
    if len(serving) == 1:
        return serving[0]
    raise UsageError(
        f"{len(serving)} of the servers {', '.join(config.server)} answer for {names[0]}",
        advice="say with --via which one carries the proof, and with --install which ones get it",
    )


def _has_place(workplace: "Workplace", server: str, name: str) -> bool:
    from inkstamp.jobs.prove import TRIAL_PARTS

    try:
        return bool(workplace.server(server).places(name, TRIAL_PARTS))
    except ServerTrouble:
        return False


def _short_name(names: Sequence[str], config: Configuration) -> str:
    base = names[0].removeprefix("*.").removeprefix("www.").partition(".")[0]
    name, number = base, 1
    while name in config.certificate:
        number += 1
        name = f"{base}-{number}"
    return name
