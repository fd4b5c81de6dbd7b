"""Ask a CA whether a certificate is revoked: its OCSP responder, or the CRL that would list it."""

import threading
from datetime import datetime
from urllib.parse import urlsplit

from cryptography import x509

from inkstamp.clock import Clock
from inkstamp.errors import InkStampError, NetworkTrouble
from inkstamp.pki.revocation import Status, crl_urls, look_up, ocsp_urls, open_crl, read_ocsp
from inkstamp.view.fetch import download
from inkstamp.view.point import View

_MOST_CRL = 33_554_432
"""Bytes; the CRLs of large CAs have a few million."""
_MOST_KEPT = 8


class NotAsked(InkStampError):
    """Nobody answered; `tried` tells whether there was somebody to ask."""

    tried = False


class RevocationStatus:
    """What CAs say of revocation; safe to share between threads.

    CRLs that were fetched are kept for the run: one serves all certificates of its issuer.
    """

    def __init__(self, view: View, clock: Clock) -> None:
        self._view = view
        self._clock = clock
        self._known: dict[tuple[str, x509.Certificate], x509.CertificateRevocationList] = {}
        self._lock = threading.Lock()

    def ask(self, leaf: x509.Certificate, issuer: x509.Certificate) -> Status:
        """Ask whether `leaf` is revoked by `issuer`: first by OCSP, whose answers are small, else by CRL.

        Raises:
            NotAsked: The certificate names nobody to ask, or nobody gave an answer that can be believed.

        """
        now = self._clock.now()
        said = []
        tried = False
        for url in ocsp_urls(leaf, issuer):
            tried = True
            try:
                return read_ocsp(download(url, self._view), leaf, issuer, now)
            except (NetworkTrouble, ValueError) as error:
                said.append(_told(url, error))
        for url in crl_urls(leaf):
            tried = True
            try:
                return look_up(self._crl(url, issuer, now), leaf)
            except (NetworkTrouble, ValueError) as error:
                said.append(_told(url, error))
        none = NotAsked("the revocation status is unknown", said="\n".join(said))
        none.tried = tried
        raise none

    def _crl(self, url: str, issuer: x509.Certificate, now: datetime) -> x509.CertificateRevocationList:
        """Return the CRL at `url`; NetworkTrouble or ValueError where there is none that `issuer` signed."""
        wanted = url, issuer  # another issuer's certificate may name the same place, and has to be told apart
        with self._lock:
            if wanted not in self._known:
                while len(self._known) >= _MOST_KEPT:
                    self._known.pop(next(iter(self._known)))
                self._known[wanted] = open_crl(download(url, self._view, _MOST_CRL), issuer, now)
            return self._known[wanted]


def _told(url: str, error: Exception) -> str:
    """Say who gave no answer, and why; an OCSP request's URL is long and says nothing to people."""
    return f"{urlsplit(url).netloc}: {error.said if isinstance(error, NetworkTrouble) else error}"
