"""From key and CSR to a verified edition on the shelf. Knows no servers and no challenges."""
