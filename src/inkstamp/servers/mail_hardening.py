"""Settings of mail servers that have TLS: protocols and ciphers, which is all that they have."""

from inkstamp.servers.tls_policy import Policy

_OLDER = ("SSLv2", "SSLv3", "TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3")


def postfix_protocols(policy: Policy) -> str:
    """Write a policy's protocols as all releases of Postfix read them: by what is left out (postconf(5))."""
    return ", ".join(f"!{each}" for each in _OLDER if each not in policy.protocols)


def allows_only(setting: str, policy: Policy) -> bool:
    """Tell whether a list of protocols, in either of Postfix's ways of writing it, allows those of a policy alone."""
    words = setting.replace(",", " ").split()
    least = next((each.removeprefix(">=") for each in words if each.startswith(">=")), "")
    if least:
        return least == policy.least
    left_out = {each.removeprefix("!") for each in words if each.startswith("!")}
    named = {each for each in words if not each.startswith("!")}
    allowed = (named or {each for each in _OLDER if each not in {"SSLv2", "SSLv3"}}) - left_out
    return allowed == set(policy.protocols)
