"""Rows of which there may be more than can be held: the first ones in memory, the rest in a file without a name."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator, Sequence
from typing import TypeVar, overload

from keenharbor.base.durable import Spill
from keenharbor.database.lines import decode_json, encode_json
from keenharbor.database.protocol import Row

MOST_BYTES_HELD = 1024 * 1024
_BYTES_OF_A_ROW = 100
_HEAD = 64
"""So many of the first rows can be asked for without reading the file."""
T = TypeVar("T")


class RowList(Sequence[Row]):
    """Rows in the order in which they were added; about ``most_bytes`` of them are held."""

    def __init__(self, rows: Iterable[Row] = (), most_bytes: int | None = None) -> None:
        self._most = MOST_BYTES_HELD if most_bytes is None else most_bytes
        self._head: list[Row] = []
        self._held: list[Row] = []
        self._bytes = 0
        self._count = 0
        self._spill: Spill | None = None
        for row in rows:
            self.append(row)

    def append(self, row: Row) -> None:
        """Add a row."""
        if len(self._head) < _HEAD:
            self._head.append(row)
        self._held.append(row)
        self._count += 1
        self._bytes += _BYTES_OF_A_ROW + sum(len(v) for v in row if isinstance(v, (str, bytes)))
        if self._bytes > self._most:
            if self._spill is None:
                self._spill = Spill()
            self._spill.add(encode_json(self._held))
            self._held, self._bytes = [], 0

    def __len__(self) -> int:
        return self._count

    def __iter__(self) -> Iterator[Row]:
        if self._spill is not None:
            for piece in self._spill.pieces():
                yield from decode_json(piece)
        yield from self._held

    @overload
    def __getitem__(self, index: int) -> Row: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[Row]: ...
    def __getitem__(self, index: int | slice) -> Row | Sequence[Row]:
        return _item(self, self._head, index)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sequence) and len(self) == len(other) and all(map(_equal, self, other))

    __hash__ = None  # type: ignore[assignment]

    def __repr__(self) -> str:
        return _shown(self)


class RowPairs(Sequence[tuple[Row, Row]]):
    """Rows before and after, in the order in which they were added; ``width`` values stand before."""

    def __init__(self, width: int, pairs: Iterable[tuple[Row, Row]] = ()) -> None:
        self._width = width
        self._rows = RowList(a + b for a, b in pairs)

    def append(self, pair: tuple[Row, Row]) -> None:
        """Add a pair."""
        self._rows.append(pair[0] + pair[1])

    def __len__(self) -> int:
        return len(self._rows)

    def __iter__(self) -> Iterator[tuple[Row, Row]]:
        return map(self._parted, self._rows)

    def _parted(self, row: Row) -> tuple[Row, Row]:
        return row[: self._width], row[self._width :]

    @overload
    def __getitem__(self, index: int) -> tuple[Row, Row]: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[tuple[Row, Row]]: ...
    def __getitem__(self, index: int | slice) -> tuple[Row, Row] | Sequence[tuple[Row, Row]]:
        found = self._rows[index]
        return self._parted(found) if isinstance(found, tuple) else [self._parted(r) for r in found]

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sequence) and len(self) == len(other) and all(map(_equal, self, other))

    __hash__ = None  # type: ignore[assignment]

    def __repr__(self) -> str:
        return _shown(self)


def _equal(a: object, b: object) -> bool:
    return a == b


def _shown(rows: Sequence[object]) -> str:
    few = ", ".join(map(repr, itertools.islice(rows, 5)))
    return f"<{len(rows)} rows: {few}{', …' if len(rows) > 5 else ''}>"


def _item(rows: Sequence[Row], head: Sequence[Row], index: int | slice) -> Row | Sequence[Row]:
    if isinstance(index, slice):
        start, stop, step = index.indices(len(rows))
        if step == 1 and stop <= len(head):
            return list(head[start:stop])
        wanted = range(start, stop, step)
        found = {n: row for n, row in enumerate(rows) if n in wanted}
        return [found[n] for n in wanted]
    at = index if index >= 0 else len(rows) + index
    if not 0 <= at < len(rows):
        raise IndexError(index)
    return head[at] if at < len(head) else next(itertools.islice(rows, at, None))
