"""Where a certificate says that its issuer's certificate can be had (RFC 5280 section 4.2.2.1)."""

from urllib.parse import urlsplit

from cryptography import x509
from cryptography.x509.oid import AuthorityInformationAccessOID

from inkstamp.pki.armour import MALFORMED

_MOST = 4
_LONGEST = 1024


def issuer_urls(certificate: x509.Certificate) -> tuple[str, ...]:
    """Return the HTTP and HTTPS URLs of the issuer's certificate, a few at most."""
    try:
        access = certificate.extensions.get_extension_for_class(x509.AuthorityInformationAccess).value
    except (x509.ExtensionNotFound, *MALFORMED):
        return ()
    urls = [
        str(each.access_location.value)
        for each in access
        if each.access_method == AuthorityInformationAccessOID.CA_ISSUERS
        and isinstance(each.access_location, x509.UniformResourceIdentifier)
    ]
    return tuple(url for url in urls if len(url) <= _LONGEST and _is_web(url))[:_MOST]


def _is_web(url: str) -> bool:
    try:
        parts = urlsplit(url)
        return parts.scheme in {"http", "https"} and bool(parts.hostname) and parts.port != 0
    except ValueError:
        return False
