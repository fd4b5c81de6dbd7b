"""HAProxy."""
