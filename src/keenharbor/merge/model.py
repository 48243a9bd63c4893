"""What a merge is told in: the rows that are carried, what both sides changed, what has no place."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Literal

from keenharbor.database import Value

Cells = Mapping[str, Value]
Side = Literal["theirs", "ours"]
Rule = Callable[[str], Side]
"""Which side wins in a table where both changed the same."""


@dataclass(frozen=True)
class Passage:
    """A table that is called otherwise on our side, or has columns that are: ``columns`` leads from their names to
    ours."""

    table: str
    to: str
    columns: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Change:
    """What is to be done to a row of ours: ``key`` and ``values`` in our names, ``row`` as they have it (as it was
    before, where they removed it), from their table ``source``. Of a changed row ``was`` are our cells. ``lost`` are
    columns of theirs that hold something and have no place here."""

    kind: Literal["removed", "changed", "added"]
    table: str
    key: Cells
    values: Cells
    source: str
    row: Cells
    was: Cells = field(default_factory=dict)
    lost: tuple[str, ...] = ()


Clash = Literal["both changed it", "both added it", "removed here, changed there", "still needed there"]
"""What both sides did, seen from theirs."""


@dataclass(frozen=True)
class Conflict:
    """Both sides changed the same: a cell (``column``), or the whole row. The side that was ``taken`` is in the result,
    the other is told here."""

    table: str
    key: Cells
    column: str | None
    theirs: Value
    ours: Value
    taken: Side
    clash: Clash


@dataclass(frozen=True)
class Aside:
    """What they have and the result has not: a whole row that was added, cells of one that was changed, or a row that
    they removed and that stays; and why."""

    what: Literal["row", "cells", "removed"]
    table: str
    key: Cells
    values: Cells
    reason: str


@dataclass(frozen=True)
class Counting:
    """A column in which a table counts the rows of another that belong to each of its own, by their ``column``."""

    table: str
    column: str
    of: str
    by: str
