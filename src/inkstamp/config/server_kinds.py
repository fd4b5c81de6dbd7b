"""What is known of each kind of server before one is looked at: the one list of kinds."""

from collections.abc import Mapping
from typing import Literal

from msgspec import Struct

ServerKindName = Literal[
    "nginx", "apache", "haproxy", "lighttpd", "postfix", "dovecot", "iis", "windows", "balancer", "files"
]
"""What `kind` in a `[server.NAME]` table may be; `files` is any server of which nothing is known but its files."""


WINDOWS: tuple[ServerKindName, ...] = ("iis", "windows")
"""Kinds of which the machine is a Windows Server."""


class ServerFacts(Struct, frozen=True, kw_only=True):
    """A kind of server."""

    programs: tuple[str, ...] = ()
    """Its program's names, the usual one first; empty for a kind without a configuration that is text."""
    main_files: tuple[str, ...] = ()
    """Its main file in the places of the distributions, the usual one first."""
    state_folders: tuple[str, ...] = ()
    """Where its own programs open logs, locks and caches when they test and reload."""
    takes_tls_settings: bool = False
    """Whether sites that had no TLS can be given a policy, redirects and the like."""
    answers_from_files: bool = False
    """Whether it answers a path with a file of a document root that its configuration names."""
    answers_challenges: bool = False
    """Whether it can answer every challenge for an account by its configuration (`prove --standing`)."""
    reads_encrypted_keys: bool = False
    """Whether it starts with an encrypted key without a person who types the passphrase."""
    takes_passphrase_alone: bool = False
    """Whether all bytes of the file are the passphrase to it, where others read one a line."""
    serves_mail: bool = False
    """Whether certificates of it are, or may be, served by SMTP, IMAP or POP3."""

    @property
    def is_text(self) -> bool:
        """Whether its configuration is read and edited as text."""
        return bool(self.main_files)


KINDS: Mapping[ServerKindName, ServerFacts] = {
    "nginx": ServerFacts(
        programs=("nginx",),
        main_files=("/etc/nginx/nginx.conf", "/usr/local/etc/nginx/nginx.conf", "/usr/local/nginx/conf/nginx.conf"),
        state_folders=("/var/log/nginx", "/var/lib/nginx", "/var/cache/nginx"),
        takes_tls_settings=True,
        answers_from_files=True,
        answers_challenges=True,
        reads_encrypted_keys=True,
    ),
    "apache": ServerFacts(
        programs=("apache2ctl", "apachectl", "httpd"),
        main_files=("/etc/apache2/apache2.conf", "/etc/httpd/conf/httpd.conf", "/usr/local/etc/apache24/httpd.conf"),
        state_folders=("/var/log/apache2", "/var/log/httpd", "/var/lib/apache2", "/var/cache/apache2"),
        takes_tls_settings=True,
        answers_from_files=True,
        answers_challenges=True,
        reads_encrypted_keys=True,
    ),
    "haproxy": ServerFacts(
        programs=("haproxy",),
        main_files=("/etc/haproxy/haproxy.cfg", "/usr/local/etc/haproxy.conf"),
        state_folders=("/var/lib/haproxy",),
        takes_tls_settings=True,
        answers_challenges=True,
    ),
    "lighttpd": ServerFacts(
        programs=("lighttpd",),
        main_files=("/etc/lighttpd/lighttpd.conf", "/usr/local/etc/lighttpd/lighttpd.conf"),
        state_folders=("/var/log/lighttpd", "/var/lib/lighttpd", "/var/cache/lighttpd"),
        answers_from_files=True,
    ),
    "postfix": ServerFacts(
        programs=("postfix",),
        main_files=("/etc/postfix/main.cf", "/usr/local/etc/postfix/main.cf"),
        state_folders=("/var/lib/postfix", "/var/spool/postfix"),
        serves_mail=True,
    ),
    "dovecot": ServerFacts(
        programs=("dovecot",),
        main_files=("/etc/dovecot/dovecot.conf", "/usr/local/etc/dovecot/dovecot.conf"),
        state_folders=("/var/lib/dovecot",),
        takes_passphrase_alone=True,
        serves_mail=True,
        reads_encrypted_keys=True,
    ),
    "iis": ServerFacts(answers_from_files=True),
    "windows": ServerFacts(serves_mail=True),
    "balancer": ServerFacts(serves_mail=True),
    "files": ServerFacts(
        state_folders=("/var/log", "/var/lib", "/var/cache", "/var/spool"),
        serves_mail=True,
        reads_encrypted_keys=True,
    ),
}
