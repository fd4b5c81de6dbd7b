"""The kinds of server there are; a new kind is a line here."""

from inkstamp.config.model import Server
from inkstamp.errors import ConfigurationError
from inkstamp.reach.interface import Host
from inkstamp.servers.interface import Configured, FileCarrier, ServerKind
from inkstamp.view.point import View

_USUAL = {"nginx": ("nginx", "/etc/nginx/nginx.conf"), "apache": ("apache2ctl", "/etc/apache2/apache2.conf")}
"""By kind, the program and the main file when the configuration names none."""


def make_host(entry: Server) -> Host:
    """Make what reaches the machine that a `[server.NAME]` table names."""
    if entry.reach:
        from inkstamp.reach.ssh import SshHost  # noqa: PLC0415  most stay on this machine

        return SshHost(entry.reach, config_file=entry.ssh_config, sudo=entry.sudo)
    from inkstamp.reach.local import LocalHost  # noqa: PLC0415

    return LocalHost()


def make_server(name: str, entry: Server, view: View, host: Host | None = None) -> FileCarrier:
    """Make the server that a `[server.NAME]` table describes, on `host` or on the machine that it names."""
    host = host or make_host(entry)
    if entry.kind == "files":
        from inkstamp.servers.files import FilesServer  # noqa: PLC0415

        return FilesServer(name, host, root=entry.root)
    program, main_file = entry.program or _USUAL[entry.kind][0], entry.main_file or _USUAL[entry.kind][1]
    if entry.kind == "apache":
        from inkstamp.servers.apache.server import ApacheServer  # noqa: PLC0415

        return ApacheServer(name, host, program=program, main_file=main_file, prefix=entry.prefix,
                            http_port=view.http_port, https_port=view.https_port)  # fmt: skip
    from inkstamp.servers.nginx.server import NginxServer  # noqa: PLC0415

    return NginxServer(
        name,
        host,
        program=program,
        main_file=main_file,
        prefix=entry.prefix,
        http_port=view.http_port,
        https_port=view.https_port,
    )


def as_configured(server: FileCarrier) -> Configured | None:
    """Return a server whose configuration can be changed here, None for one of a kind without."""
    return server if isinstance(server, Configured) else None


def as_installable(server: FileCarrier) -> ServerKind:
    """Return a server that certificates can be installed on; ConfigurationError for one of a kind without."""
    if isinstance(server, ServerKind):
        return server
    raise ConfigurationError(
        f"nothing can be installed on “{server.name}” yet",
        advice="take it out of `install`, and carry the files of `inkstamp export` there",
    )
