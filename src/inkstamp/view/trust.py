"""The roots that chains are believed by."""

import threading
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.errors import ConfigurationError
from inkstamp.view.point import load_roots

if TYPE_CHECKING:
    from cryptography.x509 import Certificate


class TrustStore:
    """The roots that the public trusts, read when they are first needed; safe to share between threads."""

    def __init__(self, file: Path | None, own: Callable[[str], str] = lambda _authority: "") -> None:
        """Make it of the file with the public's roots, and of what tells the file with an authority's own ones."""
        self._file = file
        self._own = own
        self._reading = threading.Lock()
        self._roots: list[Certificate] | None = None
        self._private: dict[str, list[Certificate]] = {}
        self.trusts_any_root = False
        """Whether a chain is believed whatever it leads to: a staging CA's root is seldom known."""

    @property
    def roots(self) -> "list[Certificate]":
        """The roots in the file that was named, or those of this machine; ConfigurationError when there are none."""
        with self._reading:
            if self._roots is None:
                self._roots = load_roots(self._file)
            return self._roots

    def private(self, authority: str) -> "list[Certificate]":
        """Return the roots that an authority has of its own; none where it is a public CA."""
        file = self._own(authority)
        if not file:
            return []
        with self._reading:
            if file not in self._private:
                try:
                    self._private[file] = load_roots(Path(file))
                except ConfigurationError as error:
                    raise error.amended(
                        advice=f"put a PEM file with its roots there, or correct `roots` in [authority.{authority}]"
                    ) from error
            return self._private[file]

    def private_if_any(self, authorities: Iterable[str]) -> "list[Certificate]":
        """Return the roots that authorities have of their own, as far as they can be read: for what is only told."""
        found = []
        for each in authorities:
            with suppress(ConfigurationError):
                found += self.private(each)
        return found

    def of(self, authority: str) -> "list[Certificate]":
        """Return the roots that certificates of an authority may lead to: the public's, and those of its own."""
        own = self.private(authority)
        return [*own, *self.roots_if_any] if own else self.roots

    def use(self, roots: "Sequence[Certificate]") -> None:
        """Go on with other roots."""
        with self._reading:
            self._roots = list(roots)

    def roots_for(self, chain: "Sequence[Certificate]", authority: str) -> "list[Certificate]":
        """Return the roots that a chain which an authority sent may lead to."""
        return [*self.roots, chain[-1]] if self.trusts_any_root else self.of(authority)

    @property
    def roots_if_any(self) -> "list[Certificate]":
        """The roots, none where the machine has none: for what is only told."""
        try:
            return self.roots
        except ConfigurationError:
            return []
