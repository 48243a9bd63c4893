"""Keen Harbor: ready a content-managed site for an upgrade, rehearse it, carry it out, and go back if need be."""

__version__ = "0.1.0"
