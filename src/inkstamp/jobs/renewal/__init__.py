"""Many certificates, unattended: batches, polling, rehearsals, the timer. Not how one is obtained."""
