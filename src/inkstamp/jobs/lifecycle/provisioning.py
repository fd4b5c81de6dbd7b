"""The whole round for a certificate: check beforehand, order, prove, collect, install, look."""

from collections.abc import Callable, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from inkstamp.bulkhead import apart, at_step, reached
from inkstamp.config.carrying import file_servers, is_portal, key_server
from inkstamp.config.model import Certificate
from inkstamp.deadline import poll, within
from inkstamp.errors import ProofFailed
from inkstamp.findings import Finding, bad, note
from inkstamp.jobs.deployment.plan import prepare
from inkstamp.jobs.deployment.rollback import recover, tidy
from inkstamp.jobs.lifecycle.brought import bring_csr, bring_key, expect_new_csr, is_new_csr
from inkstamp.jobs.lifecycle.context import LifecycleContext
from inkstamp.jobs.lifecycle.entry_change import change_settings
from inkstamp.jobs.lifecycle.failover import expect_to_order, obtain_somewhere
from inkstamp.jobs.lifecycle.proposal import Plan
from inkstamp.jobs.orders.cancellation import clear_ended
from inkstamp.jobs.orders.name_subset import less_of, what_is_left_out
from inkstamp.jobs.status.editions import served_beside
from inkstamp.jobs.status.renewal_reasons import reasons, renewal_of
from inkstamp.jobs.validation.challenge_path import Passage, open_unless_open
from inkstamp.jobs.validation.ways import check_ways
from inkstamp.jobs.validation.web_files import check_addresses, check_folders
from inkstamp.ledger.failures import failure_kept
from inkstamp.ledger.installs import has_edition
from inkstamp.ledger.observations import Heard
from inkstamp.ledger.records import EditionRecord, OrderState
from inkstamp.locks import Quota
from inkstamp.pki.chain import Roots
from inkstamp.proof.portal_validation import method_of
from inkstamp.severity import Severity, worst

if TYPE_CHECKING:
    from inkstamp.jobs.checks.targets import Target
    from inkstamp.jobs.deployment.rollout import Deployment
    from inkstamp.ledger.store import Ledger
    from inkstamp.progress import Progress

_SETTLING_SECONDS, _SETTLING_PAUSE = 3.0, 0.1
_LOOK_SECONDS = 120.0
"""For looking at all names of a certificate once."""
_TESTED_SECONDS = 60.0
"""How long a server's configuration counts as good beforehand; it is tested again before anything is changed."""


class Outcome(Struct, frozen=True, kw_only=True):
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
    key_elsewhere: bool = False
    """Whether another machine has its key, so that a person installs it."""
    for_others: bool = False
    """Whether other machines that share the ledger install it."""

    @property
    def sound(self) -> bool:
        """Whether nothing that was seen is broken."""
        return worst(self.findings) is not Severity.BAD


def write_entries(context: LifecycleContext, plan: Plan) -> None:
    """Write the entries that the plan adds to the configuration, and the CSR that was brought for it.

    Raises:
        UsageError: An order waits with another CSR.

    """
    if plan.brought:
        bring_csr(context, plan)
    if plan.write:
        servers = [("server", *each) for each in plan.new_servers]
        context.configuration.add_entries(*servers, ("certificate", plan.name, plan.entry))
    if plan.own_key is not None:
        bring_key(context, plan, plan.own_key)
    if plan.same_request:
        change_settings(context, plan.name, {"same_request": True})


def check_beforehand(context: LifecycleContext, plan: Plan) -> None:
    """Find out what would fail, before the configuration is written and the CA hears of it."""
    entry, authority = plan.entry, context.config.authority[plan.entry.authority]
    with at_step("checking beforehand"):
        context.shelf.expect_group()
        recently = context.clock.monotonic() - _TESTED_SECONDS
        prepare(context, plan.name, entry, None, {}, tested_since=recently)
        if authority.is_acme:
            check_ways(context, entry)
        elif method_of(entry, authority) == "file" and file_servers(context.config, entry):
            check_folders(context, file_servers(context.config, entry), entry.names)
            check_addresses(context.view, entry.names)


def _check_passing(context: LifecycleContext, plan: Plan) -> Certificate:
    """Check beforehand; returns the entry, without names that fail where it may go without them."""
    entry = plan.entry
    while True:
        try:
            check_beforehand(context, replace(plan, entry=entry))
        except ProofFailed as problem:
            entry = less_of(context, plan.name, entry, problem)
        else:
            return entry


def carry_out(
    context: LifecycleContext,
    plan: Plan,
    *,
    anew: bool = False,
    again: bool = False,
    said: Callable[[Plan], None] = lambda _plan: None,
    quota: Quota | None = None,
) -> Outcome:
    """Do the round for one certificate, from wherever an earlier run left it.

    Args:
        context: The parts of the run.
        plan: What to do.
        anew: Order a new edition although the present one is good.
        again: Install it although the servers have it by our records: something else was seen there.
        said: Called with the plan when all checks have passed, before anything is changed.
        quota: How many may be ordered at a time by all machines; None for no limit.

    """
    with context.locks.certificate(plan.name, quota), failure_kept(context.ledger, context.certificates, plan.name):
        got = come_by(context, plan, anew=anew, again=again, said=said)
        if got.in_place:
            return outcome_of(context, got)
        from inkstamp.jobs.deployment.rollout import install  # noqa: PLC0415  what is kept on the shelf goes nowhere

        say_installs(context.progress, got)
        with at_step(got.installing):
            findings = install(context, got.wish)
        return put_in_place(context, got, findings)


def carry_out_and_look(
    context: LifecycleContext, plan: Plan, *, anew: bool = False, said: Callable[[Plan], None] = lambda _plan: None
) -> Outcome:
    """Do the round, and look at the names as the public does where servers were changed for them; as `carry_out`."""
    with apart():
        reached("stamp", plan.name)
        if context.home.standing("").is_dir():  # a rollover of an account key may have been killed
            from inkstamp.jobs.validation.standing_keys import recover_all_standing  # noqa: PLC0415  seldom

            recover_all_standing(context)
        done = carry_out(context, plan, anew=anew, said=said)
        return look_afterwards(context, done) if done.servers else done


class ComeBy(Struct, frozen=True, kw_only=True):
    """The edition that a certificate is to be served with, and whether it is in its place already."""

    entry: Certificate
    edition: EditionRecord
    issued: bool
    """Whether it is new."""
    in_place: bool
    """Whether the servers have it."""
    again: bool
    left_out: tuple[Finding, ...] = ()
    """Names that it does without."""

    @property
    def wish(self) -> "Deployment":
        """What is to be installed."""
        from inkstamp.jobs.deployment.rollout import Deployment  # noqa: PLC0415  as above

        return Deployment(self.edition.certificate, self.entry, self.edition)

    @property
    def installing(self) -> str:
        """The step that comes next."""
        return f"installing edition {self.edition.number}"


def outcome_of(context: LifecycleContext, got: ComeBy, findings: Sequence[Finding] = ()) -> Outcome:
    """Return what became of a certificate whose edition is in its place."""
    return Outcome(
        name=got.edition.certificate,
        edition=got.edition,
        issued=got.issued,
        installed=bool(got.entry.install) and not got.in_place,
        servers=got.entry.install,
        findings=(*got.left_out, *findings),
        renews_at=renewal_of(context, got.edition),
        key_elsewhere=got.entry.key_elsewhere and not key_server(got.entry),
        for_others=context.certificates.is_installed_elsewhere(got.edition.certificate),
    )


def put_in_place(context: LifecycleContext, got: ComeBy, findings: Sequence[Finding]) -> Outcome:
    """Record that an edition has been installed; returns what became of its certificate."""
    if got.again:
        context.ledger.observations.add([(got.edition, Heard(astray=""))])
    return outcome_of(context, got, findings)


def come_by(
    context: LifecycleContext,
    plan: Plan,
    *,
    anew: bool = False,
    again: bool = False,
    said: Callable[[Plan], None] = lambda _plan: None,
) -> ComeBy:
    """Do the round up to the install (see `carry_out`); the caller holds the certificate."""
    if anew and not context.config.orders:
        expect_to_order(context, plan.name)
    settle(context, plan.name)
    edition = good_edition(context, plan, anew=anew or is_new_csr(context, plan))
    if edition is not None and plan.same_request:
        write_entries(context, plan)
    if edition is not None and not again and is_installed(context, edition, plan.entry):
        return ComeBy(entry=plan.entry, edition=edition, issued=False, in_place=True, again=again)
    passing = plan.entry
    if edition is None:
        expect_new_csr(context, plan)
    if edition is None and not _waits_at_portal(context.ledger, plan):
        passing = _check_passing(context, plan)
    said(plan)
    write_entries(context, plan)
    if edition is not None:
        return ComeBy(entry=plan.entry, edition=edition, issued=False, in_place=False, again=again)
    edition = obtain_somewhere(context, plan.name, passing)
    left_out = tuple(what_is_left_out(plan.entry, edition))
    others = context.certificates.is_installed_elsewhere(plan.name)
    if others:
        from inkstamp.jobs.fleet.presence import assign  # noqa: PLC0415  where machines share a ledger
        from inkstamp.jobs.fleet.rollout_progress import advance_rollouts  # noqa: PLC0415  as above

        assign(context, plan.name)
        advance_rollouts(context, plan.name)
    return ComeBy(entry=plan.entry, edition=edition, issued=True, in_place=others, again=again, left_out=left_out)


def _waits_at_portal(ledger: "Ledger", plan: Plan) -> bool:
    order = ledger.open_order(plan.name)
    return order is not None and order.state is OrderState.WAITING


def look_afterwards(context: LifecycleContext, outcome: Outcome) -> Outcome:
    """Look at the outcome's names the way the public does, and add what is not as it should be."""
    from inkstamp.jobs.checks.check import look  # noqa: PLC0415  what is kept on the shelf is not looked at

    names = [each for each in context.certificates.entry(outcome.name).names if not each.startswith("*.")]
    targets = [target for name in names for target in where_served(context, outcome, name)]
    authority = context.config.authority.get(outcome.edition.authority)
    roots, private = Roots(context.trust.of(outcome.edition.authority)), authority is not None and authority.is_private
    # For a moment after a reload the workers of before still take connections.
    for _ in poll(context.clock, pause=_SETTLING_PAUSE, seconds=_SETTLING_SECONDS):
        with within(_LOOK_SECONDS):
            reports = [look(context, each, roots) for each in targets]
        strangers = [
            each for each in reports
            if each.chain and each.chain[0].sha256 != outcome.edition.sha256
            and each.chain[0].sha256 not in served_beside(context, each.name, outcome.edition)
        ]  # fmt: skip
        if not strangers:
            break
    seen = [finding for report in reports for finding in report.findings if finding.severity is not Severity.OK]
    seen += [
        note(
            "edition",
            each.name,
            f"a CDN or proxy answers, with a certificate of “{each.chain[0].issuer}”",
            f"the origin itself: inkstamp check {each.name} --at ADDRESS",
        )
        if private  # which no browser trusts: it is meant for what is in front
        else bad(
            "edition",
            each.name,
            f"another certificate than edition {outcome.edition.number} (serial {each.chain[0].serial})",
            "another machine or a proxy answers for it; install the edition there too",
        )
        for each in strangers
    ]
    return replace(outcome, findings=(*outcome.findings, *seen))


def where_served(context: LifecycleContext, outcome: Outcome, name: str) -> "list[Target]":
    """Return where the public meets a name's certificate: at the ports of the servers that it was installed on."""
    from inkstamp.jobs.checks.targets import Target  # noqa: PLC0415  as above

    usual = context.view.https_port
    found: dict[Target, None] = {}
    for each in outcome.servers:
        for endpoint in context.servers.installable(each).tls_endpoints(name) or []:
            found[Target(name=name, port=endpoint.port, upgrade=endpoint.upgrade)] = None
    at_web = [each for each in found if each.port == usual]
    return at_web or list(found) or [Target(name=name, port=usual)]


def settle(context: LifecycleContext, name: str) -> None:
    """Clear away what an interrupted run left, before anything is looked at; the caller holds the certificate.

    An install that was interrupted is put back; of an order that is ended, the key (the edition has it) and proofs that
    stand yet are removed.
    """
    clear_ended(context, name)
    for record in context.ledger.installs.begun(name):
        with context.locks.servers(record.servers):
            recover(context, [record])
    tidy(context, name)


def say_installs(progress: "Progress", got: ComeBy) -> None:
    """Tell that an edition is put on its servers now."""
    if got.entry.install:
        text = f"installing edition {got.edition.number} on {', '.join(got.entry.install)}"
        progress.step(got.edition.certificate, text)


def good_edition(context: LifecycleContext, plan: Plan, *, anew: bool) -> EditionRecord | None:
    """Return the newest edition when it serves its purpose still and nothing goes on to replace it at once.

    An order that waits at a portal may do so for weeks; meanwhile the edition is what there is.
    """
    ledger = context.ledger
    if not context.config.orders:
        return ledger.newest_edition(plan.name)
    order = ledger.open_order(plan.name)
    if plan.write or anew or (order is not None and order.state is not OrderState.WAITING):
        return None
    edition = ledger.newest_edition(plan.name)
    if edition is None:
        return None
    # What was asked for counts: CAs at portals like to add a name, and what is bought covers fewer names just as well.
    origin, names = ledger.order_of_edition(plan.name, edition.number), set(plan.entry.names)
    is_bought = is_portal(context.config, plan.entry) and names <= set(edition.names)
    if set(origin.names if origin else edition.names) != names and not is_bought:
        return None
    observed = ledger.observations.of(edition)
    wanted = next(reasons(context, plan.entry, edition, observed, context.clock.now()), None)
    return None if wanted else edition


def is_installed(context: LifecycleContext, edition: EditionRecord, entry: Certificate) -> bool:
    """Tell whether the ledger and the shelf agree that the servers have this edition."""
    if context.certificates.is_installed_elsewhere(edition.certificate):
        return True
    if context.local_copy.current(edition.certificate) != edition.number:
        return False
    return has_edition(context.ledger.installs.of(edition.certificate), entry.install, edition.number)


def open_where_closed(context: LifecycleContext, plan: Plan) -> tuple[Plan, Passage | None]:
    """Open the way for a certificate that is about to be ordered, whose entry is written first where there is none.

    Returns:
        What is left to do, and what was changed; None where the challenge path is open, or the way was opened before.

    Raises:
        UsageError: No server carries its proofs.
        ProofFailed, ServerTrouble: As of `let_through`.

    """
    write_entries(context, plan)
    left = replace(plan, write=False, new_servers=())
    return left, open_unless_open(context, plan.name)
