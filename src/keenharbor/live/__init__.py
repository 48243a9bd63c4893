"""The only code that changes the live site: cutover, rollback, and settling what was interrupted."""
