"""The long lists of a manifest, a tree's entries and a table's chunks, as objects of the store.

Snapshots that follow each other share most of them, and a manifest stays small, so that many are listed quickly. A tree is cut
behind paths whose CRC-32 says so: one that comes or goes changes one part. An archive, and manifests of format 2, have the
lists in the manifest itself.
"""

from __future__ import annotations

import itertools
import zlib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any, Protocol

from keenharbor.base.errors import DamagedError
from keenharbor.base.jsontext import decode_json, encode_json
from keenharbor.base.memory import no_cycle_search
from keenharbor.database import StoredTable
from keenharbor.store import ObjectId
from keenharbor.tree import Entry

Manifest = Mapping[str, Any]
Read = Callable[[ObjectId], bytes]

LIST_OF_PATHS = "(the list of its paths)"
"""What a part of a tree's list is for, where an object is told with its path or table."""

_PART_ENTRIES, _MOST_ENTRIES = 256, 4096
_PARTS_AT_ONCE = 32
_LONG = 64
"""Chunks from which on the list of a table's is kept apart."""


class ListSink(Protocol):
    """Takes objects into a store (see `keenharbor.store.ObjectWriter`)."""

    def put(self, contents: Sequence[bytes], near: Sequence[str | None], done: Callable[[list[str]], None]) -> None: ...

    def finish(self) -> None: ...


def put_tree(entries: Iterable[Entry], sink: ListSink, earlier: Manifest | None) -> dict[str, Any]:
    """Store the entries of a tree; what a manifest says of it: how many files and bytes, and the parts in order, each with its
    id, number of entries, and first path. Parts that changed are stored near to those of the ``earlier`` manifest."""
    before = earlier["tree"] if earlier is not None else None
    near = {first: identity for identity, _, first in before["parts"]} if isinstance(before, dict) else {}
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
    return {"files": files, "bytes": size, "parts": [[i, *t] for i, t in zip(ids, told, strict=True)]}


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


def put_tables(tables: Iterable[StoredTable], sink: ListSink) -> list[dict[str, Any]]:
    """What a manifest says of ``tables``; lists of many chunks are stored."""
    told: list[dict[str, Any]] = []
    kept: list[tuple[dict[str, Any], list[ObjectId]]] = []
    for table in tables:
        said = table.as_json()
        told.append(said)
        if len(table.chunk_ids) >= _LONG:
            ids: list[ObjectId] = []
            sink.put([encode_json(said.pop("chunks"))], [None], ids.extend)
            kept.append((said, ids))
    sink.finish()
    for said, ids in kept:
        (said["chunks_in"],) = ids
    return told


def list_objects(manifest: Manifest) -> Iterator[tuple[str, ObjectId]]:
    """The objects that hold its lists, with what each is for."""
    tree = manifest["tree"]
    if isinstance(tree, dict):
        for identity, _, _ in tree["parts"]:
            yield LIST_OF_PATHS, identity
    for table in manifest["database"]["tables"]:
        if "chunks_in" in table:
            yield f"table {table['name']}", table["chunks_in"]


def tree_of(manifest: Manifest, read: Read) -> dict[str, Entry]:
    """The entries by path, in walking order. Raises `DamagedError`."""
    tree = manifest["tree"]
    with no_cycle_search():
        if isinstance(tree, dict):
            listed = itertools.chain.from_iterable(_listed(identity, read) for identity, _, _ in tree["parts"])
        else:
            listed = iter(tree)
        return {e[0]: Entry.from_json(e) for e in listed}


def tables_of(manifest: Manifest, read: Read) -> list[StoredTable]:
    """The tables with their chunks. Raises `DamagedError`."""
    return [StoredTable.from_json(t) for t in _with_chunks(manifest, read)]


def with_lists(manifest: Manifest, read: Read) -> dict[str, Any]:
    """The manifest with all lists in it, as an archive has it. Raises `DamagedError`."""
    return {
        **manifest,
        "tree": list(tree_of(manifest, read).values()),
        "database": {**manifest["database"], "tables": _with_chunks(manifest, read)},
    }


def has_lists(manifest: Manifest) -> bool:
    """Whether nothing of it is elsewhere."""
    return not any(list_objects(manifest)) and isinstance(manifest["tree"], list)


def _with_chunks(manifest: Manifest, read: Read) -> list[dict[str, Any]]:
    return [
        {**{k: v for k, v in t.items() if k != "chunks_in"}, "chunks": _listed(t["chunks_in"], read)}
        if "chunks_in" in t
        else t
        for t in manifest["database"]["tables"]
    ]


def _listed(identity: ObjectId, read: Read) -> list[Any]:
    found = decode_json(read(identity))
    if not isinstance(found, list):
        raise DamagedError(f"object {identity[:12]} is not the list that its manifest says")
    return found


def count_files(manifest: Manifest) -> tuple[int, int]:
    """How many files the tree has, and their bytes."""
    tree = manifest["tree"]
    if isinstance(tree, dict):
        return int(tree["files"]), int(tree["bytes"])
    return sum(e[1] == "file" for e in tree), sum(e[4] for e in tree)
