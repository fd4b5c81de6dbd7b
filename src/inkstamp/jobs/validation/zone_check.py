"""The zone that a name's records go into, looked at beforehand."""

from inkstamp.errors import InkStampError
from inkstamp.findings import Finding, bad, ok, warn
from inkstamp.jobs.validation.context import ValidationContext
from inkstamp.jobs.validation.dns_records import place_challenges
from inkstamp.view.authoritative import ask_server


def check_zone(context: ValidationContext, name: str, method: str, authority: str) -> list[Finding]:
    """Tell which zone the record of a name goes into, and whether all of its nameservers answer alike.

    Args:
        context: The parts of the run.
        name: The name.
        method: By which challenge it is validated.
        authority: By which CA, for the label of our account there.

    """
    try:
        (placed,) = place_challenges(context, [name], method, authority)
    except InkStampError as error:
        return [bad("zone", name, f"{error.what}{f': {error.said}' if error.said else ''}", error.advice)]
    zone, target = placed.zone, placed.record.name
    alias = f" (as {target})" if target != placed.asked else ""
    findings = [ok("zone", name, f"the record goes into the zone {zone.apex}{alias}")]
    serials: dict[str, str] = {}
    for host, address in zone.servers:
        told = ask_server(host, address, context.view.dns_port, zone.apex, "SOA")
        if told.trouble:
            remedy = "correct that nameserver, or remove it from the delegation"
            findings.append(bad("zone", name, f"{host} ({address}) {told.trouble}", remedy))
        elif told.values:
            serials[f"{host} ({address})"] = told.values[0].split()[2]
    if len(set(serials.values())) > 1:
        listed = ", ".join(f"{host} has {serial}" for host, serial in serials.items())
        findings.append(warn("zone", name, f"its nameservers have different serial numbers: {listed}", "see transfers"))
    return findings
