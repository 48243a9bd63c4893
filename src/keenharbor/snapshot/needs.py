"""Which objects of a store its snapshots need, and the space that they take.

Snapshots that follow each other share most parts of their lists. Each part is read once, and its objects are numbers
in an array: what counting costs, in time and memory, goes by what differs between the snapshots, not by how many there
are."""

from __future__ import annotations

from array import array
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence

from keenharbor.base.memory import no_cycle_search
from keenharbor.snapshot.lists import entries_in
from keenharbor.snapshot.manifest import Snapshot
from keenharbor.snapshot.model import ListedTree
from keenharbor.store import ObjectId, Store
from keenharbor.tree import Entry

Part = tuple[object, ...]
"""What tells one part from another: the id of its list, or what it is of and where."""


class Needs:
    """The objects that snapshots need, with those that they are stored near to; how many parts need each."""

    def __init__(self, store: Store) -> None:
        store.refresh()
        self._store = store
        self._numbers: dict[ObjectId, int] = {}
        self._space = array("Q")
        self._needed_by = array("I")
        self._parts: dict[Part, array[int]] = {}
        self._uses: Counter[Part] = Counter()
        self._told = bytearray()
        self.content: Counter[str] = Counter()
        """Bytes by what they are for: ``files: AREA``, ``table NAME``, ``lists of paths``; each object once."""

    def add(self, snapshot: Snapshot) -> tuple[Part, ...]:
        """The parts of a snapshot, read and counted. Raises `DamagedError`."""
        with no_cycle_search():
            parts = tuple(self._parts_of(snapshot))
        for part in parts:
            self._uses[part] += 1
            if self._uses[part] == 1:
                needed_by = self._needed_by
                for number in self._parts[part]:
                    needed_by[number] += 1
        return parts

    def drop(self, parts: Iterable[Part]) -> int:
        """Count a snapshot's parts no more; the bytes that nobody needs now."""
        freed = 0
        for part in parts:
            self._uses[part] -= 1
            if not self._uses[part]:
                for number in self._parts[part]:
                    self._needed_by[number] -= 1
                    if not self._needed_by[number]:
                        freed += self._space[number]
        return freed

    @property
    def space(self) -> int:
        """Bytes that all take that somebody needs."""
        return sum(space for space, needed in zip(self._space, self._needed_by, strict=True) if needed)

    def space_of(self, parts: Iterable[Part]) -> int:
        """Bytes of all that ``parts`` need, each object once."""
        return sum(self._space[number] for number in set[int]().union(*(self._parts[p] for p in parts)))

    def space_alone(self, parts: Sequence[Part]) -> int:
        """Bytes of what nobody else needs."""
        own = Counter[int]()
        for part in parts:
            if self._uses[part] == 1:
                own.update(self._parts[part])
        return sum(self._space[number] for number, count in own.items() if self._needed_by[number] == count)

    def _parts_of(self, snapshot: Snapshot) -> Iterator[Part]:
        tree, read = snapshot.manifest.tree, snapshot.store.read
        if isinstance(tree, ListedTree):
            for identity, _, _ in tree.parts:
                part: Part = (identity,)
                if part not in self._parts:
                    self._learn_entries(part, entries_in(identity, read), identity)
                yield part
        else:
            part = ("tree of", snapshot.id)
            self._learn_entries(part, tree, None)
            yield part
        for table in snapshot.manifest.database.tables:
            stored = snapshot.state.tables[table.stored.name]
            part = (table.chunks_in or stored.chunk_ids, stored.name)
            if part not in self._parts:
                what = f"table {stored.name}"
                lists = (table.chunks_in,) if table.chunks_in is not None else ()
                self._parts[part] = array("I", self._learn((*lists, *stored.chunk_ids), what))
            yield part

    def _learn_entries(self, part: Part, entries: Iterable[Entry], listed_in: ObjectId | None) -> None:
        numbers = array("I", self._learn((listed_in,), "lists of paths") if listed_in is not None else ())
        for entry in entries:
            if entry.objects:
                numbers.extend(self._learn(entry.objects, f"files: {entry.area}"))
        self._parts[part] = numbers

    def _learn(self, objects: Iterable[ObjectId], what: str) -> Iterator[int]:
        for identity in objects:
            number = self._number(identity)
            yield number
            if not self._told[number]:
                self._told[number] = 1
                self.content[what] += self._space[number]
            near = self._store.needs(identity)
            if near is not None:
                yield self._number(near)

    def _number(self, identity: ObjectId) -> int:
        number = self._numbers.get(identity)
        if number is None:
            number = self._numbers[identity] = len(self._space)
            place = self._store.location(identity)
            self._space.append(place.space if place is not None else 0)
            self._needed_by.append(0)
            self._told.append(0)
        return number
