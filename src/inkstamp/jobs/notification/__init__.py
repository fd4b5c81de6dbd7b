"""What people and monitoring are told after a run. Decides nothing."""

FACE = (
    "messages.RunResult",
    "messages.report",
    "messages.send_test",
    "unreadable.keep_messengers",
    "unreadable.tell_unreadable",
)
"""What other rooms and the command line may import from here."""
