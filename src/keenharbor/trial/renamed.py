"""States of a clone, with its places written as live's."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import replace

from keenharbor.clone.clone import Clone
from keenharbor.database import Block, DatabaseState, Row, Schema, StoredState, StoredTable, encode_row
from keenharbor.database.rewrite import Rewriter
from keenharbor.database.rows import ChunkSink, blocks_of, store_table
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot
from keenharbor.snapshot.moved import LARGEST_TEXT_FILE, address_forms
from keenharbor.tree import Entry

_NOT_REWRITTEN = ("media", "cache", "logs")


class RenamedState:
    """A database state with a clone's places written as live's, ``without`` some rows (their encoded keys by table)."""

    def __init__(
        self, state: DatabaseState, rewriter: Rewriter, without: Mapping[str, Collection[bytes]] | None = None
    ) -> None:
        self._state, self._rewriter, self._without = state, rewriter, without or {}

    @property
    def schema(self) -> Schema:
        return self._state.schema

    def rows(self, table: str) -> Iterator[Row]:
        found, without = self.schema.table(table), self._without.get(table, ())
        assert found is not None
        for row in self._state.rows(table):
            if not without or encode_row([row[i] for i in found.key_positions]) not in without:
                yield tuple(self._rewriter.cell(v) for v in row)

    def blocks(self, table: str) -> Iterator[Block]:
        found = self.schema.table(table)
        assert found is not None
        return blocks_of(found, self.rows(table))

    def parts(self, table: str, count: int) -> Sequence[Callable[[], Iterator[Block]]]:
        return ()

    def mark(self, table: str) -> str | None:
        return None

    def unchanged_since(self, table: str, mark: str, rows: int) -> bool:
        return False

    def chunk_ids(self, table: str) -> Sequence[str] | None:
        return None


def back_to_live(clone: Clone, live: SiteView) -> Rewriter:
    """What writes a clone's places as live's."""
    places = address_forms(clone.address, live.address) | {clone.site.place: live.place}
    return Rewriter(places | dict(zip(clone.site.database_place.marks, live.database.marks, strict=False)))


def places_of_live(address: str, checkpoint: Snapshot, live: SiteView) -> Rewriter:
    """The same for a clone that is gone, by its ``address`` and one of its checkpoints."""
    places = address_forms(address, live.address) | {checkpoint.manifest.root: live.place}
    return Rewriter(places | dict(zip(checkpoint.database_place.marks, live.database.marks, strict=False)))


def renamed_state(
    snapshot: Snapshot, back: Rewriter, sink: ChunkSink, read: Callable[[str], bytes],
    only: Collection[str] | None = None, without: Mapping[str, Collection[bytes]] | None = None,
) -> StoredState:  # fmt: skip
    """The database of a checkpoint (or ``only`` some tables of it, ``without`` some rows) in live's terms, as stored as
    the checkpoint's; tables that name nothing of the clone are its own."""
    state = snapshot.state
    schema = state.schema
    if only is not None:
        schema = replace(schema, tables=tuple(t for t in schema.tables if t.name in only))
    made: list[Callable[[], StoredTable]] = []
    for table in schema.tables:
        stored = state.tables[table.name]
        left_out = without is not None and without.get(table.name)
        if not left_out and not any(back.may_touch(state.lines(identity)) for identity in stored.chunk_ids):
            made.append(lambda t=stored: t)  # type: ignore[misc]
            continue
        made.append(
            store_table(RenamedState(state, back, without), table, sink, None, lambda count: None, lambda o: True)
        )
    sink.finish()
    return StoredState(schema, [m() for m in made], read)


def renamed_entries(
    snapshot: Snapshot, back: Rewriter, put: Callable[[bytes], str], only: Collection[str] | None = None
) -> dict[str, Entry]:
    """The tree of a checkpoint (or ``only`` some paths of it) in live's terms; ``put`` gives a content its id."""
    entries = {p: e for p, e in snapshot.entries.items() if only is None or p in only}
    for path, entry in list(entries.items()):
        if entry.kind == "file" and entry.size <= LARGEST_TEXT_FILE and entry.area not in _NOT_REWRITTEN:
            data = b"".join(snapshot.store.read(o) for o in entry.objects)
            if back.touches(data):
                text = back.text(data.decode("utf-8", "surrogateescape")).encode("utf-8", "surrogateescape")
                entries[path] = entry._replace(objects=(put(text),), size=len(text), stamp="")
    return entries
