"""The kinds of server there are; a new kind is a line here."""

from inkstamp.config.model import Server
from inkstamp.reach.local import LocalHost
from inkstamp.servers.interface import ServerKind
from inkstamp.servers.nginx.server import NginxServer
from inkstamp.view.point import View


def make_server(name: str, entry: Server, view: View) -> ServerKind:
    """Make the server that a `[server.NAME]` table describes."""
    kinds = {"nginx": NginxServer}
    return kinds[entry.kind](
        name,
        LocalHost(),
        program=entry.program,
        main_file=entry.main_file,
        prefix=entry.prefix,
        http_port=view.http_port,
        https_port=view.https_port,
    )
