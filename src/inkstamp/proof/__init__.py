"""What a proof of control is, and seeing it from outside."""
