"""Ask a CA whether an edition is revoked: its OCSP responder, or the CRL that would list it."""

import threading
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from cryptography import x509

from inkstamp.errors import InkStampError, NetworkTrouble
from inkstamp.ledger.records import EditionRecord
from inkstamp.pki.revocation import Status, crl_urls, look_up, ocsp_urls, open_crl, read_ocsp
from inkstamp.view.download import download

if TYPE_CHECKING:
    from datetime import datetime

    from inkstamp.jobs.workplace import Workplace
    from inkstamp.view.point import View

_MOST_CRL = 33_554_432
"""Bytes; the CRLs of large CAs have a few million."""
_MOST_KEPT = 8


class NotAsked(InkStampError):
    """Nobody answered; `tried` tells whether there was somebody to ask."""

    tried = False


class CrlShelf:
    """CRLs that were fetched in this run: one serves all certificates of its issuer."""

    def __init__(self, view: "View") -> None:
        self._view = view
        self._known: dict[tuple[str, x509.Certificate], x509.CertificateRevocationList] = {}
        self._lock = threading.Lock()

    def get(self, url: str, issuer: x509.Certificate, now: "datetime") -> x509.CertificateRevocationList:
        """Return the CRL at `url`; NetworkTrouble or ValueError where there is none that `issuer` signed."""
        wanted = url, issuer  # another issuer's certificate may name the same place, and has to be told apart
        with self._lock:
            if wanted not in self._known:
                while len(self._known) >= _MOST_KEPT:
                    self._known.pop(next(iter(self._known)))
                self._known[wanted] = open_crl(download(url, self._view, _MOST_CRL), issuer, now)
            return self._known[wanted]


def status_of(workplace: "Workplace", edition: EditionRecord) -> Status:
    """Ask whether an edition is revoked: first by OCSP, whose answers are small, else by CRL.

    Raises:
        NotAsked: The certificate names nobody to ask, or nobody gave an answer that can be believed.

    """
    try:
        leaf, *issuers = workplace.shelf.chain(edition.certificate, edition.number)
    except InkStampError as error:
        raise NotAsked(error.what, where=error.where) from error
    if not issuers:
        raise NotAsked(f"the issuer of edition {edition.number} is not known")
    return ask(workplace, leaf, issuers[0])


def ask(workplace: "Workplace", leaf: x509.Certificate, issuer: x509.Certificate) -> Status:
    """Ask whether `leaf` is revoked by `issuer`; raises as `status_of`."""
    now = workplace.clock.now()
    said = []
    tried = False
    for url in ocsp_urls(leaf, issuer):
        tried = True
        try:
            return read_ocsp(download(url, workplace.view), leaf, issuer, now)
        except (NetworkTrouble, ValueError) as error:
            said.append(_told(url, error))
    for url in crl_urls(leaf):
        tried = True
        try:
            return look_up(workplace.crls.get(url, issuer, now), leaf)
        except (NetworkTrouble, ValueError) as error:
            said.append(_told(url, error))
    none = NotAsked("the revocation status is unknown", said="\n".join(said))
    none.tried = tried
    raise none


def _told(url: str, error: Exception) -> str:
    """Say who gave no answer, and why; an OCSP request's URL is long and says nothing to people."""
    return f"{urlsplit(url).netloc}: {error.said if isinstance(error, NetworkTrouble) else error}"
