"""The machines that share the ledger, and what is wrong with them."""

from collections.abc import Sequence

from msgspec import Struct

from inkstamp.config.sharing import not_shared
from inkstamp.errors import UsageError
from inkstamp.findings import Finding, bad, ok, warn
from inkstamp.jobs.fleet.context import FleetContext
from inkstamp.ledger.machine_records import Lack, Machine, Machines
from inkstamp.severity import Severity

_HOUR = 3600.0
_LATE_HOURS = 1.0
"""After how long an edition that a machine lacks is more than one that it is about to get."""


class MachineReport(Struct, frozen=True):
    """One machine."""

    machine: Machine
    lacks: tuple[Lack, ...]
    findings: tuple[Finding, ...]
    is_here: bool


def expect_machines(context: FleetContext) -> Machines:
    """Return the machines; UsageError where the ledger is this one's own."""
    machines = context.ledger.machines
    if machines is None:
        raise not_shared(context.configuration.path)
    return machines


def machine_reports(context: FleetContext) -> list[MachineReport]:
    """Return all machines, by name, with what is wrong with each."""
    machines, ledger = expect_machines(context), context.config.ledger
    lacking = machines.lacking()
    own = context.shared.machine if context.shared is not None else ""
    return [
        MachineReport(
            each,
            tuple(lack for lack in lacking if lack.machine == each.name),
            tuple(findings_of(each, [lack for lack in lacking if lack.machine == each.name], ledger.away_hours)),
            each.name == own,
        )
        for each in machines.all()
    ]


def findings_of(machine: Machine, lacks: Sequence[Lack], away_hours: float) -> list[Finding]:
    """Judge a machine; the first finding is about whether it is there."""
    hours = machine.silent / _HOUR
    if machine.is_away(away_hours):
        behind = f", and {machine.behind} certificates have changed since" if machine.behind else ""
        remedy = f"see whether it runs, and its timer; one that is gone: inkstamp machines forget {machine.name}"
        found = [bad("machine", machine.name, f"away: no sign of life for {hours:.0f} hours{behind}", remedy)]
    else:
        found = [ok("machine", machine.name, "is there")]
    for each in lacks:
        edition = f"edition {each.edition}" if each.edition else "an edition"
        text = f"lacks {edition} of “{each.certificate}” for {each.hours:.1f} hours"
        told = bad if each.why and each.hours >= _LATE_HOURS else warn
        found.append(told("install", machine.name, f"{text}{': ' if each.why else ''}{each.why}",
                          f"on that machine: inkstamp renew {each.certificate}"))  # fmt: skip
    return found


def troubles(machines: Machines, away_hours: float) -> list[Finding]:
    """Return what people should know of any machine: that it has not been seen, or lacks an edition, for long."""
    lacking = machines.lacking()
    return [
        finding
        for each in machines.all()
        for finding in findings_of(each, [lack for lack in lacking if lack.machine == each.name], away_hours)
        if finding.severity is Severity.BAD
    ]


def forget_machine(context: FleetContext, name: str) -> None:
    """Forget a machine that is gone for good; UsageError where there is none of that name."""
    if not expect_machines(context).forget(name):
        raise UsageError(f"there is no machine “{name}”", advice="see: inkstamp machines")
