"""What an engine's definitions may be, as its module here tells it."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from keenharbor.base.errors import KeenHarborError


class DefinitionRefused(KeenHarborError):
    """A definition that is not carried out."""


@dataclass(frozen=True)
class Token:
    """``kind``: word, name (quoted), text, other (a sign)."""

    kind: str
    text: str


Look = Callable[[Sequence[Token], Sequence[Token]], None]
"""Looks closer at a definition, given its tokens and those from the name of what is made; raises
`DefinitionRefused`."""


@dataclass(frozen=True)
class Allowed:
    """The engine's ``lexer`` (named groups are kinds of tokens); the ``shapes`` that definitions begin with, by kind; a
    ``special`` look at some; what may be ``set_before`` one; and whether a name can lead to another database."""

    engine: str
    lexer: re.Pattern[str]
    shapes: Mapping[str, str]
    special: Mapping[str, Look] = field(default_factory=dict)
    set_before: re.Pattern[str] | None = None
    reaches_other_databases: bool = True


COMMON = r"(?P<space>\s+)|(?P<text>'(?:[^'\\]|''|\\.)*')|(?P<word>[^\W\d][\w$]*)|(?P<number>\d[\w.]*)|(?P<other>.)"


def lexer(text: str) -> re.Pattern[str]:
    return re.compile(text, re.DOTALL)
