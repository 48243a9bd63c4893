"""Tansy: a small content system, its language runtime "loam", its packages, and the site of the Marrow Lane Seed
Library.

A program of its own. It is copied to a folder, packed and run from there; nothing of it is imported.
"""
