"""Whether some way of proving can be gone for each name, before a CA is asked for anything."""

from inkstamp.accounts.account_keys import known_thumbprint
from inkstamp.config.carrying import file_servers, methods_for
from inkstamp.config.model import Certificate
from inkstamp.config.words import RECORD_METHODS
from inkstamp.errors import CarrierTrouble, FileTrouble, NetworkTrouble, ProofFailed, ReachTrouble, ServerTrouble
from inkstamp.findings import Finding
from inkstamp.jobs.validation import web_files
from inkstamp.jobs.validation.context import ValidationContext
from inkstamp.jobs.validation.dns_records import place_challenges
from inkstamp.wording import first_and_count

SURMOUNTABLE = (CarrierTrouble, FileTrouble, NetworkTrouble, ProofFailed, ReachTrouble, ServerTrouble)
"""What may stand in the way of one method and not of another."""


def check_ways(context: ValidationContext, entry: Certificate) -> None:
    """Make sure, before a CA is asked for anything, that some way of proving can be gone for each name.

    Raises:
        ProofFailed: A name has no address, or is in no zone, or its CAA records forbid it.
        ServerTrouble, FileTrouble: No virtual host answers for a name, or its folder cannot be written to.

    """
    lost: list[Finding] = []
    thumbprint = known_thumbprint(context, entry.authority)
    for name in entry.names:
        try:
            _check_way(context, entry, name, thumbprint)
        except ProofFailed as error:
            if not error.findings:
                raise
            lost += error.findings
    if lost:
        raise web_files.not_found(lost)
    forbidden = web_files.forbidden(context, entry, {name: methods_for(entry, name) for name in entry.names})
    if forbidden:
        raise ProofFailed(
            f"CAA records forbid {entry.authority} to issue for {first_and_count([f.subject for f in forbidden])}",
            findings=forbidden,
            advice="correct the records, then run the same command again",
        )


def _check_way(context: ValidationContext, entry: Certificate, name: str, thumbprint: str) -> None:
    methods = methods_for(entry, name)
    for method in methods:
        try:
            if method in RECORD_METHODS:
                place_challenges(context, [name], method, entry.authority)
            else:
                servers = file_servers(context.config, entry) if method == "http-01" else ()
                web_files.check_folders(context, servers, [name], thumbprint)
                web_files.check_addresses(context.view, [name])
        except SURMOUNTABLE:
            if method == methods[-1]:
                raise
        else:
            return
