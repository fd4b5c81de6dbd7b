"""Accounts with ACME CAs (RFC 8555 section 7.3), and authorities.

Never orders, never servers.
"""

FACE = (
    "account.AccountSession",
    "account.make_session",
    "account_keys.known_thumbprint",
    "authorities.Added",
    "authorities.add_authority",
    "authorities.caa_names",
    "authorities.list_authorities",
    "context.WithAccounts",
    "key_rollover.new_key",
    "maintenance.certificates_of",
    "maintenance.change_contact",
    "maintenance.retire",
    "maintenance.show_account",
    "pool.AccountPool",
)
"""What other rooms and the command line may import from here."""
