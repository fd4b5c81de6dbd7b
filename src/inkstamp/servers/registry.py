"""The kinds of server there are; a new kind is a line here."""

import importlib
from typing import cast

from inkstamp.config.model import Server
from inkstamp.config.server_kinds import KINDS, WINDOWS
from inkstamp.errors import ConfigurationError
from inkstamp.reach.interface import Host
from inkstamp.servers.base import Fitting
from inkstamp.servers.interface import Configured, FileCarrier, Reloadable, ServerKind
from inkstamp.servers.tls_policy import TlsSettings, policies
from inkstamp.view.point import View


def make_host(entry: Server) -> Host:
    """Make what reaches the machine that a `[server.NAME]` table names."""
    if entry.kind in WINDOWS:
        from inkstamp.reach.windows.host import WindowsHost  # noqa: PLC0415  few have one

        return WindowsHost(entry.reach, config_file=entry.ssh_config)
    if entry.reach:
        from inkstamp.reach.ssh import SshHost  # noqa: PLC0415  most stay on this machine

        return SshHost(entry.reach, config_file=entry.ssh_config, sudo=entry.sudo)
    from inkstamp.reach.local import LocalHost  # noqa: PLC0415

    return LocalHost()


def make_server(name: str, entry: Server, view: View, host: Host | None = None) -> FileCarrier:
    """Make the server that a `[server.NAME]` table describes, on `host` or on the machine that it names."""
    host = host or make_host(entry)
    if entry.kind == "files":
        from inkstamp.servers.files_server import FilesServer  # noqa: PLC0415

        return FilesServer(name, host, entry)
    if entry.kind == "balancer":
        from inkstamp.servers.balancer import BalancerServer  # noqa: PLC0415

        return BalancerServer(name, host, entry)
    if entry.kind in WINDOWS:
        return _on_windows(name, entry, view, host)
    known = KINDS[entry.kind]
    fitting = Fitting(
        program=entry.program or known.programs[0],
        main_file=entry.main_file or known.main_files[0],
        prefix=entry.prefix,
        http_port=view.http_port,
        https_port=view.https_port,
        test=entry.test,
        reload=entry.reload,
        manner=_manner(entry),
        sudo=entry.sudo and not entry.reach,
    )
    module = importlib.import_module(f"inkstamp.servers.{entry.kind}.server")
    made: FileCarrier = getattr(module, f"{entry.kind.capitalize()}Server")(name, host, fitting)
    return made


def _on_windows(name: str, entry: Server, view: View, host: Host) -> FileCarrier:
    from inkstamp.reach.windows.host import WindowsHost  # noqa: PLC0415
    from inkstamp.servers.iis.server import IisServer  # noqa: PLC0415
    from inkstamp.servers.iis.service import WindowsService  # noqa: PLC0415

    windows = cast(WindowsHost, host)  # as `make_host` makes it for these kinds
    if entry.kind == "windows":
        return WindowsService(name, windows, entry)
    return IisServer(name, windows, entry, view.https_port)


def _manner(entry: Server) -> TlsSettings:
    usual = TlsSettings()
    return TlsSettings(
        policy=policies()[entry.tls] if entry.tls else usual.policy,
        http2=entry.http2,
        redirect=entry.redirect,
        hsts_days=entry.hsts_days,
        client_roots=entry.client_roots,
    )


def as_configured(server: FileCarrier) -> Configured:
    """Return a server whose configuration can open the challenge path; ConfigurationError for one of a kind without."""
    if isinstance(server, Configured):
        return server
    raise ConfigurationError(
        f"the configuration of “{server.name}” cannot open the challenge path: its kind serves no files, or is unknown",
        advice="change the web server that shows them, by hand if need be",
    )


def as_reloadable(server: FileCarrier) -> Reloadable:
    """Return a server that can be told to take what was changed; ConfigurationError for one of a kind without."""
    if isinstance(server, Reloadable):
        return server
    raise ConfigurationError(f"“{server.name}” cannot be reloaded", advice="do it by hand")


def as_installable(server: FileCarrier) -> ServerKind:
    """Return a server that certificates can be installed on; ConfigurationError for one of a kind without."""
    if isinstance(server, ServerKind):
        return server
    raise ConfigurationError(f"certificates cannot be installed on “{server.name}”", advice="take it out of `install`")
