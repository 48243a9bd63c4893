"""Plans, their steps, and the rehearsal of a plan on a clone."""
