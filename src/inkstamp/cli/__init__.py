"""The command line: arguments in, text out. Decides nothing."""
