"""When to renew: pure decisions."""
