"""What the room needs of a run."""

from typing import Protocol

from inkstamp.accounts.context import WithAccounts
from inkstamp.jobs.issuance.context import IssuanceContext
from inkstamp.jobs.validation.context import ValidationContext


class OrdersContext(WithAccounts, ValidationContext, IssuanceContext, Protocol):
    """The parts of a run that ACME orders work with: those of validation and issuance, and the accounts."""
