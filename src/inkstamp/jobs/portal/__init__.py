"""Orders at a CA's web portal: the CSR shown, domain control validation, delivered files. Speaks no ACME."""

FACE = (
    "context.PortalContext",
    "dcv.MailChoice",
    "dcv.PortalInput",
    "dcv.Proven",
    "dcv.mail_choices",
    "dcv.prove",
    "delivery.Bring",
    "delivery.Received",
    "delivery.receive",
    "delivery_report.Piece",
    "delivery_report.Way",
    "order.PortalOrder",
    "order.expect_same_csr",
    "order.open_order",
    "order.wait_for_person",
    "order.waiting_order",
    "waiting.wait_at_step",
)
"""What other rooms and the command line may import from here."""
