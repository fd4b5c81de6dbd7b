"""Durable state: what was asked, answered, issued and installed."""
