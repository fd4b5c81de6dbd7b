"""nginx: its configuration read as text with positions, edited with the fewest bytes, tested and reloaded."""
