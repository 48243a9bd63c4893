"""Looks at a site, and what differs between two: pages, checks, timings, files, data."""

from typing import TYPE_CHECKING

from keenharbor.base.lazily import offered

if TYPE_CHECKING:
    from keenharbor.compare.findings import Finding, Observation, Weight, group, severity, verdict_of
    from keenharbor.compare.look import Look, markup_of, take_look
    from keenharbor.compare.noise import Noise, learn_noise
    from keenharbor.compare.pages import compare_pages
    from keenharbor.compare.state import compare_files, compare_settings, compare_tables
    from keenharbor.compare.timing import Slower, slower_pages
    from keenharbor.compare.visitor import VisitError, Visitor
else:
    __getattr__ = offered(
        __name__,
        {
            "findings": "Finding Observation Weight group severity verdict_of",
            "look": "Look markup_of take_look",
            "noise": "Noise learn_noise",
            "pages": "compare_pages",
            "state": "compare_files compare_settings compare_tables",
            "timing": "Slower slower_pages",
            "visitor": "VisitError Visitor",
        },
    )

__all__ = [
    "Finding",
    "Look",
    "Noise",
    "Observation",
    "Slower",
    "VisitError",
    "Visitor",
    "Weight",
    "compare_files",
    "compare_pages",
    "compare_settings",
    "compare_tables",
    "group",
    "learn_noise",
    "markup_of",
    "severity",
    "slower_pages",
    "take_look",
    "verdict_of",
]
