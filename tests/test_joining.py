"""Rows of two states joined: the same as over everything in memory, however little may be held."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keenharbor.base.durable import Spill, take_away
from keenharbor.database import joining, rowlist
from keenharbor.database.diff import TableDelta, row_delta
from keenharbor.database.protocol import Row, Schema, Table
from keenharbor.database.rowlist import RowList, RowPairs
from keenharbor.database.rows import StoredState, Together, blocks_of, rows_of, store_state
from keenharbor.store import object_id

VALUES = st.one_of(
    st.none(), st.integers(-(2**62), 2**62), st.text(max_size=40), st.binary(max_size=30),
    st.floats(allow_nan=False),
)  # fmt: skip
ROWS = st.dictionaries(st.integers(0, 400), st.tuples(VALUES, VALUES), max_size=120)


class Held:
    """A state whose rows are in memory, in the order in which they are given."""

    def __init__(self, table: Table, rows: list[Row]) -> None:
        self.schema = Schema("sqlite", "3", (table,))
        self._table, self._rows = table, rows

    def rows(self, table: str) -> object:
        return rows_of(self._table, self.blocks(table))

    def blocks(self, table: str) -> object:
        return blocks_of(self._table, self._rows, 7)

    def parts(self, table: str, count: int) -> tuple[()]:
        return ()

    def chunk_ids(self, table: str) -> None:
        return None

    def mark(self, table: str) -> None:
        return None

    def unchanged_since(self, table: str, mark: str, rows: int) -> bool:
        return False


def stored(state: Held) -> StoredState:
    objects: dict[str, bytes] = {}

    def add(content: bytes) -> str:
        return objects.setdefault(object_id(content), content) and object_id(content)

    tables = store_state(state, Together(add))  # type: ignore[arg-type]
    return StoredState(state.schema, tables, objects.__getitem__)


def table(columns: tuple[str, ...], key: tuple[str, ...] = ("id",), row_format: str = "json") -> Table:
    kinds = ("text",) * len(columns)
    return Table("t", columns, key, "CREATE TABLE t", kinds=kinds, row_format=row_format)  # type: ignore[arg-type]


def told(left: object, right: object) -> TableDelta:
    found = row_delta(left, right).tables.get("t")  # type: ignore[arg-type]
    return found or TableDelta("t", (), ())


@pytest.fixture(params=["held", "spilled"], autouse=True, scope="module")
def bounds(request: pytest.FixtureRequest) -> Iterator[None]:
    with pytest.MonkeyPatch.context() as patch:
        if request.param == "spilled":
            patch.setattr(joining, "MOST_BYTES_HELD", 300)
            patch.setattr(joining, "_FEW", 5)
            patch.setattr(joining, "_PARTS", 4)
            patch.setattr(joining, "_BYTES_HELD_OF_A_PART", 200)
            patch.setattr(rowlist, "MOST_BYTES_HELD", 300)
        yield


@given(
    before=ROWS, after=ROWS, narrower=st.booleans(), shuffled=st.booleans(), kind=st.sampled_from(["ss", "sl", "ls"])
)
def test_what_differs_is_what_differs(
    before: dict[int, Row], after: dict[int, Row], narrower: bool, shuffled: bool, kind: str
) -> None:
    a, b = table(("id", "x", "y")), table(("id", "y") if narrower else ("id", "x", "y"))
    rows_a = [(k, *v) for k, v in sorted(before.items())]
    rows_b = [(k, v[1]) if narrower else (k, *v) for k, v in sorted(after.items())]
    if shuffled:  # another collation: nothing may rest on the order
        rows_b.sort(key=lambda r: str(r[0]))
    states = [Held(a, rows_a), Held(b, rows_b)]
    left, right = (stored(s) if k == "s" else s for s, k in zip(states, kind, strict=True))
    found = told(left, right)
    by_a, by_b = {r[0]: r for r in rows_a}, {r[0]: r for r in rows_b}
    assert sorted(r[0] for r in found.added) == sorted(by_b.keys() - by_a.keys())
    assert sorted(r[0] for r in found.removed) == sorted(by_a.keys() - by_b.keys())
    differ = {k for k in by_a.keys() & by_b.keys() if repr(by_a[k] if not narrower else by_a[k][::2]) != repr(by_b[k])}
    assert {x[0] for x, _ in found.changed} == differ
    assert all(by_a[x[0]] == x and by_b[y[0]] == y and x[0] == y[0] for x, y in found.changed)


TIMES = st.lists(st.tuples(st.sampled_from("abc"), st.sampled_from("xyz")), max_size=60)


@given(before=TIMES, after=TIMES, wider=st.booleans(), live=st.booleans())
def test_rows_without_a_key_are_counted(
    before: list[tuple[str, str]], after: list[tuple[str, str]], wider: bool, live: bool
) -> None:
    a = table(("p", "q"), ("p", "q"), "copy")
    b = table(("q", "p", "r"), ("q", "p", "r"), "copy") if wider else a
    rows_b = [(q, p, "new") for p, q in sorted(after)] if wider else sorted(after)
    state_b = Held(b, rows_b)  # type: ignore[arg-type]
    found = told(stored(Held(a, sorted(before))), state_b if live else stored(state_b))  # type: ignore[arg-type]
    assert Counter(found.added) == Counter(after) - Counter(before)
    assert Counter(found.removed) == Counter(before) - Counter(after)
    assert not found.changed


def test_only_stretches_that_differ_are_read() -> None:
    rows: list[Row] = [(n, "x" * 50) for n in range(20_000)]
    left = stored(Held(table(("id", "x")), rows))
    rows[10_000] = (10_000, "y")
    right = stored(Held(table(("id", "x")), rows))
    read: list[str] = []
    for state in (left, right):
        lines = state._read
        state._read = lambda identity, lines=lines: read.append(identity) or lines(identity)  # type: ignore[misc]
    assert told(left, right).changed == [((10_000, "x" * 50), (10_000, "y"))]
    assert len(read) <= 3 < len(left.chunk_ids("t") or ()) // 10


@given(rows=st.lists(st.tuples(VALUES, VALUES), max_size=150))
def test_a_list_of_rows_is_a_list(rows: list[tuple[Row, Row]]) -> None:
    made = RowList(rows, most_bytes=500)  # type: ignore[arg-type]
    assert len(made) == len(rows) and list(made) == rows == list(made) and made == tuple(rows)
    assert made[:10] == rows[:10] and made[70:90:3] == rows[70:90:3]
    for at in (0, 63, 64, 100, -1):
        if -len(rows) <= at < len(rows):
            assert made[at] == rows[at]
    with pytest.raises(IndexError):
        _ = made[len(rows)]
    pairs = RowPairs(1, (((a,), (b,)) for a, b in rows))
    assert list(pairs) == [((a,), (b,)) for a, b in rows] and bool(pairs) == bool(rows)


def test_pieces_on_disk_are_read_as_often_as_wanted() -> None:
    spill = Spill()
    first, second = spill.add(b"one"), spill.add(b"")
    reading = spill.pieces()
    assert next(reading) == b"one" and first() == b"one" and second() == b""
    spill.add(b"three" * 1000)
    assert list(reading) == [b"", b"three" * 1000]


def test_a_folder_is_taken_away_as_a_whole(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A kill between the rename and the removal leaves nothing by its name; the next call removes the rest."""
    (tmp_path / "a").mkdir()
    (tmp_path / "a/file").touch()
    monkeypatch.setattr("keenharbor.base.durable.remove_folder", lambda folder: None)
    take_away(tmp_path / "a")
    assert not (tmp_path / "a").exists() and (tmp_path / ".a.going/file").exists()
    monkeypatch.undo()
    take_away(tmp_path / "a")
    assert list(tmp_path.iterdir()) == []
