"""The whole round for a certificate: check beforehand, order, prove, collect, install, look."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime
from typing import TYPE_CHECKING

from inkstamp.config.carrying import file_servers
from inkstamp.config.model import Certificate
from inkstamp.errors import ProofFailed
from inkstamp.findings import Finding, Severity, bad, worst
from inkstamp.jobs.plan import Plan
from inkstamp.jobs.reasons import reasons, renewal_of
from inkstamp.jobs.setback import at_step, kept
from inkstamp.ledger.installs import has_edition
from inkstamp.ledger.records import EditionRecord, OrderState

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace

_SETTLING_SECONDS = 3.0


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
    renews_at: datetime
    """From when it is renewed, as far as is known; aware, UTC."""

    @property
    def sound(self) -> bool:
        """Whether nothing that was seen is broken."""
        return worst(self.findings) is not Severity.BAD


def write_entries(workplace: "Workplace", plan: Plan) -> None:
    """Write the entries that the plan adds to the configuration."""
    if not plan.write:
        return
    server = [] if plan.new_server is None else [("server", *plan.new_server)]
    workplace.add_entries(*server, ("certificate", plan.name, plan.entry))


def check_beforehand(workplace: "Workplace", plan: Plan) -> None:
    """Find out what would fail, before the configuration is written and the CA hears of it."""
    from inkstamp.jobs.preparing import prepare
    from inkstamp.jobs.prove import check_addresses, check_folders
    from inkstamp.jobs.showing import check_ways
    from inkstamp.proof.portal import method_of

    entry, authority = plan.entry, workplace.config.authority[plan.entry.authority]
    with at_step("checking beforehand"):
        prepare(workplace, plan.name, entry, None, {})
        if authority.kind == "acme":
            check_ways(workplace, entry)
        elif method_of(entry, authority) == "file" and file_servers(workplace.config, entry):
            check_folders(workplace, file_servers(workplace.config, entry), entry.names)
            check_addresses(workplace, entry.names)


def _check_passing(workplace: "Workplace", plan: Plan) -> Certificate:
    """Check beforehand; returns the entry, without names that fail where it may go without them."""
    from inkstamp.jobs.leaving_out import less_of

    entry = plan.entry
    while True:
        try:
            check_beforehand(workplace, replace(plan, entry=entry))
        except ProofFailed as problem:
            entry = less_of(workplace, plan.name, entry, problem)
        else:
            return entry


def carry_out(
    workplace: "Workplace",
    plan: Plan,
    *,
    anew: bool = False,
    again: bool = False,
    said: Callable[[Plan], None] = lambda _plan: None,
) -> Outcome:
    """Do the round for one certificate, from wherever an earlier run left it.

    Args:
        workplace: The run's surroundings.
        plan: What to do.
        anew: Order a new edition although the present one is good.
        again: Install it although the servers have it by our records: something else was seen there.
        said: Called with the plan when all checks have passed, before anything is changed.

    """
    with workplace.hold_certificate(plan.name), kept(workplace, plan.name):
        settle(workplace, plan.name)
        edition = good_edition(workplace, plan, anew=anew)
        issued = edition is None
        if edition is not None and not again and is_installed(workplace, edition, plan.entry):
            return Outcome(
                name=plan.name,
                edition=edition,
                issued=False,
                installed=False,
                servers=plan.entry.install,
                findings=(),
                renews_at=renewal_of(workplace, edition),
            )
        passing, left_out = plan.entry, list[Finding]()
        if edition is None and not _waits_at_portal(workplace, plan):
            passing = _check_passing(workplace, plan)
        said(plan)
        write_entries(workplace, plan)
        if edition is None:
            from inkstamp.jobs.leaving_out import what_is_left_out
            from inkstamp.jobs.opening import obtain_somewhere

            edition = obtain_somewhere(workplace, plan.name, passing)
            left_out = what_is_left_out(plan.entry, edition)
        with at_step(f"installing edition {edition.number}"):
            findings = [*left_out, *_install(workplace, plan, edition)]
        if again:
            workplace.ledger.tidings.add([(edition, {"astray": ""})])
    return Outcome(
        name=plan.name,
        edition=edition,
        issued=issued,
        installed=bool(plan.entry.install),
        servers=plan.entry.install,
        findings=tuple(findings),
        renews_at=renewal_of(workplace, edition),
    )


def _waits_at_portal(workplace: "Workplace", plan: Plan) -> bool:
    order = workplace.ledger.open_order(plan.name)
    return order is not None and order.state is OrderState.WAITING


def look_afterwards(workplace: "Workplace", outcome: Outcome) -> Outcome:
    """Look at the outcome's names the way the public does, and add what is not as it should be."""
    from inkstamp.jobs.check import Target, look, standing_beside
    from inkstamp.pki.chain import Roots

    names = [each for each in workplace.certificate(outcome.name).names if not each.startswith("*.")]
    targets = [Target(name=each, port=workplace.view.https_port) for each in names]
    roots = Roots(workplace.roots)
    deadline = workplace.clock.monotonic() + _SETTLING_SECONDS
    while True:
        reports = [look(workplace, each, roots) for each in targets]
        strangers = [
            each for each in reports
            if each.chain and each.chain[0].sha256 != outcome.edition.sha256
            and each.chain[0].sha256 not in standing_beside(workplace, each.name, outcome.edition)
        ]  # fmt: skip
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
    from inkstamp.jobs.carry import recover, tidy
    from inkstamp.jobs.order_files import clear_ended

    clear_ended(workplace, name)
    for record in workplace.ledger.installs.begun(name):
        with workplace.hold_servers(record.servers):
            recover(workplace, record)
    tidy(workplace, name)


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
    tidings = ledger.tidings.of(edition)
    wanted = next(reasons(workplace, plan.entry, edition, tidings, workplace.clock.now()), None)
    return None if wanted else edition


def is_installed(workplace: "Workplace", edition: EditionRecord, entry: Certificate) -> bool:
    """Tell whether the ledger and the shelf agree that the servers have this edition."""
    if workplace.shelf.current(edition.certificate) != edition.number:
        return False
    return has_edition(workplace.ledger.installs.of(edition.certificate), entry.install, edition.number)
