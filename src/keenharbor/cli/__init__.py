"""The command line: parses, calls, shows. No decision is taken here."""
