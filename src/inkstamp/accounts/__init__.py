"""Accounts with ACME CAs (RFC 8555 section 7.3), and authorities.

Never orders, never servers.
"""
