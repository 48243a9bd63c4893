"""Two tables' rows held against each other by key, in memory that does not grow with them.

Both are read in the order of their keys, in chunks that end at the same keys (`keenharbor.database.rows`), so that the
stretch between two such ends, on one side, can hold only what the stretch on the other side holds; a merge join
(Blasgen and Eswaran, "Storage and access in relational data bases", IBM Systems Journal 16, 1977) over stretches
instead of rows. No order of values is taken for granted: what was left alone on both sides is looked for once more by
its key at the end. A stretch that is too long to be held is parted by hashes of the keys first (a Grace hash join:
Kitsuregawa, Tanaka, Moto-oka, "Application of hash to data base machine and its architecture", New Generation
Computing 1, 1983)."""

from __future__ import annotations

import itertools
import zlib
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass

from keenharbor.base.durable import Spill
from keenharbor.database.lines import decode_lines, encode_row
from keenharbor.database.protocol import Row, Table
from keenharbor.database.rowlist import RowList, RowPairs

MOST_BYTES_HELD = 16 * 1024 * 1024
"""Lines of both sides that are joined at once; as rows they take about ten times as much."""
_PARTS = 256
_BYTES_HELD_OF_A_PART = 32 * 1024
_FEW = 20_000
"""Rows of each side that are joined without being parted."""


@dataclass
class Piece:
    """Some rows of one side as they are stored: their id, the key of the last (its beginning), and their lines: held,
    or ``read`` when they are wanted."""

    identity: str
    last_key: str
    read: Callable[[], bytes] | None = None
    held: bytes = b""

    def lines(self) -> bytes:
        """Its lines."""
        return self.read() if self.read is not None else self.held


class Joined:
    """What became of rows from a left to a right side: rows that only one has, and those that differ in what both have
    columns for. Where only whole rows tell rows apart, none differs: it is there so many times."""

    def __init__(self, left: Table, right: Table) -> None:
        self.added, self.removed = RowList(), RowList()
        self.changed = RowPairs(len(left.columns))
        shared = [c for c in left.columns if c in right.columns]
        self._alike = left.columns == right.columns
        self._pick_left = [left.columns.index(c) for c in shared]
        self._pick_right = [right.columns.index(c) for c in shared]
        self._key_left = [left.columns.index(k) for k in left.key]
        self._key_right = [right.columns.index(k) for k in right.key]

    def take(self, left: Iterable[Row], right: Iterable[Row]) -> None:
        """Join some rows of both sides."""
        at_left, at_right = self._key_left, self._key_right
        before = {_key([row[i] for i in at_left]): row for row in left}
        for row in right:
            was = before.pop(_key([row[i] for i in at_right]), None)
            if was is None:
                self.added.append(row)
            elif self._differ(was, row):
                self.changed.append((was, row))
        for row in before.values():
            self.removed.append(row)

    def _differ(self, before: Row, after: Row) -> bool:
        if not self._alike:
            before, after = tuple(before[i] for i in self._pick_left), tuple(after[i] for i in self._pick_right)
        if before == after and all(map(_same_type, before, after)):
            return False
        return encode_row(before) != encode_row(after)

    def key_hash(self, row: Row, *, left: bool) -> int:
        """A hash of the row's key, the same on both sides."""
        return zlib.crc32(encode_row([row[i] for i in (self._key_left if left else self._key_right)]))

    def settle(self) -> None:
        """Look once more for rows that only one side seemed to have: their order was not the same on both."""
        added, removed = self.added, self.removed
        if not added or not removed or (len(removed) <= _FEW and not self._meet(removed, added)):
            return
        self.added, self.removed = RowList(), RowList()
        self.take_all(removed, added)

    def _meet(self, left: Iterable[Row], right: Iterable[Row]) -> bool:
        """Whether any key may be on both sides."""
        known = {self.key_hash(row, left=True) for row in left}
        return any(self.key_hash(row, left=False) in known for row in right)

    def take_all(self, left: Iterable[Row], right: Iterable[Row]) -> None:
        """Join rows of which there may be any number, in any order."""
        for some_left, some_right in _parted(self, left, right):
            self.take(some_left, some_right)


class Counted(Joined):
    """The same of rows that only are there so many times, or not: by their values in ``columns``, or as a whole."""

    def __init__(self, left: Table, right: Table, columns: Sequence[str] | None) -> None:
        super().__init__(left, right)
        self._from_left = _picker(left, columns or left.columns)
        self._from_right = _picker(right, columns or right.columns)

    def take(self, left: Iterable[Row], right: Iterable[Row]) -> None:
        before = Counter(map(self._from_left, left))
        after = Counter(map(self._from_right, right))
        for row in (after - before).elements():
            self.added.append(row)
        for row in (before - after).elements():
            self.removed.append(row)

    def key_hash(self, row: Row, *, left: bool) -> int:
        return zlib.crc32(encode_row((self._from_left if left else self._from_right)(row)))

    def settle(self) -> None:
        self._from_left = self._from_right = tuple  # what was left alone has been picked already
        super().settle()


def _picker(table: Table, columns: Sequence[str]) -> Callable[[Row], Row]:
    if tuple(columns) == table.columns:
        return tuple
    at = [table.columns.index(c) for c in columns]
    return lambda row: tuple(row[i] for i in at)


def _same_type(a: object, b: object) -> bool:
    return type(a) is type(b)


def _key(values: list[object]) -> object:
    """What rows are found by. Numbers with a fraction are found as they are written, others as they are."""
    if any(type(v) is float for v in values):
        return encode_row(values)  # type: ignore[arg-type]
    return tuple(values)


def _parted(joined: Joined, left: Iterable[Row], right: Iterable[Row]) -> Iterator[tuple[Iterable[Row], Iterable[Row]]]:
    """Rows of both sides in parts that hold the same keys; one part where they are few."""
    coming = iter(left), iter(right)
    first = [list(itertools.islice(rows, _FEW)) for rows in coming]
    if all(len(f) < _FEW for f in first):
        yield first[0], first[1]
        return
    sides: list[list[RowList]] = []
    for begun, rows, is_left in zip(first, coming, (True, False), strict=True):
        parts = [RowList(most_bytes=_BYTES_HELD_OF_A_PART) for _ in range(_PARTS)]
        for row in itertools.chain(begun, rows):
            parts[joined.key_hash(row, left=is_left) % _PARTS].append(row)
        sides.append(parts)
    yield from zip(*sides, strict=True)


# -- stretches ------------------------------------------------------------------------------------------------


def join_pieces(
    joined: Joined, tables: tuple[Table, Table], stored: Sequence[Piece], other: Iterable[Piece], *,
    stored_is_left: bool,
) -> None:  # fmt: skip
    """Join two sides of which one is known in all its pieces, the other piece by piece. Pieces that both have are not
    read."""
    table, other_table = tables if stored_is_left else tables[::-1]
    ends = {p.last_key: n for n, p in enumerate(stored) if p.last_key}
    alike = tables[0].columns == tables[1].columns and tables[0].row_format == tables[1].row_format
    counts = isinstance(joined, Counted)
    at = held = 0
    waiting: list[Piece] = []

    def join(some: Sequence[Piece], others: Sequence[Piece]) -> None:
        if [p.identity for p in some] == [p.identity for p in others] and some and alike:
            return
        both = {p.identity for p in some} & {p.identity for p in others} if alike else set()
        here = [p for p in some if p.identity not in both]
        there = [p for p in others if p.identity not in both]
        if stored_is_left:
            _join_stretch(joined, (table, here), (other_table, there), alike and not counts)
        else:
            _join_stretch(joined, (other_table, there), (table, here), alike and not counts)

    for piece in other:
        waiting.append(piece)
        held += len(piece.held)
        if held > MOST_BYTES_HELD:
            _put_away(waiting)
            held = 0
        end = ends.get(piece.last_key, -1)
        if end >= at:
            join(stored[at : end + 1], waiting)
            at, held, waiting = end + 1, 0, []
    if waiting or at < len(stored):
        join(stored[at:], waiting)
    joined.settle()


def _put_away(pieces: Sequence[Piece]) -> None:
    """Hold no lines any more."""
    spill = Spill()
    for piece in pieces:
        if piece.held:
            piece.read, piece.held = spill.add(piece.held), b""


Side = tuple[Table, Sequence[Piece]]


def _join_stretch(joined: Joined, left: Side, right: Side, by_line: bool) -> None:
    sizes = 0
    held: list[list[bytes]] = [[], []]
    for side, (_, pieces) in enumerate((left, right)):
        for piece in pieces:
            lines = piece.lines()
            sizes += len(lines)
            held[side].append(lines)
            if sizes > MOST_BYTES_HELD:
                held = []
                break
        if not held:
            break
    if not held:  # too much to be held
        joined.take_all(_rows(*left), _rows(*right))
        return
    before, after = b"".join(held[0]), b"".join(held[1])
    if by_line:
        before, after = differing_lines(before, after)
    joined.take(decode_lines(left[0], before), decode_lines(right[0], after))


def _rows(table: Table, pieces: Sequence[Piece]) -> Iterator[Row]:
    for piece in pieces:
        yield from decode_lines(table, piece.lines())


def differing_lines(left: bytes, right: bytes) -> tuple[bytes, bytes]:
    """The lines of both that the other has not (none stands twice on one side). Lines that differ only where they stand
    may be among them."""
    lines_left, lines_right = left.split(b"\n"), right.split(b"\n")
    if len(lines_left) == len(lines_right):
        pairs = [(a, b) for a, b in zip(lines_left, lines_right, strict=True) if a != b]
        if len(pairs) <= len(lines_left) // 4:
            return _lines(a for a, _ in pairs), _lines(b for _, b in pairs)
    in_left, in_right = set(lines_left), set(lines_right)
    return _lines(x for x in lines_left if x not in in_right), _lines(x for x in lines_right if x not in in_left)


def _lines(lines: Iterable[bytes]) -> bytes:
    return b"".join([line + b"\n" for line in lines])
