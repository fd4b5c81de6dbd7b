"""The configuration file: its data, how it is read, and how an entry is added."""
