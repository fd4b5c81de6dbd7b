"""What the CA's problem documents mean and what to do about them (RFC 8555 section 6.7)."""

from collections.abc import Sequence

from inkstamp.acme.resources import Problem
from inkstamp.errors import CaProblem

_URN = "urn:ietf:params:acme:error:"

OF_PROOFS = frozenset({"connection", "dns", "incorrectResponse", "tls", "unauthorized"})
"""Short kinds of problems (RFC 8555 section 6.7) of one method of proving, which another one may not have."""

_ADVICE = {
    "alreadyReplaced": "another order has replaced that certificate; run the command again",
    "alreadyRevoked": "nothing is left to do: the CA has revoked it already",
    "autoRenewalCanceled": "this auto-renewal order was cancelled; order a new certificate",
    "autoRenewalCancellationInvalid": "only an active auto-renewal order can be cancelled",
    "autoRenewalExpired": "this auto-renewal order has expired; order a new certificate",
    "autoRenewalRevocationNotSupported": "certificates of an auto-renewal order are not revoked: cancel the order",
    "badRevocationReason": "this CA does not accept that reason; choose another one with --reason",
    "badSignatureAlgorithm": "the CA does not know the account key's kind; use another `account_key`",
    "compound": "see each part above",
    "invalidProfile": "the CA does not offer that `profile`; `inkstamp authority show NAME` lists those that it does",
    "onionCAARequired": "the CA wants the CAA of that onion service in the request, which Ink Stamp does not send",
    "unknownDelegation": "the CA does not know that delegation; Ink Stamp orders without one",
    "accountDoesNotExist": "the CA does not know this account; run `inkstamp authority add` again to open one",
    "badCSR": "choose another `key` for the certificate; the CA refuses this request's key or names",
    "badNonce": "run the command again; if it persists, a proxy between here and the CA may be replaying answers",
    "badPublicKey": "the CA refuses the account's key; use another `account_key` kind",
    "caa": "add a CAA record that names this CA, or remove the one that forbids it",
    "connection": "the CA could not connect: check the addresses in DNS and the firewall in front of port 80",
    "dns": "the CA could not look the name up: check its nameservers and DNSSEC",
    "externalAccountRequired": "this CA requires external account binding (EAB): get key ID and MAC key from it, then "
    "give binding_id and binding_key_file",
    "incorrectResponse": "the CA received a wrong challenge response: another machine may answer for this name",
    "invalidContact": "correct the account's e-mail address",
    "malformed": "this is a bug in Ink Stamp; run again with --debug and report it",
    "orderNotReady": "run the command again; it resumes the same order",
    "rateLimited": "wait until the time that the CA names; earlier requests prolong it",
    "rejectedIdentifier": "this CA does not issue for that name; remove it from the certificate's names",
    "serverInternal": "the CA has an internal error; run the command again later, it resumes the same order",
    "tls": "the CA failed in a TLS handshake with the site",
    "unauthorized": "the CA did not find the challenge response, or the account is not authorized",
    "unsupportedContact": "use an e-mail address as the account's contact",
    "unsupportedIdentifier": "this CA does not issue for identifiers of that type",
    "userActionRequired": "a person has to read and agree to something in a browser, at the address that the CA names; "
    "then run the command again",
}


_PASSING = frozenset(
    {"accountDoesNotExist", "badNonce", "externalAccountRequired", "orderNotReady", "rateLimited", "serverInternal",
     "userActionRequired"}
)  # fmt: skip
"""Short kinds of problems after which the same request may be taken."""


def is_final(problem: CaProblem) -> bool:
    """Tell whether a CA that refused a request so will not take the same one later."""
    return 400 <= problem.status < 500 and problem.kind in _ADVICE.keys() - _PASSING


def short_kind(problem: Problem) -> str:
    """Return the problem's type without the ACME prefix; another namespace's type stays whole."""
    return problem.type.removeprefix(_URN)


def describe(problem: Problem, links: Sequence[str] = ()) -> str:
    """Write a problem and all its subproblems in the CA's words, a line each, and the links that came with it."""
    lines = [f"{short_kind(problem)}: {problem.detail or problem.title or 'no detail given'}"]
    for sub in problem.subproblems:
        name = f"{sub.identifier.value}: " if sub.identifier else ""
        lines.append(f"  {name}{short_kind(sub)}: {sub.detail or sub.title or 'no detail given'}")
    lines += [f"see {each}" for each in dict.fromkeys((problem.instance, *links)) if each]
    return "\n".join(lines)


def advice(problem: Problem) -> str:
    """Say what to do; for a compound problem, what to do about its first part that is known."""
    for each in (*problem.subproblems, problem):
        if short_kind(each) in _ADVICE:
            return _ADVICE[short_kind(each)]
    return "read the CA's message above; run the command again when it is fixed"


def as_error(
    problem: Problem,
    what: str,
    *,
    where: str,
    status: int = 0,
    retry_after: float | None = None,
    links: Sequence[str] = (),
    said: str = "",
    names: Sequence[str] = (),
) -> CaProblem:
    """Make the error to raise for a problem; `what` says which step the CA refused, `links` lead to more about it.

    With `said` and `names`, these are told instead of the problem's own words and subproblems.
    """
    about = tuple(sub.identifier.value for sub in problem.subproblems if sub.identifier is not None)
    return CaProblem(
        what,
        kind=short_kind(problem),
        status=status or problem.status,
        retry_after=retry_after,
        where=where,
        said=said or describe(problem, links),
        advice=advice(problem),
        names=tuple(names) or about,
    )
