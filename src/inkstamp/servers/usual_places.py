"""Servers that are in their usual places on this machine."""

import os
from itertools import count
from typing import Literal

from inkstamp.config.model import Configuration, Server
from inkstamp.reach.local import find_program
from inkstamp.servers.registry import usual_main_file

_Kind = Literal["nginx", "apache", "haproxy", "lighttpd", "postfix", "dovecot"]
_USUAL: tuple[tuple[_Kind, tuple[str, ...], tuple[str, ...]], ...] = (
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
    ("haproxy", ("haproxy",), ("/etc/haproxy/haproxy.cfg", "/usr/local/etc/haproxy.conf")),
    ("lighttpd", ("lighttpd",), ("/etc/lighttpd/lighttpd.conf", "/usr/local/etc/lighttpd/lighttpd.conf")),
    ("postfix", ("postfix",), ("/etc/postfix/main.cf", "/usr/local/etc/postfix/main.cf")),
    ("dovecot", ("dovecot",), ("/etc/dovecot/dovecot.conf", "/usr/local/etc/dovecot/dovecot.conf")),
)
"""By kind, its programs and main files in the places of the distributions; the first that is found counts."""


def found_beside(config: Configuration) -> dict[str, Server]:
    """Return an entry for each server in its usual place on this machine that is not configured yet, by a name."""
    known = {
        (each.kind, each.main_file or usual_main_file(each.kind)) for each in config.server.values() if not each.reach
    }
    found: dict[str, Server] = {}
    for kind, programs, files in _USUAL:
        program = next(filter(None, map(find_program, programs)), None)
        main_file = next(filter(os.path.isfile, files), None)
        if program is None or main_file is None or (kind, main_file) in known:
            continue
        taken = {*config.server, *config.program, *config.nameserver}
        name = kind if kind not in taken else next(n for i in count(2) if (n := f"{kind}-{i}") not in taken)
        found[name] = Server(kind=kind, program=program, main_file=main_file)
    return found
