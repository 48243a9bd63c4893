"""What a table's definition comes to: its columns and constraints, however they are written and ordered.

The text of a definition is the engine's own (SQLite keeps what was typed). Only what the standard's grammar of ``CREATE
TABLE`` (ISO/IEC 9075-2, 11.3) says of the list of elements is relied on: elements between commas, in parentheses."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

_CONSTRAINT = re.compile(
    r"(?i)^(constraint|primary\s+key|unique|key|index|fulltext|spatial|foreign\s+key|check|exclude|period|like)\b"
)
_NAMED = re.compile(r"(?i)^constraint\s+(\"[^\"]*\"|`[^`]*`|\S+)\s+")
_INDEX_NAME = re.compile(r"(?i)^((?:unique |fulltext |spatial )?(?:key|index)) \S+?(?=\()")
_NAME = re.compile(r"^(\"[^\"]*\"|`[^`]*`|\[[^\]]*\]|[\w$]+)\s*(.*)$", re.DOTALL)
_QUOTES = str.maketrans("", "", '"`[]')


@dataclass(frozen=True)
class Makeup:
    """Columns with all that is said of each, in small letters; constraints without the names that a program drew."""

    columns: dict[str, str]
    constraints: frozenset[str]


def makeup_of(ddl: str) -> Makeup:
    """The make-up that a ``CREATE TABLE`` gives."""
    columns: dict[str, str] = {}
    constraints: set[str] = set()
    for element in elements_of(ddl):
        if _CONSTRAINT.match(element):
            constraints.add(_INDEX_NAME.sub(r"\1", plain(_NAMED.sub("", element))))
        elif (named := _NAME.match(element)) is not None:
            columns[named[1].translate(_QUOTES)] = plain(named[2])
    return Makeup(columns, frozenset(constraints))


def type_of(column: str) -> str:
    """The type at the beginning of what is said of a column, with its length."""
    found = re.match(r"[\w ]+?(?:\([^)]*\))?(?= (?:not "
        r"null|null|default|primary|unique|check|references|collate|character|"
                     r"generated|auto_increment|autoincrement|comment|constraint|unsigned)|$)", column)  # fmt: skip
    return found[0] if found is not None else column


def plain(text: str) -> str:
    """A definition's text without quotes, case and superfluous blanks."""
    bare = " ".join(text.translate(_QUOTES).split())
    return re.sub(r"\s+\)", ")", re.sub(r"\s*([(,])\s*", r"\1", bare)).strip().lower()


def elements_of(ddl: str) -> Iterator[str]:
    """What stands between the commas of the outermost parentheses."""
    depth, start, quote = 0, 0, ""
    for at, letter in enumerate(ddl):
        if quote:
            quote = "" if letter == quote else quote
        elif letter in "'\"`":
            quote = letter
        elif letter == "(":
            depth += 1
            start = at + 1 if depth == 1 else start
        elif letter in ",)" and depth == 1:
            if element := ddl[start:at].strip():
                yield element
            start = at + 1
            if letter == ")":
                return
        elif letter == ")":
            depth -= 1
