"""lighttpd: its configuration read as text with positions, changed with the fewest bytes."""
