"""When to renew, what to notify about, what comes: pure functions of dates and records."""
