"""What every database engine offers to the rest of the tool."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, NamedTuple, Protocol
from urllib.parse import parse_qs, quote, unquote, urlsplit

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.database.kinds import NO_ENGINE, SCHEMES, EngineKind, kind_of

if TYPE_CHECKING:
    from keenharbor.host.sqlitefile import SqliteFiles

Value = None | int | float | str | bytes
Row = tuple[Value, ...]
TableKind = Literal["table", "virtual", "shadow", "internal"]
RowFormat = Literal["json", "copy"]
ColumnKind = Literal["any", "int", "float", "text", "bytes", "bool"]
"""How a stored value is read: ``any`` says it itself (JSON); decimals, dates and the like are kept as the engine's
text."""

NO_DATABASE = f"{NO_ENGINE}:"
"""The URL of a site without a database."""


@dataclass(frozen=True)
class DatabasePlace:
    """Where a database is: the engine and a file, or a server (``host`` and ``port``, or ``socket``), name and user.

    The password is held for connecting and shown nowhere: not in `str`, not in `repr`.
    """

    engine: str
    path: Path | None = None
    host: str = ""
    port: int = 0
    socket: str = ""
    name: str = ""
    user: str = ""
    password: str = field(default="", repr=False)
    through: SqliteFiles | None = field(default=None, repr=False, compare=False)
    """How a file is opened that is on another machine."""

    @property
    def kind(self) -> EngineKind:
        """What is known of its engine."""
        return kind_of(self.engine)

    def __str__(self) -> str:
        if self.engine == NO_ENGINE:
            return "no database"
        if self.path is not None:
            return f"{self.engine}:{self.path}"
        server = self.socket or (f"{self.host}:{self.port}" if self.port else self.host)
        return f"{self.engine}:{self.name} at {server}"

    @property
    def file(self) -> Path:
        """The file of a database that is one. Raises `UsageError` for one on a server."""
        if self.path is None:
            raise UsageError(f"{self} is not a file")
        return self.path

    @property
    def on_server(self) -> bool:
        """Whether it is on a database server (and not a file, or none at all)."""
        return self.path is None and self.engine != NO_ENGINE

    @property
    def marks(self) -> tuple[str, ...]:
        """What would lead a program to this database if it stood in its settings."""
        if self.path is not None:
            return (str(self.path),)
        return tuple(m for m in (self.socket, f"{self.host}:{self.port}" if self.port else "") if m)

    def is_same_as(self, other: DatabasePlace) -> bool:
        """Whether both lead to one database, whoever asks for it."""
        if self.engine != other.engine:
            return False
        if self.path is not None and other.path is not None:
            return self.path.resolve() == other.path.resolve()
        return self._server == other._server and self.name == other.name

    @property
    def _server(self) -> tuple[str, ...]:
        if self.socket:
            return ("socket", str(Path(self.socket).resolve()))
        host = self.host.lower()
        here = host in ("", "localhost", "127.0.0.1", "::1")
        return ("here" if here else host, str(self.asked_port))

    @property
    def asked_port(self) -> int:
        """The port, the engine's usual one where none is said."""
        return self.port or self.kind.port

    def with_name(self, name: str) -> DatabasePlace:
        """Another database on the same server."""
        return replace(self, name=name)

    @classmethod
    def from_url(cls, url: str, password: str = "") -> DatabasePlace:
        """From ``sqlite:///FILE``, ``mariadb://USER@HOST:PORT/NAME`` or ``postgres://USER@/NAME?socket=PATH``.

        A password in the URL is taken, ``password`` where there is none. Raises `UsageError` for anything else.
        """
        if url == NO_DATABASE:
            return cls(NO_ENGINE)
        try:
            parts = urlsplit(url)
            port = parts.port or 0
        except ValueError as error:
            raise UsageError(f"this is no database URL: {error}", advice=URL_ADVICE) from None
        engine = SCHEMES.get(parts.scheme)
        if engine is None:
            raise UsageError(f"database engine '{parts.scheme}' is not known", advice=URL_ADVICE)
        path = unquote(parts.path)
        if kind_of(engine).is_file:
            if len(path) < 2:
                raise UsageError("the database URL names no file", advice=URL_ADVICE)
            return cls(engine, Path(path))
        options = parse_qs(parts.query)
        if strange := sorted(options.keys() - {"socket"}):
            raise UsageError(f"the database URL has an option that is not known: {strange[0]}", advice=URL_ADVICE)
        name = path.lstrip("/")
        if not name:
            raise UsageError("the database URL names no database", advice=URL_ADVICE)
        return cls(
            engine, None, unquote(parts.hostname or ("" if "socket" in options else "localhost")), port,
            options.get("socket", [""])[0], name, unquote(parts.username or ""),
            unquote(parts.password or "") or password,
        )  # fmt: skip

    @property
    def url(self) -> str:
        """The place as a URL, without the password."""
        if self.engine == NO_ENGINE:
            return NO_DATABASE
        if self.path is not None:
            return f"{self.engine}://{quote(str(self.path))}"
        user = f"{quote(self.user, safe='')}@" if self.user else ""
        port = f":{self.port}" if self.port else ""
        socket = f"?socket={quote(self.socket)}" if self.socket else ""
        return f"{self.engine}://{user}{self.host}{port}/{quote(self.name, safe='')}{socket}"


URL_ADVICE = (
    "sqlite:///FILE, mariadb://USER@HOST:PORT/NAME or postgres://USER@HOST:PORT/NAME (?socket=PATH for a socket)"
)


@dataclass(frozen=True)
class Table:
    """A table's make-up. ``columns`` are those whose values are stored, the key's first; ``key`` those that tell rows
    apart (all of them where the table has none); ``kinds`` how each stored value is read.

    ``implicit_key`` says that the first column is the engine's own row number, since the table declares no key.
    ``virtual`` tables are made by their DDL, ``shadow`` tables come with them and are only filled, ``internal``
    tables belong to the engine (counters). ``read_as`` is the engine's note on how each column is read and written.
    """

    name: str
    columns: tuple[str, ...]
    key: tuple[str, ...]
    ddl: str
    kind: TableKind = "table"
    implicit_key: bool = False
    kinds: tuple[ColumnKind, ...] = ()
    read_as: tuple[str, ...] = ()
    namespace: str = ""
    row_format: RowFormat = "json"

    @property
    def key_positions(self) -> tuple[int, ...]:
        return tuple(self.columns.index(k) for k in self.key)

    @property
    def keyless(self) -> bool:
        """Whether only whole rows tell rows apart, so that the same row may be there twice."""
        return self.kind == "table" and self.key == self.columns and not self.implicit_key and self.row_format == "copy"

    @property
    def bare_name(self) -> str:
        """The name within its namespace."""
        return self.name.removeprefix(f"{self.namespace}.") if self.namespace else self.name

    def as_json(self) -> dict[str, object]:
        return {
            "name": self.name, "columns": list(self.columns), "key": list(self.key), "ddl": self.ddl,
            "kind": self.kind, "implicit_key": self.implicit_key, "kinds": list(self.kinds),
            "read_as": list(self.read_as), "namespace": self.namespace, "row_format": self.row_format,
        }  # fmt: skip

    @classmethod
    def from_json(cls, v: dict[str, Any]) -> Table:
        return cls(
            v["name"], tuple(v["columns"]), tuple(v["key"]), v["ddl"], v["kind"], v["implicit_key"],
            tuple(v.get("kinds", ())), tuple(v.get("read_as", ())), v.get("namespace", ""), v.get("row_format", "json"),
        )  # fmt: skip


_OF_THE_SERVER = frozenset(("owners", "rights", "options", "definers", "charset", "collation"))


class Definition(NamedTuple):
    """Something beside tables that is defined in a database."""

    kind: str
    name: str
    ddl: str


@dataclass(frozen=True)
class Schema:
    """A database's tables and, in the order in which they can be made, its other objects.

    ``settings`` are those of the database itself that a restore gives back; ``counters`` where numbering goes on, by
    sequence or table (data, not part of the definitions); ``not_kept`` names what cannot be.
    """

    engine: str
    version: str
    tables: tuple[Table, ...]
    objects: tuple[Definition, ...] = ()
    settings: dict[str, Value] = field(default_factory=dict)
    not_kept: tuple[str, ...] = ()
    counters: dict[str, list[int]] = field(default_factory=dict)

    @property
    def kind(self) -> EngineKind:
        """What is known of its engine."""
        return kind_of(self.engine)

    def table(self, name: str) -> Table | None:
        return next((t for t in self.tables if t.name == name), None)

    def as_json(self) -> dict[str, object]:
        return {
            "engine": self.engine, "version": self.version, "tables": [t.as_json() for t in self.tables],
            "objects": [list(o) for o in self.objects], "settings": self.settings, "not_kept": list(self.not_kept),
            "counters": self.counters,
        }  # fmt: skip

    @classmethod
    def from_json(cls, v: dict[str, Any]) -> Schema:
        return cls(
            v["engine"], v["version"], tuple(Table.from_json(t) for t in v["tables"]),
            tuple(Definition(*o) for o in v["objects"]), v["settings"], tuple(v["not_kept"]), v.get("counters", {}),
        )  # fmt: skip

    def as_on(self, other: Schema) -> Schema:
        """With what belongs to the server that ``other`` is on: owners, rights, options, how text is stored."""
        own = {k: v for k, v in self.settings.items() if k not in _OF_THE_SERVER}
        return replace(self, settings=own | {k: v for k, v in other.settings.items() if k in _OF_THE_SERVER})

    def definitions(self) -> dict[str, str]:
        """The DDL of everything by ``kind name``, for comparing two schemas."""
        found = {f"table {t.name}": t.ddl for t in self.tables if t.kind != "internal"}
        found |= {f"{kind} {name}": ddl for kind, name, ddl in self.objects}
        return {n: self.kind.settle(ddl) for n, ddl in found.items()}

    def settled(self) -> tuple[tuple[Table, ...], tuple[Definition, ...]]:
        """Tables and objects with what the engine makes of its own words, to tell whether two schemas are alike in
        order, too."""
        settle = self.kind.settle
        return (
            tuple(replace(t, ddl=settle(t.ddl)) for t in self.tables),
            tuple(Definition(kind, name, settle(ddl)) for kind, name, ddl in self.objects),
        )


@dataclass(frozen=True)
class Block:
    """Encoded rows, whole lines in key order; ``keys`` their encoded keys, a line each, where the lines do not show
    them.

    They do in copy text, and in JSON where the key is one whole number.
    """

    lines: bytes
    keys: bytes | None = None


class NotSharedError(KeenHarborError):
    """Another process does not get at a state that this one sees."""


class DatabaseState(Protocol):
    """A database as it stood at one instant: in the store, or within one read transaction."""

    @property
    def schema(self) -> Schema: ...

    def rows(self, table: str) -> Iterator[Row]:
        """The rows of ``table`` in key order, values in the order of its columns."""

    def blocks(self, table: str) -> Iterator[Block]:
        """The same rows as they are stored."""

    def parts(self, table: str, count: int) -> Sequence[Callable[[], Iterator[Block]]]:
        """Up to ``count`` ranges that make up the rows, each read by a process of its own, forked from this one while
        the state lasts; a range raises `NotSharedError` before its first block when that process does not get at the
        same state. Empty for a table that is small, or that the engine cannot read so."""

    def mark(self, table: str) -> str | None:
        """What `unchanged_since` needs to know later of the table as it is now; None where the engine cannot tell."""

    def unchanged_since(self, table: str, mark: str, rows: int) -> bool:
        """Whether the table's rows are surely those that it had at the time of ``mark``, when there were ``rows``."""

    def chunk_ids(self, table: str) -> Sequence[str] | None:
        """Ids of the stored pieces that hold the rows; None for a state that is not stored."""


class DatabaseWriter(Protocol):
    """Changes within one transaction: all of them are there after the block, or none.

    The exception is MariaDB, whose DDL ends a transaction: `replace` by a state with other definitions can be repeated
    after an interruption, but is not undone by one.
    """

    def replace(self, state: DatabaseState, known: DatabaseState | None = None) -> int:
        """Make the database hold exactly ``state``: what it held before goes. Only what differs is written where the
        definitions are the same. What was not written since it was ``known`` is read from there. Returns how many rows
        were written or removed."""

    def put_rows(self, state: DatabaseState, tables: Collection[str], known: DatabaseState | None = None) -> int:
        """Make single tables hold the rows of ``state``; returns how many were written or removed. Raises `UsageError`
        when one is made otherwise than in ``state``."""

    def insert(self, table: str, columns: Sequence[str], row: Sequence[Value]) -> str | None:
        """Add one row; returns the engine's words when a key or a constraint refuses it, None when it is in."""

    def update(self, table: str, key: dict[str, Value], values: dict[str, Value]) -> int:
        """Change the rows with that key; returns how many."""

    def script(self, sql: str) -> int:
        """Run SQL statements; returns how many rows they changed."""

    def merging(self) -> contextlib.AbstractContextManager[None]:
        """A block in which neither triggers nor foreign keys act on rows; keys, unique and check constraints do."""

    def change(self, table: str, key: Mapping[str, Value], values: Mapping[str, Value]) -> str | None:
        """Set cells of the row with that key; the engine's words when a constraint refuses it."""

    def delete(self, table: str, key: Mapping[str, Value]) -> int:
        """Remove the rows that hold these values; how many there were."""

    def count(self, table: str, values: Mapping[str, Value]) -> int:
        """How many rows hold these values."""

    def count_on(self, state: DatabaseState) -> None:
        """Give out no number again that was given out in ``state``: counters go on behind its own."""


class Database(Protocol):
    """One database of a site."""

    place: DatabasePlace

    def exists(self) -> bool: ...

    def version(self) -> str:
        """The engine's version."""

    def size(self) -> int:
        """About how many bytes it takes, quickly."""

    def reading(self) -> contextlib.AbstractContextManager[DatabaseState]:
        """A consistent state for the time of the block; raises `UsageError` when there is no such database."""

    def writing(self) -> contextlib.AbstractContextManager[DatabaseWriter]:
        """One transaction; a database that does not exist yet is made."""

    def files(self) -> Iterable[Path]:
        """The files that the engine keeps for this database (they are not part of the tree)."""

    def drop(self) -> None:
        """Remove the database with all that is in it."""

    def lacking(self) -> list[str]:
        """What its user may not do that a snapshot needs, in words."""
