"""What changes records in DNS, as configured."""

from typing import Literal

from inkstamp.config.section import Section


class Nameserver(Section, frozen=True):
    """`[nameserver.NAME]`: what takes changes of records in DNS."""

    kind: Literal["update", "powerdns", "http"] = "update"
    """`update`: a primary that takes dynamic updates (RFC 2136); `powerdns`: one with PowerDNS's HTTP API; `http`: any
    other HTTP API, by a recipe."""
    address: str = ""
    """`update`: its address or host name, with a port if it is not 53; empty for the one that the zone's SOA names.
    `powerdns` and `http`: URL of the API."""
    key_file: str = ""
    """File with the TSIG key, empty for updates that are not signed; or with the key of the API."""
    recipe: str = ""
    """`http`: one of those that Ink Stamp brings, or a file (docs/recipes.md)."""
    settings: dict[str, str] | None = None
    """`http`: what the recipe leaves to be set."""
    trust: str = ""
    """`powerdns` and `http`: PEM file with the roots of the API's own certificate; empty for the system's."""
    server_id: str = "localhost"
    """`powerdns`: the name of the server in the API."""
    seconds: float = 120.0
    """How long to wait until every nameserver of the zone has a record."""


class Program(Section, frozen=True):
    """`[program.NAME]`: a program of the user's own that puts records into DNS, or takes certificates."""

    command: tuple[str, ...]
    """The program and its arguments."""
    seconds: float = 120.0
    """How long it may take, and how long to wait until every nameserver of the zone has a record."""
