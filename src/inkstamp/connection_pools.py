"""HTTP by connections that are kept for the next request, through a proxy or not: urllib3 on bounded sockets."""

import socket
import ssl
from typing import Any

import urllib3
from urllib3.connection import HTTPConnection, HTTPSConnection
from urllib3.connectionpool import HTTPConnectionPool, HTTPSConnectionPool
from urllib3.exceptions import ConnectTimeoutError, NameResolutionError, NewConnectionError

from inkstamp.transport import BoundedSocket, bounded, connect


def _open(connection: HTTPConnection) -> BoundedSocket:
    """Open the connection of the HTTP library, with the errors that it has for that."""
    timeout = connection.timeout
    seconds = float(timeout) if isinstance(timeout, int | float) else None
    try:
        return connect(connection.host, connection.port, seconds)
    except socket.gaierror as error:
        raise NameResolutionError(connection.host, connection, error) from error
    except TimeoutError as error:
        raise ConnectTimeoutError(connection, f"no connection to {connection.host} in time") from error
    except OSError as error:
        raise NewConnectionError(connection, f"no connection: {error}") from error


class _KeptHttp(HTTPConnection):
    def _new_conn(self) -> socket.socket:
        return _open(self)


class _KeptHttps(HTTPSConnection):
    def _new_conn(self) -> socket.socket:
        return _open(self)


class _HttpPool(HTTPConnectionPool):
    """Connections to one HTTP server."""

    ConnectionCls = _KeptHttp


class _HttpsPool(HTTPSConnectionPool):
    """Connections to one HTTPS server; its TLS context must be one that is `bounded`."""

    ConnectionCls = _KeptHttps


def pool_manager(context: ssl.SSLContext, proxy: str | None = None, **options: Any) -> urllib3.PoolManager:
    """Make a pool manager for HTTPS, through a proxy where one is given; options are the library's."""
    options |= {"ssl_context": bounded(context), "retries": False}
    made = urllib3.ProxyManager(proxy, **options) if proxy else urllib3.PoolManager(**options)
    made.pool_classes_by_scheme = {"http": _HttpPool, "https": _HttpsPool}
    return made
