"""Which certificates are meant by what was typed, and what the entry of a new one will be."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import msgspec
from msgspec.structs import replace

from inkstamp.config.carrying import is_portal
from inkstamp.config.config_file import expect_known
from inkstamp.config.model import Certificate, Configuration
from inkstamp.errors import UsageError
from inkstamp.jobs.inventory.placement import serving_server, use_if_found
from inkstamp.jobs.issuance.csr_elsewhere import expect_names, is_compromised, read_brought
from inkstamp.jobs.lifecycle.context import LifecycleContext
from inkstamp.jobs.lifecycle.proposal import Plan, StampRequest, dns_advice, free_name, proof_words, propose
from inkstamp.ledger.brought_csr import csr_of_edition
from inkstamp.pki.keys import PrivateKey, describe, examine_key, spki_digest
from inkstamp.pki.kinds import KeyKind
from inkstamp.pki.names import identifiers
from inkstamp.severity import Severity, worst
from inkstamp.wording import header_of

if TYPE_CHECKING:
    pass


def make_plans(context: LifecycleContext, request: StampRequest) -> list[Plan]:
    """Decide which certificates are meant and what their entries will be, changing nothing.

    The same request for what is configured so already is no mistake: it goes on, or says that all is done.

    Raises:
        UsageError: The names cannot be told apart, or a choice must be made that only a person can.

    """
    if request.csr:
        return [plan_with_csr(context, request)]
    if request.same_request:
        return [plan_same_request(context, request)]
    if request.own_key is not None:
        return [plan_with_key(context, request, request.own_key)]
    if all(name in context.certificates for name in request.names):
        return [_plan_asked(context, request, name) for name in dict.fromkeys(request.names)]
    names = identifiers(request.names)
    as_named = context.certificates.get(request.entry_name) if request.entry_name else None
    known = context.certificates.covering(names) if not request.entry_name else {}
    for name, entry in ({request.entry_name: as_named} if as_named is not None else known).items():
        shared = [each for each in names if each in entry.names]
        if len(shared) == len(names) and (not request.entry_name or len(names) == len(entry.names)):
            return [_plan_asked(context, request, name)]
        if shared or request.entry_name:
            raise _other_names(context, name, names)
    return [_new_entry(context, request, names)]


def plan_with_csr(context: LifecycleContext, request: StampRequest) -> Plan:
    """Plan a certificate for a CSR that was brought: for a configured one, or for the names of the CSR.

    Raises:
        RequestUnreadable, UsageError: The CSR is not one that a CA takes, it is for other names than those wanted, or
            the key of the certificate with these names is not elsewhere.

    """
    brought = read_brought(request.csr, request.csr_file, private=context.view.is_private)
    given = next((option for option in ("install", "own_site", "key") if getattr(request, option)), "")
    if given:
        raise UsageError(
            f"--{given.replace('_', '-')} does not go with --csr: the key is on another machine",
            advice="leave it out; inkstamp export writes the certificate for that machine",
        )
    names = request.names
    if len(names) == 1 and names[0] in context.certificates:
        expect_names(
            brought, context.certificates[names[0]].names, request.csr_file, of=f"those of certificate “{names[0]}”"
        )
    elif names:
        expect_names(brought, identifiers(names), request.csr_file, of="those given")
        names = ()
    wanted = replace(request, csr=b"", names=names or brought.names, install=())
    (plan,) = make_plans(context, wanted)
    if plan.write:
        plan = replace(plan, entry=msgspec.structs.replace(plan.entry, key_elsewhere=True))
    elif not plan.entry.key_elsewhere:
        raise UsageError(
            f"the key of certificate “{plan.name}” is on this machine",
            where=str(context.configuration.path),
            advice=f"call another certificate for that CSR otherwise with --as, or: inkstamp remove {plan.name}",
        )
    return replace(plan, brought=brought.pem.decode("ascii"))


def plan_with_key(context: LifecycleContext, request: StampRequest, key: PrivateKey) -> Plan:
    """Plan a certificate for a key that there is already.

    Raises:
        UsageError: No CA takes such a key, it is of another kind than the entry says, or an edition with it was revoked
            since others may know it.

    """
    findings = examine_key(key.public_key(), owner="the key")
    kind = next((each for each in KeyKind if each.value == describe(key.public_key())), None)
    if kind is None or worst(findings) is Severity.BAD:
        raise UsageError("no public CA certifies this key", findings=findings, advice="have a new one made")
    (plan,) = make_plans(context, replace(request, own_key=None, key=None))
    if plan.write:
        plan = replace(plan, entry=msgspec.structs.replace(plan.entry, key=kind))
    elif plan.entry.key != kind:
        raise UsageError(
            f"the key is {kind}, and {plan.entry.key} is configured for “{plan.name}”",
            where=str(context.configuration.path),
            advice=f"inkstamp certificate change {plan.name} key={kind.value}, then the same command again",
        )
    if plan.entry.key_elsewhere:
        raise UsageError(f"the key of “{plan.name}” is on another machine", advice="bring its CSR: --csr FILE")
    newest = context.ledger.newest_edition(plan.name)
    if newest is not None and is_compromised(context, plan.name, newest.number):
        revoked = context.shelf.has_key(plan.name, newest.number) and context.shelf.key(
            newest.certificate, newest.number
        )
        if revoked and spki_digest(revoked.public_key()) == spki_digest(key.public_key()):
            raise UsageError(
                f"edition {newest.number} of “{plan.name}” was revoked since others may know this key",
                advice="leave --key-file out, so that a new one is made",
            )
    return replace(plan, own_key=key)


def plan_same_request(context: LifecycleContext, request: StampRequest) -> Plan:
    """Plan a certificate whose last CSR is to be used again.

    Raises:
        UsageError: Its key is not elsewhere, or no CSR was brought for its last edition.

    """
    if len(request.names) != 1 or request.names[0] not in context.certificates:
        raise UsageError("--same-request goes with one configured certificate", advice="name it; see: inkstamp status")
    (name,) = request.names
    plan = _plan_asked(context, request, name)
    newest = context.ledger.newest_edition(name)
    if not plan.entry.key_elsewhere and not is_portal(context.config, plan.entry):
        raise UsageError(
            f"the key of “{name}” is on this machine, and each edition has a new CSR", advice="leave it out"
        )
    brought = newest is not None and csr_of_edition(context.shelf, name, newest.number) is not None
    if newest is None or (plan.entry.key_elsewhere and not brought):
        advice = f"bring one: inkstamp stamp {name} --csr FILE" if plan.entry.key_elsewhere else "leave it out"
        raise UsageError(f"there is no CSR of an edition of “{name}” yet", advice=advice)
    return replace(
        plan, entry=msgspec.structs.replace(plan.entry, same_request=True), same_request=not plan.entry.same_request
    )


def make_plans_for_sites(
    context: LifecycleContext, request: StampRequest, sites: Sequence[tuple[str, ...]]
) -> list[Plan]:
    """Return a plan for the names of each site; `request` says the rest. Otherwise as `make_plans`.

    Raises:
        UsageError: Two of the sites have a name in common, which one certificate has to be for.

    """
    plans: dict[str, Plan] = {}
    for names in sites:
        wanted = replace(request, names=names)
        for plan in make_plans(context, wanted):
            if plan.write:
                _expect_apart(plans, plan)
                name = free_name(plan.name, plans, context.certificates)
                plans[name] = replace(plan, name=name)
            else:
                plans[plan.name] = plan
    return list(plans.values())


def _expect_apart(plans: Mapping[str, Plan], plan: Plan) -> None:
    for other in plans.values():
        shared = [name for name in plan.entry.names if name in other.entry.names]
        if shared:
            both = " ".join(dict.fromkeys((*other.entry.names, *plan.entry.names)))
            raise UsageError(
                f"two of the sites have the name {shared[0]}", advice=f"one certificate for both: inkstamp stamp {both}"
            )


def _other_names(context: LifecycleContext, name: str, names: Sequence[str]) -> UsageError:
    """Return the error for a certificate that is configured with other names than those that were asked for."""
    entry = context.certificates[name]
    missing = ", ".join(each for each in names if each not in entry.names)
    shared = ", ".join(each for each in names if each in entry.names) or "other names"
    more = ", ".join(each for each in entry.names if each not in names)
    return UsageError(
        f"certificate “{name}” covers {shared} and not {missing}"
        if missing
        else f"certificate “{name}” covers {more} as well",
        where=str(context.configuration.path),
        advice=(f"add {missing} to its names there" if missing else f"leave out --as, or remove {more} there")
        + f" and run `inkstamp stamp {name}`, or give the new certificate a name of its own with --as",
    )


def _plan_asked(context: LifecycleContext, request: StampRequest, name: str) -> Plan:
    """Plan for a configured certificate; UsageError for choices that are not what is configured."""
    entry = context.certificates[name]
    differing = [
        option
        for option, given, present in (
            ("--as", request.entry_name, name),
            ("--authority", request.authority, entry.authority),
            ("--via", request.via, entry.carriers),
            ("--proof", request.proof, entry.methods),
            ("--install", request.install, entry.install),
            ("--key", request.key, entry.key),
            ("--own-site", request.own_site, entry.own_site),
        )
        if given and given != present
    ]
    if differing:
        raise UsageError(
            f"“{name}” is configured already, and not as {', '.join(differing)} says",
            where=str(context.configuration.path),
            advice=f"leave {', '.join(differing)} out, or edit {header_of('certificate', name)} there",
        )
    return _plan_known(context.config, name, entry)


def _plan_known(config: Configuration, name: str, entry: Certificate) -> Plan:
    return Plan(name=name, entry=entry, proof=proof_words(config, entry))


def _new_entry(context: LifecycleContext, request: StampRequest, names: tuple[str, ...]) -> Plan:
    """Plan an entry for names that have none: first find out who answers for them, then decide by that alone."""
    config, file = context.config, context.configuration.path
    authority = request.authority or _only_authority(config)
    expect_known("authority", config.authority, [authority], file)
    portal = not config.authority[authority].is_acme
    via = request.via or _records_carrier(config, names, portal=portal) or (serving_server(context, names),)
    for each in (*via, *(request.install or ())):
        use_if_found(context, each)
    plan = propose(context.config, request, names, authority=authority, via=via,
                   found=context.servers.found, taken=context.certificates, file=file)  # fmt: skip
    expect_own_folder(context, plan.name)
    return plan


def expect_own_folder(context: LifecycleContext, name: str) -> None:
    """Raise UsageError for a new certificate with a name that another one had, whose editions lie there still."""
    user = context.shelf.renamed().get(name) if context.shelf.of(name).exists() else None
    if user:
        raise UsageError(
            f"“{name}” was the name of “{user}”, whose files servers use by it",
            advice="choose another name with --as, or as `certificate` in a list",
        )


def _records_carrier(config: Configuration, names: Sequence[str], *, portal: bool) -> tuple[str, ...]:
    """Return what puts the records up that wildcards need; empty where a web server does for all names."""
    wildcard = next((each for each in names if each.startswith("*.")), "")
    if portal or not wildcard:
        return ()
    records = [*config.nameserver, *config.program]
    if len(records) != 1:
        raise UsageError(f"http-01 cannot validate the wildcard {wildcard}", advice=dns_advice(records))
    return tuple(records)


def _only_authority(config: Configuration) -> str:
    if config.usual_authority:
        return config.usual_authority
    if not config.authority:
        raise UsageError(
            "no authority is configured", advice="add one first: inkstamp authority add NAME --directory URL"
        )
    raise UsageError(
        f"there are several authorities: {', '.join(config.authority)}",
        advice="choose one with --authority; default = true in the table of one makes it the usual one",
    )
