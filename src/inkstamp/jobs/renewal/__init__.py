"""Many certificates, unattended: batches, polling, rehearsals, the timer. Not how one is obtained."""

FACE = (
    "daemon.keep_running",
    "rehearsal.Rehearsed",
    "rehearsal.rehearse",
    "run.Renewed",
    "run.Sweep",
    "run.renew",
    "timer",
    "timer.Schedule",
)
"""What other rooms and the command line may import from here."""
