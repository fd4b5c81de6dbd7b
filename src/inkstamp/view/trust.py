"""The roots that chains are believed by."""

import threading
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.errors import ConfigurationError
from inkstamp.view.point import load_roots

if TYPE_CHECKING:
    from cryptography.x509 import Certificate


class TrustStore:
    """The roots that the public trusts, read when they are first needed; safe to share between threads."""

    def __init__(self, file: Path | None) -> None:
        self._file = file
        self._reading = threading.Lock()
        self._roots: list[Certificate] | None = None
        self.trusts_any_root = False
        """Whether a chain is believed whatever it leads to: a staging CA's root is seldom known."""

    @property
    def roots(self) -> "list[Certificate]":
        """The roots in the file that was named, or those of this machine; ConfigurationError when there are none."""
        with self._reading:
            if self._roots is None:
                self._roots = load_roots(self._file)
            return self._roots

    def use(self, roots: "Sequence[Certificate]") -> None:
        """Go on with other roots."""
        with self._reading:
            self._roots = list(roots)

    def roots_for(self, chain: "Sequence[Certificate]") -> "list[Certificate]":
        """Return the roots that a chain which a CA sent may lead to."""
        return [*self.roots, chain[-1]] if self.trusts_any_root else self.roots

    @property
    def roots_if_any(self) -> "list[Certificate]":
        """The roots, none where the machine has none: for what is only told."""
        try:
            return self.roots
        except ConfigurationError:
            return []
