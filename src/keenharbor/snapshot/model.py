"""What a manifest says, typed: every manifest becomes one of these where it is read, from a store or from an
archive."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal, get_type_hints

import msgspec

from keenharbor.base.errors import DamagedError
from keenharbor.base.text import parse_stamp
from keenharbor.database import DatabasePlace, Schema, StoredTable
from keenharbor.store import ObjectId
from keenharbor.tree import Entry

MANIFEST_FORMAT = 4
READ_FORMATS = (2, 3, 4)

Reason = Literal[
    "by hand", "scheduled", "before a trial", "before a cutover", "before a rollback", "before a restore",
    "before a step", "after a cutover",
    "checkpoint",
]  # fmt: skip
"""Why a snapshot was taken."""


@dataclass(frozen=True)
class Facts:
    """What was known of the site: the core's version, the runtime's name and version, and what is installed."""

    core: str
    runtime: str
    components: tuple[dict[str, str | bool | None], ...]


@dataclass(frozen=True)
class ListedTree:
    """A tree whose entries are objects of the store: files, bytes, and the parts in order, each with its id, its number
    of entries, and its first path."""

    files: int
    bytes: int
    parts: tuple[tuple[ObjectId, int, str], ...]


Tree = ListedTree | tuple[Entry, ...]
Said = dict[str, Any]


@dataclass(frozen=True)
class ListedTable:
    """A table as a manifest has it. Where the list of its chunks is long it is an object of its own, ``chunks_in``, and
    ``stored`` has none."""

    stored: StoredTable
    rows: int
    chunks_in: ObjectId | None = None

    @classmethod
    def from_json(cls, said: Said) -> ListedTable:
        return cls(StoredTable.from_json({"chunks": (), **said}), said["rows"], said.get("chunks_in"))

    def as_json(self) -> dict[str, object]:
        said = self.stored.as_json() | {"rows": self.rows}
        if self.stored.digest is not None:
            said["digest"] = self.stored.digest
        if self.chunks_in is not None:
            del said["chunks"]
            said["chunks_in"] = self.chunks_in
        return said


def _tree(said: Said | list[list[object]]) -> Tree:
    if isinstance(said, dict):
        return ListedTree(int(said["files"]), int(said["bytes"]), tuple((i, n, p) for i, n, p in said["parts"]))
    return tuple(Entry.from_json(e) for e in said)


@dataclass(frozen=True)
class SavedDatabase:
    """The database: where it was (a URL without a password), its definitions, its tables in their order."""

    place: str
    schema: Schema
    tables: tuple[ListedTable, ...]

    @classmethod
    def from_json(cls, said: Said) -> SavedDatabase:
        tables = tuple(ListedTable.from_json(t) for t in said["tables"])
        return cls(msgspec.convert(said["place"], str), Schema.from_json(said["schema"]), tables)

    @property
    def rows(self) -> int:
        return sum(t.rows for t in self.tables)

    @property
    def bytes(self) -> int:
        return sum(t.stored.size for t in self.tables)

    @property
    def where(self) -> DatabasePlace:
        return DatabasePlace.from_url(self.place)


@dataclass(frozen=True)
class Manifest:
    """All that a snapshot's document says.

    ``root`` is the site's folder as its host names it; ``rules`` a digest of what decided which paths were taken;
    ``left_out`` are paths left out by rule, ``too_large`` for their size, ``unreadable`` and ``unstable`` ones that
    could not be read, or kept changing; ``left_empty`` tables whose rows were not wanted; ``environment`` the
    distributions that were installed, by name. ``seconds`` and the bytes and objects that were added are of taking it,
    in its own store."""

    id: str
    site: str
    title: str
    taken_at: str
    seconds: float
    label: str | None
    comment: str | None
    reason: str
    root: str
    address: str
    facts: Facts
    areas_left_out: tuple[str, ...]
    left_out: tuple[str, ...]
    unreadable: tuple[str, ...]
    unstable: tuple[str, ...]
    tree: Tree
    database: SavedDatabase
    format: int = MANIFEST_FORMAT
    rules: str | None = None
    too_large: tuple[str, ...] = ()
    left_empty: tuple[str, ...] = ()
    environment: dict[str, str] = dataclasses.field(default_factory=dict)
    added_bytes: int = 0
    read_bytes: int = 0
    added_objects: int = 0

    def __post_init__(self) -> None:
        parse_stamp(self.taken_at)

    @classmethod
    def from_json(cls, said: Any) -> Manifest:
        """Raises `DamagedError` for what is none."""
        made, name = {}, ""
        try:
            for name, converted in _readers().items():
                if name in said:
                    made[name] = converted(said[name])
            name = "taken_at"
            return cls(**made)
        except (msgspec.ValidationError, ValueError) as error:
            raise DamagedError(f"a manifest says of '{name}' what is not right: {str(error).lower()}") from None
        except (KeyError, TypeError, IndexError, AttributeError) as error:
            raise DamagedError(f"a manifest lacks something, or has it in another form: {error}") from None

    def as_json(self) -> dict[str, object]:
        """As it is stored."""
        said = {f.name: getattr(self, f.name) for f in dataclasses.fields(self)}
        tree, database = self.tree, self.database
        return said | {
            "facts": dataclasses.asdict(self.facts),
            "tree": dataclasses.asdict(tree) if isinstance(tree, ListedTree) else tree,
            "database": {
                "place": database.place,
                "schema": database.schema.as_json(),
                "tables": [t.as_json() for t in database.tables],
            },
        }

    @property
    def same_anywhere(self) -> Manifest:
        """Without what it says of how its store keeps it."""
        return dataclasses.replace(self, format=MANIFEST_FORMAT, added_bytes=0, added_objects=0)

    @property
    def file_count(self) -> int:
        if isinstance(self.tree, ListedTree):
            return self.tree.files
        return sum(e.kind == "file" for e in self.tree)

    @property
    def file_bytes(self) -> int:
        if isinstance(self.tree, ListedTree):
            return self.tree.bytes
        return sum(e.size for e in self.tree)


Reader = Callable[..., Any]


@functools.cache
def _readers() -> dict[str, Reader]:
    """By field of a manifest, what makes its value of what a document says."""
    own: dict[str, Reader] = {"tree": _tree, "database": SavedDatabase.from_json}
    hints = get_type_hints(Manifest)
    return {
        f.name: own.get(f.name) or functools.partial(msgspec.convert, type=hints[f.name])
        for f in dataclasses.fields(Manifest)
    }
