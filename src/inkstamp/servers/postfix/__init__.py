"""Postfix: its parameters and services read as text with positions, changed with the fewest bytes."""
