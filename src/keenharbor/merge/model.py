"""What a merge is told in: the rows that are carried, what both sides changed, what has no place."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Literal

from keenharbor.database import Value

Cells = Mapping[str, Value]
Kind = Literal["removed", "changed", "added"]
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
    before, where they removed it), from their table ``source``; ``own_key`` is its key in their names, and ``called``
    leads from these to ours. Of a changed row ``was`` are our cells. ``lost`` are columns of theirs that hold something
    and have no place here."""

    kind: Kind
    table: str
    key: Cells
    values: Cells
    source: str
    row: Cells
    own_key: Cells
    called: Mapping[str, str]
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


What = Literal["row", "cells", "removed"]
Why = Literal[
    "no table", "no key", "no row", "no column", "alone", "refused", "left out", "other side", "needed", "as it was",
]  # fmt: skip
"""Why something is not in the result: its table, the columns of its key, its row, its column, or what it belongs to is
not there; a constraint refused it; a person left it out; the other side won, or needs it; without a state on arrival,
the earlier one was put back."""

WITHOUT_A_PLACE: tuple[Why, ...] = ("no table", "no key", "no row", "no column", "alone")
"""What has none on this side may have one where it came from."""


@dataclass(frozen=True)
class Aside:
    """What they have and the result has not, in their names: a whole row that was added, cells of one that was changed,
    or a row that they removed and that stays; and why, in a word and in a sentence."""

    what: What
    table: str
    key: Cells
    values: Cells
    why: Why
    reason: str


@dataclass(frozen=True)
class Counting:
    """A column in which a table counts the rows of another that belong to each of its own, by their ``column``."""

    table: str
    column: str
    of: str
    by: str
