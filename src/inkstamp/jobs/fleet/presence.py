"""What a machine does in a run of renewal because there are others: a sign of life, and what it lacks afterwards."""

from collections.abc import Sequence

from msgspec import Struct

from inkstamp import __version__
from inkstamp.config.model import Configuration
from inkstamp.config.sharing import has_server, is_here, is_local
from inkstamp.jobs.fleet.context import AssignmentContext, FleetContext
from inkstamp.jobs.fleet.rollout_progress import advance_rollouts
from inkstamp.ledger.installs import has_edition
from inkstamp.ledger.machine_records import Assignment, Machines
from inkstamp.ledger.schema import VERSION


class Presence(Struct, frozen=True):
    """A machine at the beginning of a run."""

    change: int
    """The number of the last entry before it looked."""
    names: tuple[str, ...]
    """Certificates that it has to look at besides those whose time it is."""


def appear(context: FleetContext, machines: Machines) -> Presence:
    """Give a sign of life; returns what has changed since this machine looked last."""
    config = context.config
    here = [name for name in config.server if is_here(config, name)]
    machines.appear(release=__version__, version=VERSION, servers=here)
    if config.orders:
        machines.assign(assignments(context.configuration.whole, [each.name for each in machines.all()]))
        advance_rollouts(context)
    change = machines.latest_change()
    changed = machines.to_look_at(context.clock.now())
    context.certificates.read(changed)
    return Presence(change, tuple(name for name in changed if context.certificates.get(name) is not None))


def assign(context: AssignmentContext, name: str) -> None:
    """Have the machines be given a certificate that are to install it, where they are not yet."""
    machines = context.ledger.machines
    if machines is None or not context.config.orders:
        return
    record = context.certificates.record(name)
    meant = ("group", record.group) if record is not None else ("certificate", name)
    known = [each.name for each in machines.all()]
    machines.assign_also([each for each in assignments(context.configuration.whole, known)
                          if (each.kind, each.name) == meant])  # fmt: skip


def assignments(whole: Configuration, machines: Sequence[str]) -> list[Assignment]:
    """Return which certificates and groups are installed on servers of which machines."""
    local = {name: each for name, each in whole.server.items() if is_local(each)}
    on = {name: [machine for machine in machines if has_server(each, machine)] for name, each in local.items()}
    return [
        Assignment(machine, kind, name)
        for kind, entries in (("certificate", whole.certificate), ("group", whole.group))
        for name, entry in entries.items()
        for machine in dict.fromkeys(machine for server in entry.install for machine in on.get(server, ()))
    ]


def settle_presence(context: FleetContext, machines: Machines, presence: Presence, names: Sequence[str]) -> None:
    """Write down which of `names` lack their newest edition on this machine's servers, now that the run is over."""
    here = [
        name for name in names
        if (entry := context.certificates.get(name)) is not None
        and any(is_here(context.config, server) for server in entry.install)
    ]  # fmt: skip
    editions, installs = context.ledger.newest_editions(here), context.ledger.installs.by_server(here)
    lacking = {
        name: edition.number
        for name, edition in editions.items()
        if not has_edition(installs.get(name, {}), context.certificates.entry(name).install, edition.number)
    }
    machines.settle(presence.change, names, lacking)
