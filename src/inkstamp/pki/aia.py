"""Where a certificate says that more about it can be had (RFC 5280 section 4.2.2.1)."""

from cryptography import x509
from cryptography.x509.oid import AuthorityInformationAccessOID

from inkstamp.errors import UrlTrouble
from inkstamp.pki.armour import MALFORMED
from inkstamp.urls import web_url

_MOST = 4
_LONGEST = 1024


def issuer_urls(certificate: x509.Certificate) -> tuple[str, ...]:
    """Return the HTTP and HTTPS URLs of the issuer's certificate, a few at most."""
    return access_urls(certificate, AuthorityInformationAccessOID.CA_ISSUERS)


def access_urls(certificate: x509.Certificate, method: x509.ObjectIdentifier) -> tuple[str, ...]:
    """Return the HTTP and HTTPS URLs of one kind of access, a few at most."""
    try:
        access = certificate.extensions.get_extension_for_class(x509.AuthorityInformationAccess).value
    except (x509.ExtensionNotFound, *MALFORMED):
        return ()
    urls = [
        str(each.access_location.value)
        for each in access
        if each.access_method == method and isinstance(each.access_location, x509.UniformResourceIdentifier)
    ]
    return tuple(url for url in urls if is_web(url))[:_MOST]


def is_web(url: str) -> bool:
    """Tell whether a URL out of a certificate is one of HTTP or HTTPS, and of sensible length."""
    try:
        return len(url) <= _LONGEST and bool(web_url(url))
    except UrlTrouble:
        return False
