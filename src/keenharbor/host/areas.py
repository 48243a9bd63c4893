"""What a path is for. Every path has one area; the first rule that fits decides."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from functools import lru_cache

AREAS = ("core", "extensions", "themes", "media", "settings", "cache", "logs", "other")


def pattern_to_regex(pattern: str) -> str:
    """A path pattern as a regular expression for the whole path.

    ``*`` stands for anything within one name, ``**`` for any number of folders, ``?`` for one character. A
    pattern without wild cards also covers everything below it.
    """
    out: list[str] = []
    i = 0
    while i < len(pattern):
        if pattern.startswith("**/", i):
            out.append("(?:.*/)?")
            i += 3
        elif pattern.startswith("**", i):
            out.append(".*")
            i += 2
        elif pattern[i] == "*":
            out.append("[^/]*")
            i += 1
        elif pattern[i] == "?":
            out.append("[^/]")
            i += 1
        else:
            out.append(re.escape(pattern[i]))
            i += 1
    return "".join(out) + ("" if "**" in pattern else "(?:/.*)?")


@lru_cache(maxsize=256)
def matcher(patterns: tuple[str, ...]) -> re.Pattern[str]:
    """One expression that fits a path when any of the ``patterns`` does."""
    return re.compile("|".join(f"(?:{pattern_to_regex(p.strip('/'))})" for p in patterns) or r"(?!)", re.DOTALL)


def fits(path: str, patterns: Sequence[str]) -> bool:
    """Whether ``path`` (relative, with ``/``) fits any of the patterns."""
    return bool(patterns) and matcher(tuple(patterns)).fullmatch(path) is not None


class AreaRules:
    """Gives each path its area from ``{area: patterns}``; areas are asked in the order of `AREAS` reversed for
    ``cache``, ``logs``, ``settings`` (the narrow ones) before the broad ones."""

    _ORDER = ("cache", "logs", "settings", "media", "extensions", "themes", "core")

    def __init__(self, patterns: Mapping[str, Sequence[str]]) -> None:
        self.patterns = {area: [*of_area] for area, of_area in patterns.items()}
        self._rules = [(area, matcher(tuple(patterns[area]))) for area in self._ORDER if patterns.get(area)]

    def area_of(self, path: str) -> str:
        """The area of ``path``; ``other`` when no rule fits."""
        for area, rule in self._rules:
            if rule.fullmatch(path):
                return area
        return "other"
