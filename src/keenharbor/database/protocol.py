"""What every database engine offers to the rest of the tool."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal, Protocol

Value = None | int | float | str | bytes
Row = tuple[Value, ...]
TableKind = Literal["table", "virtual", "shadow", "internal"]


@dataclass(frozen=True)
class DatabasePlace:
    """Where a database is: the engine and, for file databases, the path. Never holds a password."""

    engine: str
    path: Path

    def __str__(self) -> str:
        return f"{self.engine}:{self.path}"


@dataclass(frozen=True)
class Table:
    """A table's make-up. ``columns`` are those whose values are stored, in order; ``key`` those that tell rows apart.

    ``implicit_key`` says that the first column is the engine's own row number, since the table declares no key.
    ``virtual`` tables are made by their DDL, ``shadow`` tables come with them and are only filled, ``internal``
    tables belong to the engine (counters).
    """

    name: str
    columns: tuple[str, ...]
    key: tuple[str, ...]
    ddl: str
    kind: TableKind = "table"
    implicit_key: bool = False

    @property
    def key_positions(self) -> tuple[int, ...]:
        return tuple(self.columns.index(k) for k in self.key)

    def as_json(self) -> dict[str, Any]:
        return {
            "name": self.name, "columns": list(self.columns), "key": list(self.key), "ddl": self.ddl,
            "kind": self.kind, "implicit_key": self.implicit_key,
        }  # fmt: skip

    @classmethod
    def from_json(cls, v: dict[str, Any]) -> Table:
        return cls(v["name"], tuple(v["columns"]), tuple(v["key"]), v["ddl"], v["kind"], v["implicit_key"])


@dataclass(frozen=True)
class Schema:
    """A database's tables and, in the order in which they can be made, its other objects as (kind, name, DDL).

    ``settings`` are those of the database itself that a restore gives back; ``not_kept`` names what cannot be.
    """

    engine: str
    version: str
    tables: tuple[Table, ...]
    objects: tuple[tuple[str, str, str], ...] = ()
    settings: dict[str, Value] = field(default_factory=dict)
    not_kept: tuple[str, ...] = ()

    def table(self, name: str) -> Table | None:
        return next((t for t in self.tables if t.name == name), None)

    def as_json(self) -> dict[str, Any]:
        return {
            "engine": self.engine, "version": self.version, "tables": [t.as_json() for t in self.tables],
            "objects": [list(o) for o in self.objects], "settings": self.settings, "not_kept": list(self.not_kept),
        }  # fmt: skip

    @classmethod
    def from_json(cls, v: dict[str, Any]) -> Schema:
        return cls(
            v["engine"], v["version"], tuple(Table.from_json(t) for t in v["tables"]),
            tuple((o[0], o[1], o[2]) for o in v["objects"]), v["settings"], tuple(v["not_kept"]),
        )  # fmt: skip

    def definitions(self) -> dict[str, str]:
        """The DDL of everything by ``kind name``, for comparing two schemas."""
        found = {f"table {t.name}": t.ddl for t in self.tables if t.kind != "internal"}
        return found | {f"{kind} {name}": ddl for kind, name, ddl in self.objects}


class DatabaseState(Protocol):
    """A database as it stood at one instant: in the store, or within one read transaction."""

    @property
    def schema(self) -> Schema: ...

    def rows(self, table: str) -> Iterator[Row]:
        """The rows of ``table`` in key order, values in the order of its columns."""

    def chunk_ids(self, table: str) -> Sequence[str] | None:
        """Ids of the stored pieces that hold the rows; None for a state that is not stored."""


class DatabaseWriter(Protocol):
    """Changes within one transaction: all of them are there after the block, or none."""

    def replace(self, state: DatabaseState) -> None:
        """Make the database hold exactly ``state``: what it held before goes."""

    def insert(self, table: str, columns: Sequence[str], row: Sequence[Value]) -> str | None:
        """Add one row; returns the engine's words when a key or a constraint refuses it, None when it is in."""

    def update(self, table: str, key: dict[str, Value], values: dict[str, Value]) -> int:
        """Change the rows with that key; returns how many."""

    def script(self, sql: str) -> int:
        """Run SQL statements; returns how many rows they changed."""


class Database(Protocol):
    """One database of a site."""

    place: DatabasePlace

    def exists(self) -> bool: ...

    def version(self) -> str:
        """The engine's version."""

    def reading(self) -> contextlib.AbstractContextManager[DatabaseState]:
        """A consistent state for the time of the block; raises `UsageError` when there is no such database."""

    def writing(self) -> contextlib.AbstractContextManager[DatabaseWriter]:
        """One transaction; a database that does not exist yet is made."""

    def files(self) -> Iterable[Path]:
        """The files that the engine keeps for this database (they are not part of the tree)."""
