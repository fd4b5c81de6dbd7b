"""What the issuers of a chain may certify: path length, purposes, names (RFC 5280 sections 4.2.1.9, .10, .12)."""

import ipaddress
from collections.abc import Iterable, Sequence

from cryptography import x509
from cryptography.x509.oid import ExtendedKeyUsageOID

from inkstamp.pki.armour import MALFORMED
from inkstamp.pki.certificates import dns_names, short_name

_SERVING = {ExtendedKeyUsageOID.SERVER_AUTH, ExtendedKeyUsageOID.ANY_EXTENDED_KEY_USAGE}


def may_issue(certificate: x509.Certificate) -> bool:
    """Tell whether a certificate may sign others (RFC 5280 sections 4.2.1.3 and 4.2.1.9)."""
    try:
        extensions = certificate.extensions
        if not extensions.get_extension_for_class(x509.BasicConstraints).value.ca:
            return False
        return extensions.get_extension_for_class(x509.KeyUsage).value.key_cert_sign
    except x509.ExtensionNotFound as missing:
        # Without a key usage extension every use is allowed; without basic constraints none of a CA.
        return missing.oid == x509.KeyUsage.oid
    except MALFORMED:
        return False


def why_forbidden(path: Sequence[x509.Certificate]) -> str:
    """Say which constraint of an issuer the chain breaks; empty when it breaks none.

    Args:
        path: Leaf first, each issued by the next; the last is a trusted root, whose own constraints count too.

    """
    try:
        for depth, certificate in enumerate(path):
            reason = _why_not_here(certificate, path[:depth])
            if reason:
                return f"“{short_name(certificate.subject)}” {reason}"
    except MALFORMED as error:
        return f"an extension is malformed ({error})"
    return ""


def _why_not_here(certificate: x509.Certificate, below: Sequence[x509.Certificate]) -> str:
    extensions = certificate.extensions
    for extension in extensions:
        value = extension.value
        if isinstance(value, x509.ExtendedKeyUsage):
            # Among issuers this is no rule of RFC 5280 but one that all browsers keep.
            if not _SERVING & set(value):
                return "is not meant for servers (extended key usage)"
        elif isinstance(value, x509.BasicConstraints) and below:
            deeper = sum(1 for each in below[1:] if each.subject != each.issuer)
            if value.path_length is not None and deeper > value.path_length:
                return f"allows {value.path_length} intermediates below it and there are {deeper}"
        elif isinstance(value, x509.NameConstraints) and below:
            reason = _why_not_named(value, below[0])
            if reason:
                return reason
    return ""


def _why_not_named(constraints: x509.NameConstraints, leaf: x509.Certificate) -> str:
    names = [name.removeprefix("*.") for name in dns_names(leaf)]
    permitted = [each.value.lower() for each in constraints.permitted_subtrees or () if isinstance(each, x509.DNSName)]
    excluded = [each.value.lower() for each in constraints.excluded_subtrees or () if isinstance(each, x509.DNSName)]
    for name in names:
        if permitted and not any(_within(name, subtree) for subtree in permitted):
            return f"may not certify {name}; it is limited to {', '.join(permitted)}"
        if any(_within(name, subtree) for subtree in excluded):
            return f"may not certify {name}, which is excluded"
    for address in _addresses(leaf):
        if not _address_allowed(address, constraints):
            return f"may not certify {address}"
    return ""


def _within(name: str, subtree: str) -> bool:
    """RFC 5280 section 4.2.1.10: any name made by adding labels on the left; an empty subtree holds all."""
    bare = subtree.removeprefix(".")
    return not bare or name == bare or name.endswith("." + bare)


def _addresses(leaf: x509.Certificate) -> list[ipaddress.IPv4Address | ipaddress.IPv6Address]:
    try:
        names = leaf.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except x509.ExtensionNotFound:
        return []
    found = names.get_values_for_type(x509.IPAddress)
    return [each for each in found if isinstance(each, ipaddress.IPv4Address | ipaddress.IPv6Address)]


def _address_allowed(address: ipaddress.IPv4Address | ipaddress.IPv6Address, constraints: x509.NameConstraints) -> bool:
    def networks(subtrees: Iterable[x509.GeneralName] | None) -> list[object]:
        return [each.value for each in subtrees or () if isinstance(each, x509.IPAddress)]

    def among(known: list[object]) -> bool:
        return any(
            isinstance(each, ipaddress.IPv4Network | ipaddress.IPv6Network)
            and each.version == address.version
            and address in each
            for each in known
        )

    permitted = networks(constraints.permitted_subtrees)
    return (not permitted or among(permitted)) and not among(networks(constraints.excluded_subtrees))
