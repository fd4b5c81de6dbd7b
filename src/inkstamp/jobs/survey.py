"""What there is: servers, their sites, and the certificate that each names."""

import os
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING, Literal

from inkstamp.clock import whole_days
from inkstamp.config.model import Server
from inkstamp.errors import EditionUnfit, FileTrouble, UsageError
from inkstamp.findings import Finding, bad, warn
from inkstamp.pki.certificates import Facts, facts, read_pem
from inkstamp.pki.chain import is_self_signed
from inkstamp.pki.names import uncovered
from inkstamp.reach.local import find_program
from inkstamp.renewal.when import renewal_moment
from inkstamp.servers.interface import Site
from inkstamp.view.point import View

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace

_USUAL: tuple[tuple[Literal["nginx", "apache"], tuple[str, ...], tuple[str, ...]], ...] = (
    (
        "nginx",
        ("nginx",),
        ("/etc/nginx/nginx.conf", "/usr/local/etc/nginx/nginx.conf", "/usr/local/nginx/conf/nginx.conf"),
    ),
    (
        "apache",
        ("apache2ctl", "apachectl", "httpd"),
        ("/etc/apache2/apache2.conf", "/etc/httpd/conf/httpd.conf", "/usr/local/etc/apache24/httpd.conf"),
    ),
)
"""By kind, its programs and main files in the places of the distributions; the first that is found counts."""


@dataclass(frozen=True, slots=True, kw_only=True)
class SiteReport:
    """A site, the certificate in its file, and what is wrong."""

    site: Site
    certificate: Facts | None
    days_left: int | None
    """Whole days; negative when it has expired."""
    findings: tuple[Finding, ...]


def discover(workplace: "Workplace") -> tuple[str, Server]:
    """Find an nginx, or an Apache httpd, in its usual places on this machine; returns a name and an entry for it.

    Raises:
        UsageError: There is none.

    """
    for kind, programs, files in _USUAL:
        program = next(filter(None, map(find_program, programs)), None)
        main_file = next(filter(os.path.isfile, files), None)
        if program is not None and main_file is not None:
            return kind, Server(kind=kind, program=program, main_file=main_file)
    raise UsageError(
        "no server is configured, and neither nginx nor Apache httpd is found on this machine",
        where=str(workplace.config_file),
        advice='add a table [server.NAME] with kind = "nginx" or "apache" and its main_file',
    )


def survey(workplace: "Workplace") -> list[SiteReport]:
    """Read all configured servers, or the one found here when none is configured.

    Raises:
        UsageError: There is no server to read.
        ServerTrouble: A configuration cannot be read.

    """
    config = workplace.config_or_empty()
    if config.server:
        servers = [workplace.server(name) for name in config.server]
    else:
        from inkstamp.servers.registry import make_server

        servers = [make_server(*discover(workplace), View())]
    now = workplace.clock.now()
    return [_report(site, server.host.read, now) for server in servers for site in server.sites()]


def _report(site: Site, read_file: Callable[[str], bytes], now: datetime) -> SiteReport:
    subject = site.names[0] if site.names else f"{site.file}:{site.line}"
    if not site.tls:
        plain = _plain(site)
        no_tls = [warn("tls", subject, "has no TLS", f"inkstamp stamp {' '.join(plain)}")] if plain else []
        return SiteReport(site=site, certificate=None, days_left=None, findings=tuple(no_tls))
    if not site.certificate_file:
        finding = bad("certificate", subject, "listens with TLS and names no certificate file that can be read")
        return SiteReport(site=site, certificate=None, days_left=None, findings=(finding,))
    try:
        leaf = read_pem(read_file(site.certificate_file), site.certificate_file)[0]
    except (FileTrouble, EditionUnfit) as error:
        finding = bad("certificate", subject, error.what, error.advice)
        return SiteReport(site=site, certificate=None, days_left=None, findings=(finding,))
    known = facts(leaf)
    days = whole_days(known.not_after, now)
    findings = []
    renew = f"inkstamp stamp {' '.join(_plain(site)) or subject}"
    if now > known.not_after:
        findings.append(bad("dates", subject, f"its certificate expired {-days} days ago", renew))
    elif now >= renewal_moment(known.not_before, known.not_after):
        findings.append(warn("dates", subject, f"its certificate has {days} days left", renew))
    if is_self_signed(leaf):
        findings.append(warn("trust", subject, "its certificate vouches for itself: browsers refuse it", renew))
    missing = uncovered(known.names, _plain(site))
    if missing:
        findings.append(bad("names", subject, f"its certificate does not cover {', '.join(missing)}"))
    return SiteReport(site=site, certificate=known, days_left=days, findings=tuple(findings))


def _plain(site: Site) -> tuple[str, ...]:
    """Return the site's names that are names, without wildcards, regular expressions and the catch-all."""
    return tuple(name for name in site.names if "." in name.strip(".") and not set(name) & set("*~^$_ "))
