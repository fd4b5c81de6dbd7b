"""A ledger that several machines share: made, moved into, looked after, and who they are. Knows no CA and no server."""

FACE = ()
"""What other rooms and the command line may import from here."""
