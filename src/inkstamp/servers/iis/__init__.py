"""IIS on a Windows Server behind OpenSSH: sites, bindings and certificate stores (docs/windows.md)."""
