"""Backups of a data directory and its configuration: written while runs are at work, and restored."""

FACE = (
    "creation.back_up",
    "encryption.Opening",
    "encryption.Protection",
    "restoration.read_contents",
    "restoration.restore",
)
"""What other rooms and the command line may import from here."""
