"""Put a chosen edition on the servers of its certificate."""

from collections.abc import Mapping

from msgspec import Struct

from inkstamp.bulkhead import at_step
from inkstamp.clock import stamp
from inkstamp.config.carrying import key_server
from inkstamp.errors import EditionUnfit, UsageError
from inkstamp.findings import Finding
from inkstamp.jobs.deployment.plan import Group, prepare
from inkstamp.jobs.deployment.rollout import Deployment, Pace, install
from inkstamp.jobs.lifecycle.context import LifecycleContext
from inkstamp.jobs.lifecycle.provisioning import settle
from inkstamp.jobs.status.editions import choose_edition, refuse_revoked
from inkstamp.ledger.failures import failure_kept
from inkstamp.ledger.records import EditionRecord
from inkstamp.servers import backup

_ONE_BY_ONE = Pace()


class Installed(Struct, frozen=True, kw_only=True):
    """What was installed, or would be."""

    certificate: str
    edition: int
    servers: tuple[str, ...]
    names: Mapping[str, tuple[str, ...]]
    """By server, the names whose sites get it; empty for one that is unreachable."""
    differences: tuple[str, ...]
    """Unified diffs of configuration files."""
    copies: tuple[str, ...]
    """The files of the edition that are written for servers, each with who may read it."""
    findings: tuple[Finding, ...]
    done: bool


def install_edition(
    context: LifecycleContext, name: str, number: int | None, *, preview: bool, pace: Pace = _ONE_BY_ONE
) -> Installed:
    """Put an edition, the newest when none is named, on the servers of certificate `name`.

    Raises:
        UsageError: There is no such edition.
        EditionUnfit: It has expired or is revoked, or its files are gone.
        ServerTrouble, FileTrouble: As of an install; everything is as it was then.

    """
    entry = context.certificates.entry(name)
    with context.locks.certificate(name):
        settle(context, name)
        edition = _choose(context, name, number)
        groups: list[Group] = []
        findings: list[Finding] = []
        if preview:
            with context.locks.servers(entry.install):
                since = context.clock.monotonic()
                groups = prepare(context, name, entry, edition, {}, tested_since=since, at_once=pace.at_once)
        else:
            with (
                failure_kept(context.ledger, context.certificates, name),
                at_step(f"installing edition {edition.number}"),
            ):
                findings = install(context, Deployment(name, entry, edition), groups.extend, pace=pace)
    changes = [change for group in groups for change in group.changes]
    return Installed(
        certificate=name,
        edition=edition.number,
        servers=entry.install,
        names={server: names for group in groups for server, names in group.names.items()},
        differences=backup.differences(changes),
        copies=backup.copies(changes),
        findings=tuple(findings),
        done=not preview,
    )


def _choose(context: LifecycleContext, name: str, number: int | None) -> EditionRecord:
    edition = choose_edition(context.ledger, name, number)
    if context.clock.now() > edition.not_after:
        raise EditionUnfit(
            f"edition {edition.number} of “{name}” expired {stamp(edition.not_after)}",
            advice=f"get a new one: inkstamp stamp {name}",
        )
    refuse_revoked(context.ledger, edition)
    entry = context.certificates.entry(name)
    if entry.key_elsewhere and not key_server(entry):
        raise UsageError(
            f"“{name}” cannot be installed from here: its key is on another machine",
            advice=f"write the certificate for that machine: inkstamp export {name} --form served",
        )
    folder = context.shelf.edition(name, edition.number)
    if not (key_server(entry) or (folder / "key.pem").is_file()) or not (folder / "served.pem").is_file():
        raise EditionUnfit(
            f"the files of edition {edition.number} of “{name}” are missing from the shelf",
            where=str(folder),
            advice=f"get a new one: inkstamp stamp {name} --reissue",
        )
    return edition
