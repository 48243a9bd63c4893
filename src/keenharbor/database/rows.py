"""Rows in the store: lines (see `keenharbor.database.lines`) cut into chunks at boundaries that depend on the keys.

A chunk ends after a row whose key hashes to a multiple of a number (`keenharbor.database.boundaries`), so an inserted
or removed row changes the chunk it falls into and no other (content-defined chunking, here by key; cf. Muthitacharoen
et al., "A low-bandwidth network file system", SOSP 2001). A chunk that changed is stored near the one that it was, so
that it costs what changed."""

from __future__ import annotations

import contextlib
import itertools
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any, Protocol, TypeVar

from blake3 import blake3

from keenharbor.base.errors import DamagedError
from keenharbor.database.lines import decode_lines, encode_copy, encode_json
from keenharbor.database.protocol import Block, DatabaseState, NotSharedError, Row, Schema, Table

T = TypeVar("T")
LARGEST_CHUNK_BYTES = 4 * 1024 * 1024
_LONGEST_KEY_KEPT = 200


def _key_text(table: Table, line: bytes) -> str:
    """The beginning of the last line's key, as it is written down: for finding the chunk again, and for people."""
    kept = b"\t".join(line[:-1].split(b"\t")[: len(table.key)]) if table.row_format == "copy" else line[:-1]
    return kept[:_LONGEST_KEY_KEPT].decode("utf-8", "surrogateescape")


@dataclass(frozen=True)
class Chunk:
    """Lines that are stored together, how many, and the key of the last (its beginning)."""

    data: bytes
    rows: int
    last_key: str


def chunks(table: Table, blocks: Iterator[Block]) -> Iterator[Chunk]:
    """The rows of ``blocks`` in chunks, wherever the blocks are divided."""
    from keenharbor.database.boundaries import boundaries

    parts: list[memoryview] = []
    rows = size = 0
    last_key_line = b""

    def cut() -> Chunk:
        nonlocal rows, size
        data = b"".join(parts)
        made = Chunk(data, rows, _key_text(table, last_key_line))
        parts.clear()
        rows = size = 0
        return made

    for block in blocks:
        if not block.lines:
            continue
        ends, boundary, stops = boundaries(table, block)
        keys = block.keys.split(b"\n") if block.keys is not None else None
        begin_row = begin = 0
        lines = memoryview(block.lines)
        for stop in stops:
            # A run of rows without a boundary that grows too long is cut by size, row by row.
            while True:
                upto = int(ends.searchsorted(begin + LARGEST_CHUNK_BYTES - size, "left"))
                last = min(stop, max(upto, begin_row))
                end = int(ends[last])
                parts.append(lines[begin:end])
                rows += last - begin_row + 1
                size += end - begin
                at_line = int(ends[last - 1]) if last else 0
                if keys is not None:
                    last_key_line = keys[last] + b"\n"
                elif table.row_format == "copy":
                    last_key_line = block.lines[at_line:end]
                else:
                    last_key_line = block.lines[at_line:end].partition(b",")[0].rstrip(b"]\n") + b"]\n"
                begin, begin_row = end, last + 1
                if bool(boundary[last]) or size >= LARGEST_CHUNK_BYTES:
                    yield cut()
                if last == stop:
                    break
    if parts:
        yield cut()


@dataclass(frozen=True)
class StoredTable:
    """A table's rows in the store, in chunks in key order: of each its id, how many rows and bytes it has, and its last
    key; and the engine's mark (see `DatabaseState.mark`).

    ``digest`` (BLAKE3 of all lines) is known of those that earlier versions have stored, which noted no bytes.
    """

    name: str
    chunk_ids: tuple[str, ...] = ()
    chunk_rows: tuple[int, ...] = ()
    chunk_bytes: tuple[int, ...] = ()
    last_keys: tuple[str, ...] = ()
    mark: str | None = None
    size: int = 0
    digest: str | None = None

    @property
    def row_count(self) -> int:
        return sum(self.chunk_rows)

    def as_json(self) -> dict[str, object]:
        chunks = zip(self.chunk_ids, self.chunk_rows, self.last_keys, self.chunk_bytes, strict=True)
        return {"name": self.name, "rows": self.row_count, "mark": self.mark, "size": self.size, "chunks": list(chunks)}

    @classmethod
    def from_json(cls, v: Mapping[str, Any]) -> StoredTable:
        table = cls(v["name"], mark=v.get("mark"), size=v.get("size", 0), digest=v.get("digest"))
        return table.with_chunks(v["chunks"])

    def with_chunks(self, listed: Sequence[Sequence[Any]]) -> StoredTable:
        """The table with the chunks as a manifest lists them; earlier formats have no last keys and no bytes."""
        return StoredTable(
            self.name, tuple(c[0] for c in listed), tuple(c[1] for c in listed),
            tuple(c[3] if len(c) > 3 else 0 for c in listed), tuple(c[2] if len(c) > 2 else "" for c in listed),
            self.mark, self.size, self.digest,
        )  # fmt: skip

    def holds(self, blocks: Iterable[Block]) -> bool:
        """Whether the lines of ``blocks``, wherever they are divided, are those that are stored: the ids are BLAKE3 of
        the chunks."""
        if self.digest is not None:
            return table_digest(blocks) == self.digest
        chunks = iter(zip(self.chunk_ids, self.chunk_bytes, strict=True))
        wanted, left, digest = "", 0, blake3()
        for block in blocks:
            lines = memoryview(block.lines)
            while lines:
                if not left:
                    wanted, left = next(chunks, ("", 0))
                    digest = blake3()
                    if not left:
                        return False
                digest.update(lines[:left])
                taken = min(left, len(lines))
                lines, left = lines[taken:], left - taken
                if not left and digest.hexdigest() != wanted:
                    return False
        return not left and next(chunks, None) is None


class StoredState:
    """A database state in the store. Of the tables in ``left_empty`` the rows were left out by rule."""

    def __init__(
        self,
        schema: Schema,
        tables: Sequence[StoredTable],
        read: Callable[[str], bytes],
        left_empty: Iterable[str] = (),
    ) -> None:
        self.schema = schema
        self.left_empty = frozenset(left_empty)
        self.tables = {t.name: t for t in tables}
        self._read = read

    def _table(self, name: str) -> Table:
        found = self.schema.table(name)
        if found is None:
            raise DamagedError(f"the stored schema has no table {name}")
        return found

    def rows(self, table: str) -> Iterator[Row]:
        stored = self.tables.get(table)
        for identity in stored.chunk_ids if stored else ():
            yield from self.chunk(table, identity)

    def blocks(self, table: str) -> Iterator[Block]:
        """The lines as they were stored (their keys are not taken out of them)."""
        stored = self.tables.get(table)
        for identity in stored.chunk_ids if stored else ():
            yield Block(self._read(identity))

    def parts(self, table: str, count: int) -> Sequence[Callable[[], Iterator[Block]]]:
        return ()

    def chunk_ids(self, table: str) -> Sequence[str] | None:
        stored = self.tables.get(table)
        return stored.chunk_ids if stored else ()

    def mark(self, table: str) -> str | None:
        stored = self.tables.get(table)
        return stored.mark if stored else None

    def unchanged_since(self, table: str, mark: str, rows: int) -> bool:
        return self.mark(table) == mark

    def lines(self, identity: str) -> bytes:
        """The lines of one chunk."""
        return self._read(identity)

    def chunk(self, table: str, identity: str) -> Iterator[Row]:
        """The rows of one chunk."""
        return decode_lines(self._table(table), self._read(identity))


def as_known(state: DatabaseState, table: str, known: DatabaseState | None) -> DatabaseState:
    """Where a table is read from: ``known`` where the engine's mark says that nothing was written since."""
    if not isinstance(known, StoredState) or isinstance(state, StoredState) or table in known.left_empty:
        return state
    stored = known.tables.get(table)
    if stored is None or stored.mark is None or known.schema.table(table) != state.schema.table(table):
        return state
    return known if state.unchanged_since(table, stored.mark, stored.row_count) else state


def blocks_of(table: Table, rows: Iterable[Row], count: int = 1000) -> Iterator[Block]:
    """Blocks from rows (key first), for states that are not read from an engine as they are stored."""
    batch: list[Row] = []

    def block() -> Block:
        if table.row_format == "copy":
            return Block(encode_copy(table, batch))
        keys = len(table.key)
        return Block(encode_json(batch), encode_json([r[:keys] for r in batch]))

    for row in rows:
        batch.append(row)
        if len(batch) == count:
            yield block()
            batch = []
    if batch:
        yield block()


def rows_of(table: Table | None, blocks: Iterable[Block]) -> Iterator[Row]:
    """The rows of blocks; none for a table that is not there."""
    if table is not None:
        for block in blocks:
            yield from decode_lines(table, block.lines)


def table_digest(blocks: Iterable[Block]) -> str:
    """A digest of a table's rows in order, over their lines."""
    digest = blake3()
    for block in blocks:
        digest.update(block.lines)
    return digest.hexdigest()


class ChunkSink(Protocol):
    """Takes chunks into a store."""

    def put(self, contents: Sequence[bytes], near: Sequence[str | None], done: Callable[[list[str]], None]) -> None:
        """Store ``contents``, each possibly as its difference from the object ``near``; ``done`` gets their ids, in the
        order of the calls, at the latest when `finish` returns."""

    def finish(self) -> None:
        """Wait until all that was put is taken in."""

    def apart(
        self, work: Callable[[Iterator[tuple[bytes, bytes]], ChunkSink], T], messages: Iterable[tuple[bytes, bytes]]
    ) -> T:
        """Carry out ``work`` on ``messages``, possibly in another process, with a sink into the same store."""

    @property
    def processes(self) -> int:
        """How many processes `each` may well be given work for; 1 where there can be no others."""

    def each(
        self, works: Sequence[Callable[[ChunkSink, Callable[[int], None]], T]], seen: Callable[[int], None]
    ) -> list[T]:
        """Carry out each of ``works`` in a process of its own, with a sink into the same store, and return what they
        return; what one gives to its second argument comes to ``seen`` here."""


class Together:
    """A `ChunkSink` over a plain function, for states that are held elsewhere."""

    def __init__(self, add: Callable[[bytes], str]) -> None:
        self._add = add

    def put(self, contents: Sequence[bytes], near: Sequence[str | None], done: Callable[[list[str]], None]) -> None:
        done([self._add(c) for c in contents])

    def finish(self) -> None: ...

    processes = 1

    def each(
        self, works: Sequence[Callable[[ChunkSink, Callable[[int], None]], T]], seen: Callable[[int], None]
    ) -> list[T]:
        return [work(self, seen) for work in works]

    def apart(
        self, work: Callable[[Iterator[tuple[bytes, bytes]], ChunkSink], T], messages: Iterable[tuple[bytes, bytes]]
    ) -> T:
        return work(iter(messages), self)


_BATCH_BYTES = 1024 * 1024
_WORTH_A_PROCESS = 8 * 1024 * 1024
_MOST_READERS = 4
"""So many connections at once are taken of a site's database server at most."""


def store_table(
    state: DatabaseState,
    table: Table,
    sink: ChunkSink,
    earlier: StoredTable | None,
    seen: Callable[[int], None],
    have: Callable[[str], bool],
) -> Callable[[], StoredTable]:
    """Read a table of ``state`` into ``sink``; the result can be asked for once the sink has finished.

    ``earlier`` is the table in an earlier state, of which the store may still ``have`` every chunk: not read again when
    its mark says that nothing changed, and near to what did. ``seen`` gets the bytes that came, as they come.
    """
    mark = state.mark(table.name)
    if (
        earlier is not None
        and earlier.mark
        and all(have(o) for o in earlier.chunk_ids)
        and state.unchanged_since(table.name, earlier.mark, earlier.row_count)
    ):
        seen(earlier.size)
        return lambda: earlier
    near = dict(zip(earlier.last_keys, earlier.chunk_ids, strict=True)) if earlier is not None else {}
    if sink.processes > 1 and (parts := state.parts(table.name, min(sink.processes, _MOST_READERS))):
        with contextlib.suppress(NotSharedError):  # then this process reads it alone
            whole = _joined(table, mark, sink.each([partial(_store_part, table, read, near) for read in parts], seen))
            return lambda: whole
    blocks = state.blocks(table.name)
    held: deque[Block] = deque()
    size = 0
    for block in blocks:
        held.append(block)
        size += len(block.lines)
        if size >= _WORTH_A_PROCESS:
            break
    else:
        return _store_blocks(table, held, sink, near, mark, seen)

    def messages() -> Iterator[tuple[bytes, bytes]]:
        for block in itertools.chain(_taken_from(held), blocks):
            seen(len(block.lines))
            yield block.lines, block.keys or b""

    def work(received: Iterator[tuple[bytes, bytes]], there: ChunkSink) -> StoredTable:
        come = (Block(lines, keys or None) for lines, keys in received)
        told = _store_blocks(table, come, there, near, mark, lambda count: None)
        there.finish()
        return told()

    stored = sink.apart(work, messages())
    return lambda: stored


def _store_part(
    table: Table,
    read: Callable[[], Iterator[Block]],
    near: Mapping[str, str],
    sink: ChunkSink,
    seen: Callable[[int], None],
) -> StoredTable:
    stored = _store_blocks(table, read(), sink, near, None, seen)
    sink.finish()
    return stored()


def _joined(table: Table, mark: str | None, parts: Sequence[StoredTable]) -> StoredTable:
    """A table of which each of ``parts`` holds a range, in order."""

    def all_of(of: Callable[[StoredTable], tuple[T, ...]]) -> tuple[T, ...]:
        return tuple(itertools.chain.from_iterable(map(of, parts)))

    return StoredTable(
        table.name, all_of(lambda p: p.chunk_ids), all_of(lambda p: p.chunk_rows), all_of(lambda p: p.chunk_bytes),
        all_of(lambda p: p.last_keys), mark, sum(p.size for p in parts),
    )  # fmt: skip


def _taken_from(held: deque[Block]) -> Iterator[Block]:
    while held:
        yield held.popleft()


def _store_blocks(
    table: Table, blocks: Iterable[Block], sink: ChunkSink, near: Mapping[str, str], mark: str | None,
    seen: Callable[[int], None],
) -> Callable[[], StoredTable]:  # fmt: skip
    """``near``: chunks of an earlier state by their last key."""
    ids: list[str] = []
    rows: list[int] = []
    sizes: list[int] = []
    keys: list[str] = []
    batch: list[Chunk] = []
    waiting = 0

    def send() -> None:
        nonlocal batch, waiting
        sink.put([c.data for c in batch], [near.get(c.last_key) for c in batch], ids.extend)
        seen(waiting)
        batch, waiting = [], 0

    for chunk in chunks(table, iter(blocks)):
        rows.append(chunk.rows)
        sizes.append(len(chunk.data))
        keys.append(chunk.last_key)
        batch.append(chunk)
        waiting += len(chunk.data)
        if waiting >= _BATCH_BYTES:
            send()
    if batch:
        send()
    return lambda: StoredTable(table.name, tuple(ids), tuple(rows), tuple(sizes), tuple(keys), mark, sum(sizes))


def store_state(
    state: DatabaseState, sink: ChunkSink, earlier: StoredState | None = None,
    leave_empty: Callable[[str], bool] = lambda n: False,
    seen: Callable[[str, int], None] = lambda n, b: None,
    have: Callable[[str], bool] = lambda o: True,
) -> list[StoredTable]:  # fmt: skip
    """Read every table of ``state`` into ``sink``; those that ``leave_empty`` names without their rows."""
    made: list[Callable[[], StoredTable]] = []
    for table in state.schema.tables:
        if leave_empty(table.name):
            made.append(lambda t=table: StoredTable(t.name))  # type: ignore[misc]
            continue
        before = earlier.tables.get(table.name) if earlier is not None else None
        if before is not None and earlier is not None and earlier.schema.table(table.name) != table:
            before = None
        made.append(store_table(state, table, sink, before, lambda b, n=table.name: seen(n, b), have))  # type: ignore[misc]
    sink.finish()
    return [m() for m in made]
