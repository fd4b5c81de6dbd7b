"""A Windows Server behind OpenSSH: small scripts for its PowerShell, a request and an answer each (docs/windows.md)."""
