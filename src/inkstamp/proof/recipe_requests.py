"""What a recipe makes of placeholders, and finds in answers: requests, signatures, places in JSON. Pure."""

import base64
import hashlib
import hmac
from collections.abc import Mapping
from datetime import datetime
from typing import Any
from urllib.parse import urlencode

import dns.exception
import dns.rdata
import dns.rdataclass
import dns.rdatatype
import jsonpointer
import msgspec
import uritemplate
from msgspec import Struct
from msgspec.structs import replace

from inkstamp.clock import stamp
from inkstamp.config.recipe import PLACEHOLDER, Authentication, RequestTemplate
from inkstamp.urls import absolute, web_url

Values = Mapping[str, Any]
"""By placeholder, what it stands for: text, a number, or a list."""

_MISSING = object()


class ApiRequest(Struct, frozen=True):
    """A request as it is sent, but for what shows whose it is."""

    method: str
    url: str
    body: bytes
    headers: Mapping[str, str]


def fill(text: str, values: Values) -> Any:
    """Put values into a text; one that is a placeholder alone becomes its value, whatever that is."""
    whole = PLACEHOLDER.fullmatch(text)
    if whole and whole[1] in values:
        return values[whole[1]]
    return PLACEHOLDER.sub(lambda found: str(values.get(found[1], found[0])), text)


def fill_all(value: Any, values: Values) -> Any:
    """Put values into all strings of what JSON is made of."""
    if isinstance(value, dict):
        return {key: fill_all(each, values) for key, each in value.items()}
    if isinstance(value, list):
        return [fill_all(each, values) for each in value]
    return fill(value, values) if isinstance(value, str) else value


def make_request(template: RequestTemplate, values: Values, address: str) -> ApiRequest:
    """Fill a template in.

    Raises:
        UrlTrouble: What comes out is no URL.

    """
    path = uritemplate.expand(template.url, {key: each for key, each in values.items() if isinstance(each, str | int)})
    url = f"{address}{path}" if template.url.startswith("/") else absolute(address, path)
    headers = {key: str(fill(each, values)) for key, each in template.headers.items()}
    body = b""
    if template.form:
        body = urlencode({key: fill(each, values) for key, each in template.form.items()}, doseq=True).encode("ascii")
        headers = {"Content-Type": "application/x-www-form-urlencoded", **headers}
    elif template.json is not None:
        body = msgspec.json.encode(fill_all(template.json, values))
        headers = {"Content-Type": "application/json", **headers}
    return ApiRequest(template.method, _plain(url), body, headers)


def next_request(request: ApiRequest, reference: str) -> ApiRequest:
    """Return the request for a URL that an answer names, in the place of that of the request before."""
    return replace(request, url=_plain(absolute(request.url, reference)))


def _plain(url: str) -> str:
    """Return a URL without what no request of ours has: user information, a fragment."""
    parts = web_url(url)
    return f"{parts.scheme}://{parts.authority}{parts.target}"


def authorization(
    request: ApiRequest, given: Authentication, secret: str, moment: datetime, nonce: str
) -> dict[str, str]:
    """Return the headers that show whose a request is.

    Args:
        request: What is asked.
        given: How it is shown.
        secret: What the key file holds: a token; `USER:PASSWORD`; for HMAC the key, or `ID:KEY`.
        moment: Aware; the present one.
        nonce: Random text that no request had before.

    """
    match given.scheme:
        case "bearer":
            return {"Authorization": f"Bearer {secret}"}
        case "header":
            return {given.header: secret}
        case "basic":
            return {"Authorization": "Basic " + base64.b64encode(secret.encode("utf-8")).decode("ascii")}
    key_id, colon, key = secret.partition(":")
    parts = web_url(request.url)
    known = {
        "method": request.method,
        "host": parts.authority,
        "target": parts.target,
        "time": stamp(moment) if given.time == "rfc3339" else str(int(moment.timestamp())),
        "nonce": nonce,
        "body": request.body.decode("utf-8"),
        "body_digest": hashlib.new(given.digest, request.body).hexdigest(),
        "key_id": key_id if colon else "",
    }
    signed = hmac.digest((key if colon else key_id).encode("utf-8"), str(fill(given.message, known)).encode("utf-8"),
                         given.digest)  # fmt: skip
    known["signature"] = base64.b64encode(signed).decode("ascii") if given.encoding == "base64" else signed.hex()
    return {name: str(fill(text, known)) for name, text in given.headers.items()}


def secrets_in(secret: str) -> list[str]:
    """Return what must not be shown of a secret: the whole, the part behind a colon, and both in base64."""
    _, colon, behind = secret.partition(":")
    encoded = base64.b64encode(secret.encode("utf-8")).decode("ascii")
    return [each for each in (encoded, secret, behind if colon else "") if each]


def pick(document: Any, place: str) -> Any:
    """Return what is at a place of an answer (JSON pointer, RFC 6901); None where nothing is."""
    found = jsonpointer.resolve_pointer(document, place, _MISSING) if place else document
    return None if found is _MISSING else found


def texts_in(document: Any, place: str) -> str:
    """Return the text or number at a place of an answer; empty where neither is."""
    found = pick(document, place)
    return "" if isinstance(found, bool) or not isinstance(found, str | int | float) else str(found)


def is_same(kind: str, one: str, other: str) -> bool:
    """Tell whether two values of a type mean the same; both as zone files have them (RFC 1035 section 5.1)."""
    return one == other or (_canonical(kind, one) or one) == (_canonical(kind, other) or other)


def _canonical(kind: str, value: str) -> bytes | None:
    """Return a value as a message has it, a TXT record's pieces put together; None for one that cannot be read."""
    try:
        read = dns.rdata.from_text(dns.rdataclass.IN, dns.rdatatype.from_text(kind), value)
        strings = getattr(read, "strings", None)
        return b"".join(strings) if strings is not None else read.to_wire()
    except (dns.exception.DNSException, ValueError):
        return None
