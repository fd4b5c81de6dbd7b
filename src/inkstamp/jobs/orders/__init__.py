"""ACME orders from newOrder to finalize (RFC 8555 section 7.4), retried and cancelled. Installs nothing."""

FACE = (
    "acme_order.Goal",
    "acme_order.Reached",
    "attempts.lead",
    "attempts.obtain",
    "cancellation.clear_ended",
    "cancellation.drop",
    "cancellation.expect_same",
    "cancellation.give_up",
    "context.OrdersContext",
    "name_subset.less_of",
    "name_subset.what_is_left_out",
)
"""What other rooms and the command line may import from here."""
