"""Orders at a CA's web portal: the CSR shown, domain control validation, delivered files. Speaks no ACME."""
