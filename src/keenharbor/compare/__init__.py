"""Looks at a site, and what differs between two: pages, checks, timings, files, data."""

from keenharbor.compare.findings import Finding, Observation, Weight, group, verdict_of
from keenharbor.compare.look import Look, Visitor, take_look
from keenharbor.compare.noise import Noise, learn_noise
from keenharbor.compare.pages import compare_pages
from keenharbor.compare.state import compare_files, compare_settings, compare_tables
from keenharbor.compare.timing import Slower, slower_pages

__all__ = [
    "Finding",
    "Look",
    "Noise",
    "Observation",
    "Slower",
    "Visitor",
    "Weight",
    "compare_files",
    "compare_pages",
    "compare_settings",
    "compare_tables",
    "group",
    "learn_noise",
    "slower_pages",
    "take_look",
    "verdict_of",
]
