"""The exact command for what `check` finds about TLS settings, where `harden` would change something."""

from collections.abc import Sequence

from msgspec.structs import replace

from inkstamp.findings import Finding
from inkstamp.jobs.checks.context import ChecksContext
from inkstamp.jobs.inventory.hardening_plan import planned_for
from inkstamp.servers.tls_policy import USUAL_POLICY, TlsChange, policies
from inkstamp.severity import Severity

_TOPICS = frozenset({"protocols", "ciphers", "plain HTTP"})


def with_commands(context: ChecksContext, name: str, findings: Sequence[Finding]) -> tuple[Finding, ...]:
    """Return findings about a name with the command that changes its server's settings in the place of advice.

    It is named for sites of servers that are known here, and only where it would change something.
    """
    topics = {each.topic for each in findings if _is_meant(each)}
    commands = {topic: _command_for(context, name, topic) for topic in topics}
    return tuple(
        replace(each, remedy=commands[each.topic]) if _is_meant(each) and commands[each.topic] else each
        for each in findings
    )


def _is_meant(each: Finding) -> bool:
    if each.topic == "protocols":
        return each.severity is not Severity.OK
    return each.topic in _TOPICS and each.severity in {Severity.WARN, Severity.BAD}


def _command_for(context: ChecksContext, name: str, topic: str) -> str:
    """Return the command that helps; empty where none would."""
    if topic == "plain HTTP":
        plans = planned_for(context, name, TlsChange(redirect=True))
        return f"inkstamp harden {name} --redirect" if any(each.changes for each in plans) else ""
    plans = planned_for(context, name, TlsChange(policy=policies()[USUAL_POLICY]))
    keeps = any(finding.topic == "ciphers" for each in plans for finding in each.findings)
    if topic == "ciphers" and keeps:
        return f"inkstamp harden {name} --replace-ciphers"
    return f"inkstamp harden {name}" if any(each.changes for each in plans) else ""
