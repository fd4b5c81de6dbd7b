"""Recipes: how the HTTP API of a DNS provider is spoken to, as data (docs/recipes.md). Nothing in one is executed.

Places in answers are JSON pointers (RFC 6901), URLs are URI templates (RFC 6570).
"""

import re
from typing import Any, Literal

import msgspec

PLACEHOLDER = re.compile(r"\{([a-z][a-z0-9_]*)\}")
"""In JSON, forms, headers and texts to be signed."""


class RecipeTable(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Base of all tables of a recipe."""


class RequestTemplate(RecipeTable, frozen=True):
    """A request, with placeholders for what it is about."""

    url: str
    """A URI template (RFC 6570): below the API's address where it begins with a slash."""
    method: Literal["GET", "POST", "PUT", "PATCH", "DELETE"] = "GET"
    json: Any = None
    """The body as JSON, with placeholders in its strings; a string that is one placeholder alone becomes its value."""
    form: dict[str, str] = msgspec.field(default_factory=dict)
    """The body as an HTML form would be sent, in the place of JSON."""
    headers: dict[str, str] = msgspec.field(default_factory=dict)
    also_done: tuple[int, ...] = ()
    """Statuses beside 2xx that mean that there was nothing to do."""


class ZoneLookup(RequestTemplate, frozen=True):
    """`[zone]`: how the API's own identifier of a zone is found."""

    items: str = ""
    """Where the list of zones is in the answer."""
    name: str = "/name"
    """Where a zone's domain is in one of them."""
    id: str = "/id"


class RecordListing(RequestTemplate, frozen=True):
    """`[records]`: how it is found what is at a name."""

    items: str = ""
    """Where the list of records, or of record sets, is in the answer."""
    name: str = "/name"
    type: str = "/type"
    values: str = ""
    """Where a set has the list of its values; empty where each item is one record."""
    value: str = "/value"
    """Where the text of a value is, in an item or in one of its `values`; empty where that is the text itself."""
    id: str = ""
    ttl: str = ""
    rdata: bool = False
    """Whether values are told as zone files have them, in the place of the text itself."""
    names: Literal["absolute", "relative"] = "absolute"
    """Whether names are told in full, or below the zone."""


class Replacement(RequestTemplate, frozen=True):
    """`[replace]`: how a whole record set is written, where an API knows no single values."""

    value: Any = "{rdata}"
    """How one value is written in `{values}`."""
    keep: bool = False
    """Whether values that are there are written as they were told, in the place of being written anew."""


class ChangeStatus(RequestTemplate, frozen=True, kw_only=True):
    """`[pending]`: how it is seen whether a change was made, where an API answers before that."""

    id: str
    """Where the change's identifier, or its URL, is in the answer to the change."""
    state: str
    done: tuple[str, ...]
    failed: tuple[str, ...] = ()
    pause: float = 2.0
    """Seconds between two looks."""


class Pages(RecipeTable, frozen=True):
    """`[pages]`: how long lists go on."""

    kind: Literal["url", "token", "number"]
    """Whether `next` holds a URL or what `{page}` stands for; or pages have numbers and end with an empty one."""
    next: str = ""


class Failure(RecipeTable, frozen=True):
    """`[error]`: what an error looks like."""

    message: str = "/error"
    code: str = ""
    unless: dict[str, str] = msgspec.field(default_factory=dict)
    """By place, what every answer to a request that was carried out holds, where the status does not tell."""


class RateLimit(RecipeTable, frozen=True):
    """`[limit]`: what “too many requests” looks like. Retry-After (RFC 9110 section 10.2.3) counts as well."""

    status: tuple[int, ...] = (429,)
    codes: tuple[str, ...] = ()
    """Values at `code` of `[error]`."""
    wait: str = ""
    """Where the seconds to wait are in the answer."""


class Authentication(RecipeTable, frozen=True):
    """`[authentication]`: how a request shows whose it is."""

    scheme: Literal["bearer", "header", "basic", "hmac"]
    header: str = "Authorization"
    """`header`: which one holds the secret."""
    headers: dict[str, str] = msgspec.field(default_factory=dict)
    """`hmac`: what is sent, with `{signature}` in it."""
    message: str = ""
    """`hmac`: what is signed."""
    digest: Literal["sha256", "sha384", "sha512", "sha1"] = "sha256"
    encoding: Literal["hex", "base64"] = "hex"
    """How the signature is written."""
    time: Literal["unix", "rfc3339"] = "unix"
    """How `{time}` is written."""


class Recipe(RecipeTable, frozen=True):
    """One API."""

    authentication: Authentication
    description: str = ""
    address: str = ""
    """URL that all paths are below, unless the nameserver's table has one."""
    hosts: tuple[str, ...] = ()
    """Further hosts that URLs may lead to."""
    settings: dict[str, str] = msgspec.field(default_factory=dict)
    """What the nameserver's table may set, with what counts otherwise; empty for what it has to set."""
    zone: ZoneLookup | None = None
    records: RecordListing | None = None
    add: RequestTemplate | None = None
    remove: RequestTemplate | None = None
    replace: Replacement | None = None
    clear: RequestTemplate | None = None
    """How a record set is taken out whole; without it an empty one is written."""
    publish: RequestTemplate | None = None
    """What has to be asked once a zone's records are changed."""
    pending: ChangeStatus | None = None
    pages: Pages | None = None
    error: Failure = Failure()
    limit: RateLimit = RateLimit()
