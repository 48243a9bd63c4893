"""Second places for snapshots: what travels is sealed here, sent once, read back, and fetched with the key alone."""
