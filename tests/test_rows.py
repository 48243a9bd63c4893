"""Rows as lines, chunks of them, what is stored near what, and giving back only what differs."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator, Sequence
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import StateInMemory, plain_dump, query, state_in_memory
from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.database import (
    Block,
    DatabasePlace,
    Row,
    StoredTable,
    Table,
    open_database,
    sql_text,
    table_digest,
)
from keenharbor.database.giveback import difference
from keenharbor.database.lines import decode_copy, encode_copy, encode_json
from keenharbor.database.mariadb.read import _lines as mariadb_lines
from keenharbor.database.ranges import dividing_keys
from keenharbor.database.rows import LARGEST_CHUNK_BYTES, Together, _store_blocks, blocks_of, chunks
from keenharbor.snapshot.plaintext import csv_text
from keenharbor.store import Store, object_id
from keenharbor.store.packs import NEAR, ZSTD, compressor, pack, pack_near

COPY = Table(
    "t", ("k", "text", "number", "bytes", "flag"), ("k",), "", kinds=("int", "text", "float", "bytes", "bool"),
    read_as=("", "", "", "bytea", ""), row_format="copy",
)  # fmt: skip
texts = st.none() | st.text(st.characters(codec="utf-8", exclude_characters="\x00"), max_size=15)
copy_rows = st.tuples(
    st.integers(-(2**63), 2**64), texts, st.none() | st.floats(allow_nan=False), st.none() | st.binary(max_size=9),
    st.none() | st.integers(0, 1),
)  # fmt: skip


@given(st.lists(copy_rows, max_size=20))
@settings(deadline=None)
def test_rows_come_back_from_copy_text(rows: list[Row]) -> None:
    data = encode_copy(COPY, rows)
    assert data.count(b"\n") == len(rows), "a value broke its line"
    assert list(decode_copy(COPY, data)) == rows


def test_text_that_looks_like_something_else_comes_back() -> None:
    rows: list[Row] = [
        (1, "\\N", None, b"\\x", 0),
        (2, "", 0.0, b"", 1),
        (3, "a\\tb\t\\\\\n\r\x07", -0.0, b"\t\n", None),
    ]
    assert list(decode_copy(COPY, encode_copy(COPY, rows))) == rows


@pytest.mark.parametrize(
    "damaged",
    [
        b"1\ttext\n",
        b"x\ta\t1\t\\\\x00\tt\n",
        b"1\ta\t1\t\\\\xzz\tt\n",
        b"1\ta\t1\t\\\\x00\tmaybe\n",
        b"1\ta\t1\t\\\\x00\tt",
    ],
)
def test_damaged_copy_text_is_an_error(damaged: bytes) -> None:
    with pytest.raises(DamagedError):
        list(decode_copy(COPY, damaged))


KEYED = Table("t", ("a", "b", "v"), ("a", "b"), "", kinds=("text", "int", "text"), row_format="copy")
keyed_rows = st.lists(
    st.tuples(
        st.text("abc\\\t\n", max_size=4), st.integers(0, 400), st.text(max_size=5).filter(lambda t: "\x00" not in t)
    ),
    max_size=300,
)


@given(keyed_rows, st.integers(1, 70), st.integers(1, 70), st.sampled_from(["copy", "json"]))
@settings(deadline=None, max_examples=60)
def test_chunks_do_not_depend_on_how_the_blocks_were_divided(rows: list[Row], one: int, other: int, form: str) -> None:
    table = Table("t", KEYED.columns, KEYED.key, "", kinds=KEYED.kinds, row_format=form)  # type: ignore[arg-type]
    first = [c.data for c in chunks(table, blocks_of(table, rows, one))]
    assert first == [c.data for c in chunks(table, blocks_of(table, rows, other))]
    assert b"".join(first) == b"".join(b.lines for b in blocks_of(table, rows, 7))
    assert sum(c.rows for c in chunks(table, blocks_of(table, rows, one))) == len(rows)


def test_a_run_without_a_boundary_is_cut_by_size() -> None:
    table = Table("t", ("k", "v"), ("k",), "")
    rows: list[Row] = [(1, "x" * 1_000_000)] * 11  # one key, so every row is a boundary or none is
    made = [c.data for c in chunks(table, blocks_of(table, rows, 3))]
    assert all(len(d) <= LARGEST_CHUNK_BYTES + 1_100_000 for d in made)
    assert b"".join(made) == encode_json(rows)


def test_rows_with_a_wrong_number_of_values_are_refused() -> None:
    with pytest.raises(ValueError, match="does not have 3 values"):
        list(chunks(KEYED, iter([Block(b"a\t1\n")])))


# -- near ---------------------------------------------------------------------------------------------------------


def test_a_chunk_that_changed_a_little_costs_a_little(tmp_path: Path) -> None:
    lines = [f"row {n} with some words that are different: {n * 7919 % 10007}\n".encode() for n in range(400)]
    before = b"".join(lines)
    lines[100] = b"another row\n"
    after = b"".join(lines)
    store = Store.create(tmp_path / "store")
    with store.writing() as writer:
        base = writer.add(before)
    whole = writer.added_bytes
    done: list[list[str]] = []
    with store.writing() as writer:
        writer.put([after], [base], done.append)
    assert writer.added_bytes < whole / 10
    changed = done[0][0]
    assert store.needs(changed) == base
    assert Store(tmp_path / "store").read(changed) == after
    # What is near to that one is stored near to the same base: no chains.
    third = after.replace(b"row 300", b"ROW 300")
    with store.writing() as writer:
        writer.put([third], [changed], done.append)
    assert store.needs(done[1][0]) == base
    assert store.read(done[1][0]) == third


@given(st.binary(min_size=200, max_size=4000), st.binary(max_size=50), st.integers(0, 4000))
@settings(deadline=None)
def test_what_is_packed_near_something_is_what_it_was(base: bytes, insert: bytes, at: int) -> None:
    content = base[:at] + insert + base[at:]
    near = pack_near(object_id(content), content, object_id(base), base)
    if near is not None:
        assert near.codec == NEAR
        assert near.data[:32].hex() == object_id(base)
        assert len(near.data) < len(content)
    whole = pack(object_id(content), content, compressor(1))
    assert whole.plain == len(content)
    assert whole.codec in (0, ZSTD)


def test_what_is_near_something_damaged_is_told_and_stored_anew(tmp_path: Path) -> None:
    store = Store.create(tmp_path / "store")
    base = b"".join(f"line {n}\n".encode() for n in range(2000))
    with store.writing() as writer:
        identity = writer.add(base)
    done: list[list[str]] = []
    with store.writing() as writer:
        writer.put([base + b"more"], [identity], done.append)
    pack = store.pack_files()
    damaged = next(p for p in pack if p.stat().st_size > 500)
    data = bytearray(damaged.read_bytes())
    data[len(data) // 2] ^= 1
    damaged.write_bytes(data)
    again = Store(tmp_path / "store")
    with pytest.raises(DamagedError):
        again.read(done[0][0])
    with again.writing() as writer:
        writer.put([base + b"other"], [identity], done.append)
    assert again.needs(done[1][0]) is None, "nothing new may lean on what is damaged"
    assert again.read(done[1][0]) == base + b"other"


def test_collecting_keeps_what_is_wanted_and_what_that_leans_on(tmp_path: Path) -> None:
    store = Store.create(tmp_path / "store")
    base = b"".join(f"line {n}\n".encode() for n in range(2000))
    contents = [bytes([n]) * 3000 + str(n).encode() for n in range(40)]
    with store.writing() as writer:
        ids = [writer.add(c) for c in contents]
        lean_on = writer.add(base)
    done: list[list[str]] = []
    with store.writing() as writer:
        writer.put([base + b"more"], [lean_on], done.append)
    wanted = {ids[3], ids[30], done[0][0]}
    before = store.pack_bytes()
    store.collect(wanted, lambda d, t: None)
    assert store.pack_bytes() < before
    fresh = Store(tmp_path / "store")
    assert fresh.read(ids[3]) == contents[3]
    assert fresh.read(done[0][0]) == base + b"more"
    assert not fresh.has(ids[4])
    assert [i for _, i in fresh.check() if not isinstance(i, str)] == []
    # A reader that had learnt of the old packs finds its objects in the new ones.
    assert store.read(ids[30]) == contents[30]


def test_more_packs_than_may_be_open_are_read(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("keenharbor.store.store._MOST_OPEN_PACKS", 3)
    store = Store.create(tmp_path / "store")
    contents = [str(n).encode() * 100 for n in range(12)]
    ids = []
    for content in contents:
        with store.writing() as writer:
            ids.append(writer.add(content))
    fresh = Store(tmp_path / "store")
    for _ in range(2):
        assert [fresh.read(i) for i in ids] == contents
    assert len(fresh._descriptors) == 3


def test_what_cannot_be_written_anew_for_want_of_space_is_not_lost(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    store = Store.create(tmp_path / "store")
    with store.writing() as writer:
        dead = [writer.add(bytes([n]) * 4000 + b"dead") for n in range(9)]
    with store.writing() as writer:
        ids = [writer.add(bytes([n]) * 3000 + b"half") for n in range(9)]
    monkeypatch.setattr(
        "keenharbor.store.packs.PackWriter.seal", lambda self: (_ for _ in ()).throw(OSError(28, "No space left"))
    )
    with pytest.raises(OSError, match="No space left"):
        store.collect({ids[4]}, lambda d, t: None)
    monkeypatch.undo()
    fresh = Store(tmp_path / "store")
    assert fresh.read(ids[4]).endswith(b"half")
    assert not fresh.has(dead[0]), "what costs nothing goes first"
    assert not list((tmp_path / "store/staging").iterdir())


# -- giving back --------------------------------------------------------------------------------------------------


def made(path: Path, rows: dict[int, str]) -> DatabasePlace:
    path.unlink(missing_ok=True)
    connection = sqlite3.connect(path)
    with connection:
        connection.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT)")
        connection.executemany("INSERT INTO t VALUES (?, ?)", rows.items())
        connection.execute("CREATE TRIGGER never BEFORE INSERT ON t BEGIN SELECT RAISE(ABORT, 'a trigger acted'); END")
    connection.close()
    return DatabasePlace("sqlite", path)


tables = st.dictionaries(st.integers(0, 60), st.sampled_from("abc"), max_size=40)


@given(tables, tables)
@settings(deadline=None, max_examples=40)
def test_only_what_differs_is_written_and_the_result_is_exact(
    tmp_path_factory: pytest.TempPathFactory, wanted: dict[int, str], present: dict[int, str]
) -> None:
    folder = tmp_path_factory.mktemp("g")
    source, target = made(folder / "a.db", wanted), made(folder / "b.db", present)
    state = state_in_memory(source)
    with open_database(target).writing() as writer:
        written = writer.replace(state)
    assert plain_dump(folder / "b.db") == plain_dump(folder / "a.db")
    differing = {k for k in wanted.keys() | present.keys() if wanted.get(k) != present.get(k)}
    assert (written == 0) == (not differing)


def test_a_table_that_differs_throughout_is_written_as_a_whole(tmp_path: Path) -> None:
    wanted = dict.fromkeys(range(40000), "x")
    source = made(tmp_path / "a.db", wanted)
    target = made(tmp_path / "b.db", dict.fromkeys(range(40000), "y"))
    state = state_in_memory(source)
    with open_database(target).reading() as present:
        table = present.schema.table("t")
        assert table is not None
        assert difference(table, present, state).whole
    with open_database(target).writing() as writer:
        assert writer.replace(state) == 40_000
    assert plain_dump(tmp_path / "b.db") == plain_dump(tmp_path / "a.db")


def test_rows_of_a_table_made_otherwise_are_refused(tmp_path: Path) -> None:
    state = state_in_memory(made(tmp_path / "a.db", {1: "a"}))
    other = DatabasePlace("sqlite", tmp_path / "b.db")
    query(tmp_path / "b.db", "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT, more TEXT)")
    with pytest.raises(UsageError, match="not made as it was"), open_database(other).writing() as writer:
        writer.put_rows(state, ["t"])
    with pytest.raises(UsageError, match="no table 'x'"), open_database(other).writing() as writer:
        writer.put_rows(state, ["x"])


@pytest.mark.parametrize("journal", ["delete", "wal"])
def test_an_unchanged_file_is_known_and_a_changed_one_is_read(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, journal: str
) -> None:
    place = made(tmp_path / "a.db", dict.fromkeys(range(100), "x"))
    query(tmp_path / "a.db", "DROP TRIGGER never")
    query(tmp_path / "a.db", f"PRAGMA journal_mode = {journal}")
    young = StateInMemory(place)
    if journal == "wal":
        assert young.state.tables["t"].mark is None, "a file written just now may be written again unnoticed"
        monkeypatch.setattr("keenharbor.host.sqlitefile._SETTLED_SECONDS", -1e6)
    first = StateInMemory(place)
    assert first.state.tables["t"].mark
    assert StateInMemory(place, first.state).read == []
    before = (tmp_path / "a.db").stat()
    query(tmp_path / "a.db", "UPDATE t SET v = 'y' WHERE id = 5")
    os.utime(tmp_path / "a.db", ns=(before.st_atime_ns, before.st_mtime_ns))
    second = StateInMemory(place, first.state)
    assert second.read == ["t"]
    assert second.state.tables["t"].chunk_ids != first.state.tables["t"].chunk_ids


def test_text_and_tables_for_people(tmp_path: Path) -> None:
    query(tmp_path / "a.db", "CREATE TABLE t (id INTEGER PRIMARY KEY, v, b BLOB)")
    rows: Sequence[tuple[object, ...]] = [
        (1, 'with "quotes", commas\nand lines', b"\x00\xff"), (2, None, None), (3, "", b""), (4, "nul\x00in it", None),
        (5, 1e308, None),
        (6, float("inf"), None), (7, " spaced ", None), (8, -(2**63), None),
    ]  # fmt: skip
    connection = sqlite3.connect(tmp_path / "a.db")
    with connection:
        connection.executemany("INSERT INTO t VALUES (?, ?, ?)", rows)
    connection.close()
    state = state_in_memory(DatabasePlace("sqlite", tmp_path / "a.db"))
    import csv
    import io

    text = b"".join(csv_text(state, "t")).decode()
    read = list(csv.reader(io.StringIO(text, newline="")))
    assert read[0] == ["id", "v", "b"]
    assert read[1] == ["1", 'with "quotes", commas\nand lines', "00ff"]
    assert text.split("\r\n")[2:4] == ["2,,", '3,"",']
    connection = sqlite3.connect(tmp_path / "b.db")
    connection.executescript(b"".join(sql_text(state)).decode())
    back = connection.execute("SELECT id, v, b FROM t ORDER BY id").fetchall()
    connection.close()
    assert back == list(rows)


def test_a_digest_is_of_the_rows_and_not_of_the_blocks() -> None:
    rows: list[Row] = [(n, "x" * n) for n in range(50)]
    table = Table("t", ("k", "v"), ("k",), "")

    def divided(count: int) -> Iterator[Block]:
        return blocks_of(table, rows, count)

    assert table_digest(divided(1)) == table_digest(divided(50)) != table_digest(blocks_of(table, rows[:-1]))


@given(keyed_rows, st.integers(1, 70), st.integers(0, 3), st.booleans())
@settings(deadline=None, max_examples=60)
def test_a_stored_table_knows_its_rows_however_they_are_divided(
    rows: list[Row], size: int, change: int, earlier_version: bool
) -> None:
    stored = _store_blocks(KEYED, blocks_of(KEYED, rows), Together(object_id), {}, None, lambda count: None)()
    if earlier_version:  # which noted a digest of all lines, and no sizes
        written = stored.as_json()
        written["chunks"] = [c[:3] for c in written["chunks"]]
        stored = StoredTable.from_json(written | {"digest": table_digest(blocks_of(KEYED, rows))})
    else:
        assert StoredTable.from_json(stored.as_json()) == stored
    assert stored.holds(blocks_of(KEYED, rows, size))
    others = (rows + [("zz", 0, "")], rows[:-1], [*rows[:-1], ("zz", 0, "")], list(reversed(rows)))
    assert stored.holds(blocks_of(KEYED, others[change], size)) == (others[change] == rows)


NUMBERED = Table("t", ("k", "v"), ("k",), "")


@given(
    st.dictionaries(st.integers(-(2**63), 2**63 - 1) | st.integers(0, 50), st.text(',]"1', max_size=4), max_size=300)
)
@settings(deadline=None)
def test_a_key_that_is_one_number_is_found_in_its_line(numbered: dict[int, str]) -> None:
    for table, rows in (
        (NUMBERED, [(k, numbered[k]) for k in sorted(numbered)]),
        (Table("t", ("k",), ("k",), ""), [(k,) for k in sorted(numbered)]),
    ):
        told = list(blocks_of(table, rows, 40))
        shown = [Block(b.lines) for b in told]
        assert list(chunks(table, iter(shown))) == list(chunks(table, iter(told)))


def test_a_line_that_does_not_begin_with_a_number_is_refused() -> None:
    with pytest.raises(ValueError, match="does not begin with a whole number"):
        list(chunks(NUMBERED, iter([Block(b'["' + b"x" * 40 + b'",1]\n')])))


@given(
    st.sets(st.tuples(st.integers(-9, 10**12), st.integers(0, 3)), max_size=4000).map(sorted),
    st.integers(1, 5),
    st.booleans(),
)
@settings(deadline=None, max_examples=60)
def test_ranges_of_a_table_give_the_chunks_of_the_whole(keys: list[tuple[int, int]], count: int, all_key: bool) -> None:
    table = Table("t", ("a", "b", "v"), ("a", "b"), "", kinds=("int", "int", "text"), row_format="copy")
    rows: list[Row] = [(a, b, "x") for a, b in keys]
    if all_key:
        table = Table("t", ("a", "b"), ("a", "b"), "", kinds=("int", "int"), row_format="copy")
        rows = list(keys)
    ends = dividing_keys(table, b"".join(b"%d\t%d\n" % k for k in keys[::3]), count)
    assert len(ends) < count and ends == sorted(set(ends))
    below: list[tuple[int, ...]] = [(-10, 0), *ends]
    above: list[tuple[int, ...]] = [*ends, (10**13, 0)]
    ranges = [[r for r in rows if low < r[:2] <= high] for low, high in zip(below, above, strict=True)]
    found = [c for part in ranges for c in chunks(table, blocks_of(table, part))]
    assert found == list(chunks(table, blocks_of(table, rows)))


def test_a_table_is_divided_about_evenly() -> None:
    table = Table("t", ("a", "v"), ("a",), "", kinds=("int", "text"), row_format="copy")
    ends = dividing_keys(table, b"".join(b"%d\n" % n for n in range(0, 1_000_000, 100)), 4)
    assert [end[0] / 1_000_000 for end in ends] == pytest.approx([0.25, 0.5, 0.75], abs=0.06)


@settings(max_examples=300)
@given(
    st.integers(1, 4).flatmap(
        lambda width: st.lists(
            st.tuples(*[st.none() | st.binary(max_size=6) | st.sampled_from([b"\\N", b"\t", b"a\nb", b"\\"])] * width),
            min_size=1,
            max_size=8,
        )
    ),
    st.booleans(),
)
def test_values_as_mariadb_sends_them_become_lines(rows: list[tuple[bytes | None, ...]], digits: bool) -> None:
    width = len(rows[0])
    table = Table(
        "t", tuple("abcd"[:width]), ("a",), "", kinds=(("bytes" if digits else "text"),) * width, row_format="copy"
    )
    lines = mariadb_lines(rows, range(width) if digits else ())
    if digits:
        assert list(decode_copy(table, lines)) == rows
    else:
        texts = [tuple(None if v is None else v.decode("utf-8", "surrogateescape") for v in row) for row in rows]
        assert list(decode_copy(table, lines)) == texts
