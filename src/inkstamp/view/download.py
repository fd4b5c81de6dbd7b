"""Fetch a file over HTTP or HTTPS from wherever its name leads, bounded like every look outside."""

from urllib.parse import urlsplit

from inkstamp.errors import NetworkTrouble
from inkstamp.pki.names import as_address
from inkstamp.view.addresses import address_book
from inkstamp.view.point import View
from inkstamp.view.web import MOST_BODY, fetch


def download(url: str, view: View, limit: int = MOST_BODY) -> bytes:
    """Return the body at `url`, `limit` bytes at most, from the first address that gives it.

    The other side is not authenticated: what comes back must prove itself, as a certificate does by its signature.

    Raises:
        NetworkTrouble: No address gave it.

    """
    host = urlsplit(url).hostname or ""
    literal = as_address(host)
    found = None if literal else address_book(view).look_up(host)
    trouble = found.trouble if found else ""
    for address in found.all if found else (literal,):
        sight = fetch(url, address, view, limit)
        if sight.status == 200 and not sight.trouble:
            return sight.body
        trouble = sight.trouble or f"it answers {sight.status}"
    raise NetworkTrouble(f"cannot fetch {url}", where=url, said=trouble, advice="fetch it elsewhere and give the file")
