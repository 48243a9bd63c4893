"""The long lists of a manifest, a tree's entries and a table's chunks, as objects of the store.

Snapshots that follow each other share most of them, and a manifest stays small, so that many are listed quickly. A tree
is cut behind paths whose CRC-32 says so: one that comes or goes changes one part. An archive, and manifests of format
2, have the lists in the manifest itself."""

from __future__ import annotations

import itertools
import zlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from typing import Any, Protocol

import msgspec

from keenharbor.base.errors import DamagedError
from keenharbor.base.jsontext import decode_json, encode_json
from keenharbor.base.memory import no_cycle_search
from keenharbor.database import StoredTable
from keenharbor.snapshot.model import ListedTable, ListedTree, Manifest, Tree
from keenharbor.store import ObjectId
from keenharbor.tree import Entry

Read = Callable[[ObjectId], bytes]

LIST_OF_PATHS = "(the list of its paths)"
"""What a part of a tree's list is for, where an object is told with its path or table."""

_PART_ENTRIES, _MOST_ENTRIES = 256, 4096
_PARTS_AT_ONCE = 32
_ENTRIES = msgspec.json.Decoder(list[Entry])
_LONG = 64
"""Chunks from which on the list of a table's is kept apart."""


class ListSink(Protocol):
    """Takes objects into a store (see `keenharbor.store.ObjectWriter`)."""

    def put(self, contents: Sequence[bytes], near: Sequence[str | None], done: Callable[[list[str]], None]) -> None: ...

    def finish(self) -> None: ...


def put_tree(entries: Iterable[Entry], sink: ListSink, earlier: Tree | None) -> ListedTree:
    """Store the entries of a tree; what a manifest says of it. Parts that changed are stored near to those of the
    ``earlier`` tree."""
    near = {first: identity for identity, _, first in earlier.parts} if isinstance(earlier, ListedTree) else {}
    ids: list[ObjectId] = []
    told: list[tuple[int, str]] = []
    files = size = 0
    parts = _parts(entries)
    while some := list(itertools.islice(parts, _PARTS_AT_ONCE)):
        for part in some:
            told.append((len(part), part[0].path))
            files += sum([e.kind == "file" for e in part])
            size += sum([e.size for e in part])
        sink.put([encode_json(part) for part in some], [near.get(part[0].path) for part in some], ids.extend)
    sink.finish()
    return ListedTree(files, size, tuple((i, *t) for i, t in zip(ids, told, strict=True)))


def _parts(entries: Iterable[Entry]) -> Iterator[list[Entry]]:
    part: list[Entry] = []
    for entry in entries:
        part.append(entry)
        ends = zlib.crc32(entry.path.encode("utf-8", "surrogatepass")) % _PART_ENTRIES == 0
        if ends or len(part) >= _MOST_ENTRIES:
            yield part
            part = []
    if part:
        yield part


def put_tables(tables: Iterable[StoredTable], sink: ListSink) -> tuple[ListedTable, ...]:
    """What a manifest says of ``tables``; lists of many chunks are stored."""
    told: list[ListedTable] = []
    kept: list[tuple[int, list[ObjectId]]] = []
    for table in tables:
        if len(table.chunk_ids) >= _LONG:
            ids: list[ObjectId] = []
            sink.put([encode_json(table.as_json()["chunks"])], [None], ids.extend)
            kept.append((len(told), ids))
        told.append(ListedTable(table, table.row_count))
    sink.finish()
    for at, (identity,) in kept:
        table = told[at].stored
        told[at] = ListedTable(without_chunks(table), table.row_count, identity)
    return tuple(told)


def without_chunks(table: StoredTable) -> StoredTable:
    return StoredTable(table.name, mark=table.mark, size=table.size, digest=table.digest)


def list_objects(manifest: Manifest) -> Iterator[tuple[str, ObjectId]]:
    """The objects that hold its lists, with what each is for."""
    if isinstance(manifest.tree, ListedTree):
        for identity, _, _ in manifest.tree.parts:
            yield LIST_OF_PATHS, identity
    for table in manifest.database.tables:
        if table.chunks_in is not None:
            yield f"table {table.stored.name}", table.chunks_in


def tree_of(tree: Tree, read: Read) -> dict[str, Entry]:
    """The entries by path, in walking order. Raises `DamagedError`."""
    if not isinstance(tree, ListedTree):
        return {e.path: e for e in tree}
    with no_cycle_search():
        return {e.path: e for identity, _, _ in tree.parts for e in entries_in(identity, read)}


def entries_in(part: ObjectId, read: Read) -> list[Entry]:
    """The entries of one part of a tree. Raises `DamagedError`."""
    data = read(part)
    try:
        return _ENTRIES.decode(data)
    except (msgspec.MsgspecError, ValueError, RecursionError):  # of another version, or with a name that is not UTF-8
        return [Entry.from_json(e) for e in _listed(part, lambda _: data)]


def tables_of(tables: Iterable[ListedTable], read: Read) -> list[StoredTable]:
    """The tables with their chunks. Raises `DamagedError`."""
    return [t.stored if t.chunks_in is None else t.stored.with_chunks(_listed(t.chunks_in, read)) for t in tables]


def with_lists(manifest: Manifest, read: Read) -> Manifest:
    """The manifest with all lists in it, as an archive has it. Raises `DamagedError`."""
    tables = tuple(ListedTable(t, t.row_count) for t in tables_of(manifest.database.tables, read))
    return replace(
        manifest,
        tree=tuple(tree_of(manifest.tree, read).values()),
        database=replace(manifest.database, tables=tables),
    )


def has_lists(manifest: Manifest) -> bool:
    """Whether nothing of it is elsewhere."""
    return not any(list_objects(manifest)) and not isinstance(manifest.tree, ListedTree)


def _listed(identity: ObjectId, read: Read) -> list[Any]:
    found = decode_json(read(identity))
    if not isinstance(found, list):
        raise DamagedError(f"object {identity[:12]} is not the list that its manifest says")
    return found
