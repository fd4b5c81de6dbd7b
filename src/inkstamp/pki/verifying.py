"""A second opinion on a chain, by the library's own verifier: it keeps to the Baseline Requirements' profile. Pure."""

import ipaddress
from collections.abc import Sequence
from datetime import datetime
from functools import lru_cache

from cryptography import x509
from cryptography.x509 import verification

from inkstamp.pki.armour import strangers_bytes
from inkstamp.pki.chain import Roots
from inkstamp.pki.names import as_address


@lru_cache(maxsize=4)
def _store(roots: Roots) -> verification.Store:
    return verification.Store(list(roots.certificates))


def second_opinion(name: str, chain: Sequence[x509.Certificate], roots: Roots, now: datetime) -> str:
    """Say why the library's verifier refuses `chain` for `name`; empty when it accepts it.

    Args:
        name: A domain name or an address.
        chain: As served, leaf first.
        roots: What is trusted.
        now: Aware.

    """
    if not roots.certificates:
        return "no root is trusted"
    address = as_address(name)
    subject: x509.IPAddress | x509.DNSName
    try:
        with strangers_bytes():
            subject = x509.IPAddress(ipaddress.ip_address(address)) if address else x509.DNSName(name)
            verifier = verification.PolicyBuilder().store(_store(roots)).time(now).build_server_verifier(subject)
            verifier.verify(chain[0], list(chain[1:]))
    except ValueError as error:
        return str(error).partition("(encountered processing")[0].strip() or type(error).__name__
    return ""
