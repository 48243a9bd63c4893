"""What every form of settings file gives: values with the place at which they stand.

A key is the way to a value, parts divided by dots: ``section.key``, ``DATABASES.default.NAME``, ``$db.host``. A dot
within a part is written ``\\.``."""

from __future__ import annotations

import bisect
from collections.abc import Callable, Iterable
from dataclasses import dataclass

LARGEST_SETTINGS_FILE = 1024 * 1024
"""Larger files are not taken for settings: somebody may put gigabytes there to keep a reader busy."""
DEEPEST = 60
"""Values nested deeper are left alone."""


@dataclass(frozen=True)
class Setting:
    """One value. ``line`` counts from 1; ``start`` and ``end`` enclose what stands for it in the text (characters),
    where a new value can be written with ``write``; both are -1 where the value is put together from several places.

    ``kind`` is what the file says it is: a text, a number, true or false, nothing. One that stands ``inside`` a
    function is a value that code works with, and no setting of the site.
    """

    key: str
    value: str
    line: int
    start: int = -1
    end: int = -1
    kind: str = "text"
    write: Callable[[str], str] = str
    inside: bool = False


class SettingsError(ValueError):
    """A text that is not in the form that was tried; ``line`` counts from 1."""

    def __init__(self, message: str, line: int | None = None) -> None:
        super().__init__(message)
        self.line = line


def joined_key(parts: Iterable[str]) -> str:
    """A key from its parts."""
    return ".".join(p.replace("\\", "\\\\").replace(".", "\\.") for p in parts)


def key_parts(key: str) -> list[str]:
    """The parts of a key."""
    parts, current, escaped = [], "", False
    for c in key:
        if escaped:
            current, escaped = current + c, False
        elif c == "\\":
            escaped = True
        elif c == ".":
            parts.append(current)
            current = ""
        else:
            current += c
    return [*parts, current]


class Lines:
    """Tells the line of a place in a text."""

    def __init__(self, text: str) -> None:
        self._starts = [0]
        at = text.find("\n")
        while at >= 0:
            self._starts.append(at + 1)
            at = text.find("\n", at + 1)

    def of(self, offset: int) -> int:
        """The line (from 1) of the character at ``offset``."""
        return bisect.bisect_right(self._starts, offset)

    def offset(self, line: int, column: int) -> int:
        """The place of a line (from 1) and a column (from 0, in characters)."""
        return self._starts[line - 1] + column
