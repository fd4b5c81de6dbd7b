"""Whether a domain's CAA records let a CA issue (RFC 8659, RFC 8657)."""

from collections.abc import Sequence

from inkstamp.findings import Finding, bad, note, ok
from inkstamp.proof.issue_value import issuer_of, read_issue_value
from inkstamp.view.lookups import CaaRecord, CaaSet

_TOPIC = "caa"
_KNOWN = {"issue", "issuewild", "issuemail", "iodef", "contactemail", "contactphone"}


def judge_caa(
    name: str, found: CaaSet, *, issuers: Sequence[str], method: str, account: str, authority: str
) -> Finding:
    """Say whether a CA may issue for `name`.

    Args:
        name: The name, perhaps a wildcard.
        found: The records that count.
        issuers: Domain names that the CA goes by in CAA; empty when they are not known.
        method: `http-01`, `dns-01` …, for `validationmethods`; empty when it is not known.
        account: URL of our account, for `accounturi`; empty when it is not known.
        authority: What the CA is called in the configuration.

    """
    if found.trouble:
        return bad(_TOPIC, name, f"the CA could not read CAA: {found.trouble}", "fix the domain's DNS")
    unknown = [each.tag for each in found.records if each.critical and each.tag not in _KNOWN]
    if unknown:
        return bad(
            _TOPIC, name, f"{found.domain} has a critical CAA property that CAs do not know: {unknown[0]}", "remove it"
        )
    relevant = _relevant(found, wildcard=name.startswith("*."))
    if not relevant:
        return ok(_TOPIC, name, "no CAA record: every CA may issue")
    told = ", ".join(f"“{each.value}”" for each in relevant)
    if not issuers:
        return note(
            _TOPIC, name, f"{found.domain} allows only these to issue: {told}",
            f"check that {authority} is among them, and write its names as caa = […] under [authority.{authority}]",
        )  # fmt: skip
    reasons = [_why_not(each.value, issuers, method, account) for each in relevant]
    if "" in reasons:
        return ok(_TOPIC, name, f"{found.domain} allows {authority} to issue")
    tag = relevant[0].tag
    near = next((reason for reason in reasons if reason != _OTHER), "")
    return bad(
        _TOPIC,
        name,
        f"{found.domain} does not allow {authority} to issue: {near or f'it allows only {told}'}",
        f'add there: {found.domain}. CAA 0 {tag} "{issuers[0]}"' if not near else "correct that record",
    )


_OTHER = "another CA"


def _relevant(found: CaaSet, *, wildcard: bool) -> list[CaaRecord]:
    """RFC 8659 section 4.3: for wildcards `issuewild` counts alone where there is one."""
    wild = [each for each in found.records if each.tag == "issuewild"]
    return wild if wildcard and wild else [each for each in found.records if each.tag == "issue"]


def _why_not(value: str, issuers: Sequence[str], method: str, account: str) -> str:
    """Say why one record does not let the CA issue; empty when it does."""
    if issuer_of(value) not in {each.lower() for each in issuers}:
        return _OTHER
    read = read_issue_value(value.rstrip("; \t"))  # a semicolon at its end is one too many, and commonly let pass
    if read is None:
        return f"“{value}” is malformed, which lets nobody issue"
    wanted = read.parameters.get("accounturi", "")
    if wanted and account and wanted != account:
        return f"it is limited to the account {wanted}"  # RFC 8657 section 3
    methods = [each.strip() for each in read.parameters.get("validationmethods", "").split(",") if each.strip()]
    if methods and method and method not in methods:
        return f"it is limited to {', '.join(methods)}"  # RFC 8657 section 4
    return ""
