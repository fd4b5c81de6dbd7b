"""The whole round for a certificate: check beforehand, order, prove, collect, install, look."""

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from inkstamp.config.load import is_entry_name
from inkstamp.config.model import BY_HAND, Certificate, Configuration, Server
from inkstamp.errors import UsageError
from inkstamp.files import remove_tree
from inkstamp.findings import Finding, Severity, bad, worst
from inkstamp.ledger.records import EditionRecord, InstallState, OrderState
from inkstamp.pki.kinds import KeyKind
from inkstamp.pki.names import normalise_all
from inkstamp.renewal.when import decide

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace

_SETTLING_SECONDS = 3.0


@dataclass(frozen=True, slots=True, kw_only=True)
class StampRequest:
    """What the user asked for; empty fields leave the choice to us."""

    names: tuple[str, ...]
    """Names of configured certificates, or domain names."""
    entry_name: str = ""
    authority: str = ""
    via: str = ""
    install: tuple[str, ...] | None = None
    key: KeyKind | None = None


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


@dataclass(frozen=True, slots=True, kw_only=True)
class Outcome:
    """What became of one certificate."""

    name: str
    edition: EditionRecord
    issued: bool
    """Whether the edition is new; otherwise it was good already."""
    installed: bool
    """Whether servers were changed in this run."""
    servers: tuple[str, ...]
    findings: tuple[Finding, ...]

    @property
    def sound(self) -> bool:
        """Whether nothing that was seen is broken."""
        return worst(self.findings) is not Severity.BAD


def make_plans(workplace: "Workplace", request: StampRequest) -> list[Plan]:
    """Decide which certificates are meant and what their entries will be, changing nothing.

    Raises:
        UsageError: The names cannot be told apart, or a choice must be made that only a person can.

    """
    config = workplace.config
    if all(name in config.certificate for name in request.names):
        _refuse_choices(request, workplace)
        return [_plan_known(config, name) for name in dict.fromkeys(request.names)]
    names = normalise_all(request.names)
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
        return entry.proof or "http-01"
    return entry.proof or "as the portal wants it"


def _refuse_choices(request: StampRequest, workplace: "Workplace") -> None:
    if request.entry_name or request.authority or request.via or request.install is not None or request.key:
        raise UsageError(
            "the certificate is configured already, so --as, --authority, --via, --install and --key cannot apply",
            where=str(workplace.config_file),
            advice="leave the options out, or edit its table there",
        )


def _new_entry(workplace: "Workplace", request: StampRequest, names: tuple[str, ...]) -> Plan:
    config = workplace.config
    authority = request.authority or _only_authority(config)
    _expect_known(workplace, "authority", config.authority, [authority])
    portal = config.authority[authority].kind == "portal"
    wildcards = [each for each in names if each.startswith("*.")]
    records = {**config.nameserver, **config.program}
    via = request.via or (next(iter(records)) if wildcards and len(records) == 1 else "")
    by_record = not portal and (via in records or via == BY_HAND)
    if wildcards and not portal and not by_record:
        raise UsageError(
            f"http-01 cannot prove the wildcard {wildcards[0]}",
            advice="CAs give wildcards for DNS proofs only: name with --via what makes the records "
            f"({', '.join([*records, BY_HAND])})",
        )
    new_server = None
    if not config.server and not by_record and via != BY_HAND:
        from inkstamp.jobs.survey import discover

        new_server = discover(workplace)
        workplace.use_config(_with_server(config, new_server))
        config = workplace.config
    via = via or _only_serving(workplace, config, names)
    _expect_known(workplace, "server", {*config.server, *records, BY_HAND}, [via])
    _expect_known(workplace, "server", config.server, request.install or ())
    name = request.entry_name or _short_name(names, config)
    if not is_entry_name(name):
        raise UsageError(f"“{name}” cannot name a certificate", advice="use lower-case letters, digits and hyphens")
    if name in config.certificate:
        raise UsageError(f"there is a certificate “{name}” already", advice="choose another name with --as")
    install = request.install
    if install is None:
        install = (via,) if via in config.server else ()
    entry = Certificate(
        names=names,
        authority=authority,
        via=via,
        proof="dns-01" if by_record else None,
        install=install,
        key=request.key or KeyKind.ECDSA_P256,
    )
    return Plan(name=name, entry=entry, new_server=new_server, write=True, proof=_proof_words(config, entry))


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
    """Return the one server that has a virtual host for the first name; the only server if there is just one."""
    if len(config.server) == 1:
        return next(iter(config.server))
    serving = [name for name in config.server if any(names[0] in site.names for site in workplace.server(name).sites())]
    if len(serving) == 1:
        return serving[0]
    raise UsageError(
        f"{len(serving)} of the servers {', '.join(config.server)} have a virtual host for {names[0]}",
        advice="say with --via which one carries the proof, and with --install which ones get it",
    )


def _short_name(names: Sequence[str], config: Configuration) -> str:
    base = names[0].removeprefix("*.").removeprefix("www.").partition(".")[0]
    name, number = base, 1
    while name in config.certificate:
        number += 1
        name = f"{base}-{number}"
    return name


def write_entries(workplace: "Workplace", plan: Plan) -> None:
    """Write the entries that the plan adds to the configuration."""
    if not plan.write:
        return
    server = [] if plan.new_server is None else [("server", *plan.new_server)]
    workplace.add_entries(*server, ("certificate", plan.name, plan.entry))


def check_beforehand(workplace: "Workplace", plan: Plan) -> None:
    """Find out what would fail, before the configuration is written and the CA hears of it."""
    from inkstamp.jobs.install import prepare
    from inkstamp.jobs.prove import check_ways
    from inkstamp.proof.portal import method_of

    prepare(workplace, plan.name, plan.entry)
    authority = workplace.config.authority[plan.entry.authority]
    if authority.kind == "acme" and plan.entry.proof == "dns-01":
        from inkstamp.jobs.prove_dns import place_challenges

        place_challenges(workplace, plan.entry.names)
        return
    by_file = authority.kind == "acme" or method_of(plan.entry, authority) == "file"
    if by_file and plan.entry.via != BY_HAND:
        check_ways(workplace, plan.entry.via, plan.entry.names)


def carry_out(
    workplace: "Workplace", plan: Plan, *, anew: bool = False, said: Callable[[Plan], None] = lambda _plan: None
) -> Outcome:
    """Do the round for one certificate, from wherever an earlier run left it.

    Args:
        workplace: The run's surroundings.
        plan: What to do.
        anew: Order a new edition although the present one is good.
        said: Called with the plan when all checks have passed, before anything is changed.

    """
    with workplace.hold_certificate(plan.name):
        settle(workplace, plan.name)
        edition = good_edition(workplace, plan, anew=anew)
        issued = edition is None
        if edition is not None and is_installed(workplace, edition, plan.entry):
            return Outcome(
                name=plan.name, edition=edition, issued=False, installed=False, servers=plan.entry.install, findings=()
            )
        if edition is None and not _waits_at_portal(workplace, plan):
            check_beforehand(workplace, plan)
        said(plan)
        write_entries(workplace, plan)
        if edition is None:
            from inkstamp.jobs.order import obtain

            edition = obtain(workplace, plan.name, plan.entry)
        findings = _install(workplace, plan, edition)
    return Outcome(
        name=plan.name,
        edition=edition,
        issued=issued,
        installed=bool(plan.entry.install),
        servers=plan.entry.install,
        findings=tuple(findings),
    )


def _waits_at_portal(workplace: "Workplace", plan: Plan) -> bool:
    order = workplace.ledger.open_order(plan.name)
    return order is not None and order.state is OrderState.WAITING


def look_afterwards(workplace: "Workplace", outcome: Outcome) -> Outcome:
    """Look at the outcome's names the way the public does, and add what is not as it should be."""
    from inkstamp.jobs.check import look

    names = [each for each in workplace.certificate(outcome.name).names if not each.startswith("*.")]
    deadline = workplace.clock.monotonic() + _SETTLING_SECONDS
    while True:
        reports = [look(workplace, name, workplace.roots) for name in names]
        strangers = [each for each in reports if each.chain and each.chain[0].sha256 != outcome.edition.sha256]
        # For a moment after a reload the workers of before still take connections.
        if not strangers or workplace.clock.monotonic() > deadline:
            break
        workplace.clock.sleep(0.1)
    seen = [finding for report in reports for finding in report.findings if finding.severity is not Severity.GOOD]
    seen += [
        bad(
            "edition",
            each.name,
            f"the public is served another certificate than edition {outcome.edition.number} "
            f"(serial {each.chain[0].serial})",
            "another machine or a proxy answers for it; install the edition there too",
        )
        for each in strangers
    ]
    return replace(outcome, findings=(*outcome.findings, *seen))


def settle(workplace: "Workplace", name: str) -> None:
    """Clear away what an interrupted run left, before anything is looked at; the caller holds the certificate.

    An install that was cut short is put back; of an order that is ended, the key (the edition has it) and proofs that
    stand yet are removed.
    """
    from inkstamp.jobs.order_files import clear_ended

    clear_ended(workplace, name)
    last = workplace.ledger.newest_install(name)
    if last is not None and last.state is InstallState.BEGUN:
        from inkstamp.jobs.install import recover

        with workplace.hold_servers(last.servers):
            recover(workplace, name)
    remove_tree(workplace.home / "undo" / name)


def _install(workplace: "Workplace", plan: Plan, edition: EditionRecord) -> list[Finding]:
    from inkstamp.jobs.install import install

    if plan.entry.install:
        workplace.progress.step(plan.name, f"installs edition {edition.number} on {', '.join(plan.entry.install)}")
    return install(workplace, plan.name, plan.entry, edition)


def good_edition(workplace: "Workplace", plan: Plan, *, anew: bool) -> EditionRecord | None:
    """Return the newest edition when it serves its purpose still and nothing goes on to replace it at once.

    An order that waits at a portal may do so for weeks; meanwhile the edition is what there is.
    """
    ledger = workplace.ledger
    order = ledger.open_order(plan.name)
    if plan.write or anew or (order is not None and order.state is not OrderState.WAITING):
        return None
    edition = ledger.newest_edition(plan.name)
    if edition is None:
        return None
    # What was asked for counts: CAs at portals like to add a name.
    origin = ledger.order_of_edition(plan.name, edition.number)
    if set(origin.names if origin else edition.names) != set(plan.entry.names):
        return None
    if not (workplace.shelf.edition(plan.name, edition.number) / "key.pem").is_file():
        return None
    due = decide(edition.not_before, edition.not_after, workplace.clock.now()).due
    return None if due else edition


def is_installed(workplace: "Workplace", edition: EditionRecord, entry: Certificate) -> bool:
    """Tell whether the ledger and the shelf agree that the servers have this edition."""
    if workplace.shelf.current(edition.certificate) != edition.number:
        return False
    last = workplace.ledger.newest_install(edition.certificate)
    return (
        last is not None
        and last.state is InstallState.DONE
        and last.edition == edition.number
        and set(entry.install) <= set(last.servers)
    )
