"""What every layer may use: errors, progress, durable writes, locks, processes, human-readable figures."""
