"""Seeing as the public does: DNS, HTTP and TLS from outside."""
