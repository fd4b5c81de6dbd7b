"""How a CA knows a certificate when it is asked about renewal (RFC 9773 section 4.1). Pure."""

from cryptography import x509

from inkstamp.acme.jws import b64url


def certificate_id(certificate: x509.Certificate) -> str:
    """Return the identifier of `certificate`: its authority key identifier and its serial number, base64url.

    Empty for a certificate that does not name its authority's key: its CA cannot be asked.
    """
    try:
        key = certificate.extensions.get_extension_for_class(x509.AuthorityKeyIdentifier).value.key_identifier
    except (x509.ExtensionNotFound, ValueError):
        return ""
    if not key:
        return ""
    serial = certificate.serial_number
    if serial < 0:
        return ""
    # The content octets of a DER INTEGER: one bit more than the number has, for its sign (X.690 section 8.3).
    return f"{b64url(key)}.{b64url(serial.to_bytes(serial.bit_length() // 8 + 1, 'big'))}"
