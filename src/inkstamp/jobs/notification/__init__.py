"""What people and monitoring are told after a run. Decides nothing."""

FACE = (
    "messages.RunResult",
    "messages.report",
    "messages.send_test",
)
"""What other rooms and the command line may import from here."""
