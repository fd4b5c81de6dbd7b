"""Try a nameserver, or a program that changes records: put a harmless record, see it everywhere, remove it."""

import secrets

from msgspec import Struct
from msgspec.structs import replace

from inkstamp.config.config_file import expect_known
from inkstamp.deadline import poll
from inkstamp.findings import Finding, bad, ok
from inkstamp.jobs.validation.context import ValidationContext
from inkstamp.jobs.validation.dns_records import Placed, Told, observe, patience, place, put_up, take_down_of
from inkstamp.ledger.records import TRIAL_ORDER
from inkstamp.pki.names import normalise
from inkstamp.proof.record import MAKE_IT, RecordProof
from inkstamp.proof.record_changes import DnsRecord
from inkstamp.severity import Severity, worst
from inkstamp.view.authoritative import Sought, ask_server

_LABEL = "_inkstamp-trial"
_LATER = "see whether it serves what is changed there; where that takes longer, raise `seconds` of the nameserver"
_PAUSE = 0.5


class NameserverTrial(Struct, frozen=True, kw_only=True):
    """What came of trying a nameserver."""

    record: DnsRecord
    findings: tuple[Finding, ...]

    @property
    def passes(self) -> bool:
        """Whether the record was seen at every nameserver, and is gone again."""
        return worst(self.findings) is not Severity.BAD


def try_nameserver(context: ValidationContext, via: str, name: str, told: Told | None = None) -> NameserverTrial:
    """Put a TXT record below a name, look for it at every nameserver of the zone, and take it out again.

    Args:
        context: The parts of the run.
        via: A nameserver or program of the configuration.
        name: A zone, or a name in one.
        told: Is called after each request to an API that a recipe describes.

    Raises:
        UsageError: There is no such nameserver or program.
        ProofFailed: The name is in no zone that can be found.
        CarrierTrouble: The record could not be put.

    """
    config = context.config
    expect_known("nameserver or program", {**config.nameserver, **config.program}, [via], context.configuration.path)
    proof = RecordProof("txt", f"{_LABEL}.{normalise(name)}", f"trial-{secrets.token_hex(8)}")
    with context.locks.trial():
        take_down_of(context, TRIAL_ORDER)  # of a run that was killed
        (placed,) = place(context, [proof])
        try:
            put_up(context, TRIAL_ORDER, via, [placed], told)
            findings = observe(context, via, [placed])[placed]
        finally:
            take_down_of(context, TRIAL_ORDER, told)
        seen = [each if not each.remedy.startswith(MAKE_IT) else replace(each, remedy=_LATER) for each in findings]
        return NameserverTrial(record=placed.record, findings=(*seen, _gone(context, via, placed)))


def _gone(context: ValidationContext, via: str, placed: Placed) -> Finding:
    """Wait until no nameserver has the record any more."""
    record, left = placed.record, ""
    sought = Sought(placed.zone, record.name, record.kind, record.value)
    for _ in poll(context.clock, pause=_PAUSE, seconds=patience(context, via)):
        told = [ask_server(host, address, context.view.dns_port, record.name, record.kind)
                for host, address in placed.zone.servers]  # fmt: skip
        left = next((each.host for each in told if each.has(sought)), "")
        if not left:
            return ok("validation", record.name, "is gone again")
    return bad("validation", record.name, f"{left} has it still", "take it out by hand, and see how changes get there")
