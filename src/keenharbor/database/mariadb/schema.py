"""How a MariaDB database is made, as DDL in the order in which it can be made again."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

from keenharbor.database.kinds import MARIADB
from keenharbor.database.mariadb.wire import Query, literal_of, text_of
from keenharbor.database.protocol import (
    ColumnKind,
    Definition,
    Schema,
    Table,
    Value,
)
from keenharbor.database.words import back_quoted as quote

_SETTLED_SECONDS = 2
"""A table's time of its last change has whole seconds: a later change must not be able to bear the same."""


_INTEGERS = {"tinyint", "smallint", "mediumint", "int", "bigint", "year"}


_BYTES = {
    "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob", "geometry", "point", "linestring", "polygon",
    "multipoint", "multilinestring", "multipolygon", "geometrycollection", "vector",
}  # fmt: skip


_TEXT_SETS = {"utf8mb4", "utf8mb3", "utf8", "latin1", "ascii", "ucs2", "utf16", "utf16le", "utf32"}
"""Character sets that Unicode maps one to one; text in others is kept as its bytes."""


_PLAIN_TEXT = {"decimal", "date", "time", "datetime", "timestamp"}


_TRANSACTIONAL = {"InnoDB", "RocksDB", "TokuDB"}


_COUNTER = re.compile(r"^(\) ENGINE=\S+) AUTO_INCREMENT=\d+", re.MULTILINE)


_DEFINER = re.compile(r" DEFINER=(`(?:[^`]|``)*`@`(?:[^`]|``)*`|\S+)")


def read_schema(query: Query, began: int = 0) -> tuple[Schema, dict[str, str]]:
    """The schema of the connection's database, and a mark for each table that has not changed just now."""
    return _Reader(query, began).read()


class _Reader:
    """Reads everything that is defined in a database; what it cannot give back it names."""

    def __init__(self, query: Query, began: int) -> None:
        self._query, self._began = query, began
        self._user, self._database = (text_of(v) for v in query("SELECT CURRENT_USER(), DATABASE()")[0])
        self._tables: list[Table] = []
        self._objects: list[Definition] = []
        self._not_kept: list[str] = []
        self._definers: dict[str, str] = {}
        self._counters: dict[str, list[int]] = {}
        self._marks: dict[str, str] = {}

    def read(self) -> tuple[Schema, dict[str, str]]:
        version = text_of(self._query("SELECT VERSION()")[0][0])
        self._read_views(self._read_tables())
        self._read_routines()
        settings = self._settings()
        schema = Schema(
            MARIADB.name,
            version,
            tuple(self._tables),
            tuple(self._objects),
            settings,
            tuple(self._not_kept),
            self._counters,
        )
        return schema, self._marks

    def _made(self, kind: str, name: str, ddl: Any, before: str = "") -> None:
        if ddl is None:
            self._not_kept.append(f"{kind} {name} (the right to see its definition is missing)")
            return
        text = text_of(ddl)
        head, body = text[:2000], text[2000:]
        found = _DEFINER.search(head)
        if found is not None:
            if found[1].replace("`", "") != self._user:
                self._definers[f"{kind} {name}"] = found[1]
            head = head[: found.start()] + head[found.end() :]
        self._objects.append(Definition(kind, name, before + head + body))

    def _read_tables(self) -> list[str]:
        """Tables and sequences; the names of the views."""
        columns = _columns(self._query)
        keys = _keys(self._query, columns)
        views: list[str] = []
        for raw_name, raw_type, engine, counter, updated, created in self._query(
            "SELECT table_name, table_type, engine, auto_increment, UNIX_TIMESTAMP(update_time), "
            "UNIX_TIMESTAMP(create_time) "
            "FROM information_schema.tables WHERE table_schema = DATABASE() ORDER BY table_name"
        ):
            name, kind = text_of(raw_name), text_of(raw_type)
            if kind == "VIEW":
                views.append(name)
            elif kind == "SEQUENCE":
                self._sequence(name)
            elif kind in ("BASE TABLE", "SYSTEM VERSIONED"):
                ddl = self._table_ddl(name)
                self._tables.append(_table(name, ddl, columns[name], keys.get(name)))
                if counter is not None:
                    self._counters[f"table {name}"] = [int(counter)]
                if kind == "SYSTEM VERSIONED":
                    self._not_kept.append(f"earlier versions of the rows of table {name}")
                if text_of(engine) not in _TRANSACTIONAL:
                    self._not_kept.append(
                        f"one instant for table {name}: its engine {text_of(engine)} has no transactions"
                    )
                if updated is not None and float(updated) < self._began - _SETTLED_SECONDS:
                    self._marks[name] = f"{text_of(updated)} {text_of(created)}"
        return views

    def _table_ddl(self, name: str) -> str:
        ddl = _COUNTER.sub(r"\1", text_of(self._query(f"SHOW CREATE TABLE {quote(name)}")[0][1]))
        return ddl.replace(f"val({quote(self._database)}.`", "val(`")  # a default that counts on with a sequence

    def _sequence(self, name: str) -> None:
        as_table = self._query(f"SHOW CREATE TABLE {quote(name)}")[0][1]
        self._made("sequence", name, as_table)
        if self._objects and self._objects[-1][:2] == ("sequence", name):
            ddl = re.sub(r"^CREATE TABLE ", "CREATE SEQUENCE ", self._objects.pop().ddl)
            self._objects.append(Definition("sequence", name, _sequence_ddl(self._query, name, ddl)))
        ((following,),) = self._query(f"SELECT next_not_cached_value FROM {quote(name)}")
        self._counters[f"sequence {name}"] = [int(following)]

    def _read_views(self, views: Sequence[str]) -> None:
        shown = {name: self._query(f"SHOW CREATE VIEW {quote(name)}")[0][1] for name in views}
        for name in _views_in_order({n: "" if d is None else text_of(d) for n, d in shown.items()}):
            self._made("view", name, shown[name])

    def _read_routines(self) -> None:
        for raw_name, raw_kind in self._query(
            "SELECT routine_name, routine_type FROM information_schema.routines WHERE routine_schema = DATABASE() "
            "ORDER BY routine_type, routine_name"
        ):
            name, kind = text_of(raw_name), text_of(raw_kind)
            if kind not in ("FUNCTION", "PROCEDURE"):
                self._not_kept.append(f"{kind.lower()} {name}")
                continue
            _, mode, ddl, _, collation, *_ = self._query(f"SHOW CREATE {kind} {quote(name)}")[0]
            self._made(kind.lower(), name, ddl, _session(mode, collation))
        for (raw_name,) in self._query(
            "SELECT trigger_name FROM information_schema.triggers WHERE trigger_schema = DATABASE() "
            "ORDER BY event_object_table, action_timing, event_manipulation, action_order"
        ):
            name = text_of(raw_name)
            _, mode, ddl, _, collation, *_ = self._query(f"SHOW CREATE TRIGGER {quote(name)}")[0]
            self._made("trigger", name, ddl, _session(mode, collation))
        for (raw_name,) in self._query(
            "SELECT event_name FROM information_schema.events WHERE event_schema = DATABASE() ORDER BY event_name"
        ):
            name = text_of(raw_name)
            _, mode, zone, ddl, _, collation, *_ = self._query(f"SHOW CREATE EVENT {quote(name)}")[0]
            self._made("event", name, ddl, _session(mode, collation, zone))

    def _settings(self) -> dict[str, Value]:
        charset, collation = self._query(
            "SELECT default_character_set_name, default_collation_name FROM information_schema.schemata "
            "WHERE schema_name = DATABASE()"
        )[0]
        settings: dict[str, Value] = {"charset": text_of(charset), "collation": text_of(collation)}
        if self._definers:
            settings["definers"] = json.dumps(self._definers, sort_keys=True)
            accounts = ", ".join(sorted({d.replace("`", "") for d in self._definers.values()}))
            self._not_kept.append(f"the definer ({accounts}) of views and routines, where that account does not exist")
        return settings


def _views_in_order(ddl: dict[str, str]) -> Iterator[str]:
    """Views so that one comes behind those that it is made of."""
    waiting = dict(ddl)
    while waiting:
        ready = [n for n, d in waiting.items() if not any(quote(o) in d for o in waiting if o != n)]
        for name in ready or list(waiting):
            yield name
            del waiting[name]


def _session(sql_mode: Any, collation: Any, time_zone: Any = None) -> str:
    """The settings under which a routine was made and runs, as a first line of its DDL."""
    zone = f", time_zone = {literal_of(text_of(time_zone))}" if time_zone is not None else ""
    return (
        f"SET sql_mode = {literal_of(text_of(sql_mode))}, collation_connection = "
        f"{literal_of(text_of(collation))}{zone};\n"
    )


def _sequence_ddl(query: Query, name: str, ddl: str) -> str:
    shown = query(f"SHOW CREATE SEQUENCE {quote(name)}")
    return text_of(shown[0][1]) if shown else ddl


class _Column(NamedTuple):
    """A stored column: its kind, the way of reading it, and whether it may be null."""

    name: str
    kind: ColumnKind
    read_as: str
    nullable: bool


def _columns(query: Query) -> dict[str, list[_Column]]:
    """By table."""
    found: dict[str, list[_Column]] = {}
    for table, column, data_type, charset, extra, nullable in query(
        "SELECT table_name, column_name, data_type, character_set_name, extra, is_nullable FROM "
        "information_schema.columns "
        "WHERE table_schema = DATABASE() ORDER BY table_name, ordinal_position"
    ):
        listed = found.setdefault(text_of(table), [])
        if "GENERATED" in text_of(extra).replace("DEFAULT_GENERATED", ""):
            continue
        kind, how = _kind(text_of(data_type).lower(), None if charset is None else text_of(charset))
        listed.append(_Column(text_of(column), kind, how, text_of(nullable) == "YES"))
    return found


def _kind(data_type: str, charset: str | None) -> tuple[ColumnKind, str]:
    if data_type in _INTEGERS:
        return "int", ""
    if data_type == "bit":
        return "int", "bit"
    if data_type in ("float", "double"):
        return "float", "double" if data_type == "float" else ""
    if data_type in _BYTES:
        return "bytes", "hex"
    if charset is not None and charset not in _TEXT_SETS:
        return "bytes", f"hex {charset}"
    if charset is None:  # numbers and dates as text, and types of their own
        return "text", "" if data_type in _PLAIN_TEXT else "cast"
    return "text", "" if charset.startswith("utf8") or charset == "ascii" else "converted"


def _keys(query: Query, columns: dict[str, list[_Column]]) -> dict[str, tuple[str, ...]]:
    """By table: the columns that tell rows apart, of the primary key or else of a unique one without nulls."""
    indexes: dict[str, dict[str, list[tuple[str, bool]]]] = {}
    for table, index, column, part in query(
        "SELECT table_name, index_name, column_name, sub_part FROM information_schema.statistics "
        "WHERE table_schema = DATABASE() AND non_unique = 0 AND index_type <> 'HASH' "
        "ORDER BY table_name, index_name = 'PRIMARY' DESC, index_name, seq_in_index"
    ):
        name = "" if column is None else text_of(column)
        indexes.setdefault(text_of(table), {}).setdefault(text_of(index), []).append((name, part is None))
    found: dict[str, tuple[str, ...]] = {}
    for table_name, by_index in indexes.items():
        filled = {c.name for c in columns.get(table_name, ()) if not c.nullable}
        for parts in by_index.values():
            if all(whole and c in filled for c, whole in parts):
                found[table_name] = tuple(c for c, _ in parts)
                break
    return found


def _table(name: str, ddl: str, columns: list[_Column], key: tuple[str, ...] | None) -> Table:
    key = key or tuple(c.name for c in columns)
    order = sorted(columns, key=lambda c: key.index(c.name) if c.name in key else len(key))
    return Table(
        name, tuple(c.name for c in order), key, ddl, kinds=tuple(c.kind for c in order),
        read_as=tuple(c.read_as for c in order),
        row_format="copy",
    )  # fmt: skip
