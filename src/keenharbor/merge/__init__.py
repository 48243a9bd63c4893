"""Merging database states, three ways."""
