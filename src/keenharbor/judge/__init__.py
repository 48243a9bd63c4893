"""Readiness: one inquiry, a list of checks, versions solved together."""
