"""Where files of HOME are kept besides HOME, and that there may be nothing besides."""

from collections.abc import Sequence
from typing import Protocol

from inkstamp.errors import UsageError


class FileStore(Protocol):
    """Where files of HOME are besides; every method raises LedgerTrouble where the database cannot be used."""

    @property
    def is_shared(self) -> bool:
        """Whether other machines have the same files."""
        ...

    def keep_order(self, certificate: str, order_id: int) -> None:
        """Store what is here of an order that is under way."""
        ...

    def bring_order(self, certificate: str, order_id: int) -> None:
        """Have the files of an order that is under way here, where they are stored."""
        ...

    def strike_out_order(self, certificate: str, order_id: int) -> None:
        """Store no more of an order, inside the transaction that ends it."""
        ...

    def keep_edition(self, certificate: str, number: int) -> None:
        """Store an edition's files."""
        ...

    def drop_edition(self, certificate: str, number: int) -> None:
        """Store no more of an edition."""
        ...

    def bring_edition(self, certificate: str, number: int) -> None:
        """Have an edition's files here, where they are stored."""
        ...

    def keep_brought(self, certificate: str) -> None:
        """Store what was brought for the next order of a certificate as it is here, or that it is here no longer."""
        ...

    def keep_account_key(self, authority: str) -> None:
        """Store the keys of an account as they are here, that of a key rollover too, or that one is here no longer."""
        ...

    def expect_keys(self, certificates: Sequence[str]) -> None:
        """Find out about the keys of editions of many certificates at once, for `has_key`."""
        ...

    def has_key(self, certificate: str, number: int) -> bool:
        """Tell whether an edition's key is stored."""
        ...

    def numbers(self, certificate: str) -> list[int]:
        """Return the editions of a certificate that are stored."""
        ...


def expect_own(store: FileStore, what: str, advice: str) -> None:
    """Raise UsageError for what is not done where machines share the ledger."""
    if store.is_shared:
        raise UsageError(f"{what} where machines share the ledger", where="[ledger]", advice=advice)


class OwnFiles:
    """A `FileStore` where HOME is all there is."""

    is_shared = False

    def keep_order(self, certificate: str, order_id: int) -> None:
        pass

    def bring_order(self, certificate: str, order_id: int) -> None:
        pass

    def strike_out_order(self, certificate: str, order_id: int) -> None:
        pass

    def keep_edition(self, certificate: str, number: int) -> None:
        pass

    def drop_edition(self, certificate: str, number: int) -> None:
        pass

    def bring_edition(self, certificate: str, number: int) -> None:
        pass

    def keep_brought(self, certificate: str) -> None:
        pass

    def keep_account_key(self, authority: str) -> None:
        pass

    def expect_keys(self, certificates: Sequence[str]) -> None:
        pass

    def has_key(self, certificate: str, number: int) -> bool:  # noqa: ARG002  none is elsewhere
        return False

    def numbers(self, certificate: str) -> list[int]:  # noqa: ARG002  none is elsewhere
        return []
