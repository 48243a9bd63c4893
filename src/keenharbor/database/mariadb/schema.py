"""How a MariaDB database is made, as DDL in the order in which it can be made again."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from typing import Any

from keenharbor.database.mariadb.wire import Query, literal_of, text_of
from keenharbor.database.protocol import (
    ColumnKind,
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
    version = text_of(query("SELECT VERSION()")[0][0])
    user, database = (text_of(v) for v in query("SELECT CURRENT_USER(), DATABASE()")[0])
    columns = _columns(query)
    keys = _keys(query, columns)
    tables: list[Table] = []
    objects: list[tuple[str, str, str]] = []
    not_kept: list[str] = []
    definers: dict[str, str] = {}
    counters: dict[str, list[Any]] = {}
    marks: dict[str, str] = {}

    def made(kind: str, name: str, ddl: Any, before: str = "") -> None:
        if ddl is None:
            not_kept.append(f"{kind} {name} (the right to see its definition is missing)")
            return
        text = text_of(ddl)
        head, body = text[:2000], text[2000:]
        found = _DEFINER.search(head)
        if found is not None:
            if found[1].replace("`", "") != user:
                definers[f"{kind} {name}"] = found[1]
            head = head[: found.start()] + head[found.end() :]
        objects.append((kind, name, before + head + body))

    listed = query(
        "SELECT table_name, table_type, engine, auto_increment, UNIX_TIMESTAMP(update_time), UNIX_TIMESTAMP(create_time) "
        "FROM information_schema.tables WHERE table_schema = DATABASE() ORDER BY table_name"
    )
    views: list[str] = []
    for raw_name, raw_type, engine, counter, updated, created in listed:
        name, kind = text_of(raw_name), text_of(raw_type)
        if kind == "VIEW":
            views.append(name)
        elif kind == "SEQUENCE":
            made("sequence", name, query(f"SHOW CREATE TABLE {quote(name)}")[0][1])
            ddl = re.sub(r"^CREATE TABLE ", "CREATE SEQUENCE ", objects.pop()[2])
            objects.append(("sequence", name, _sequence_ddl(query, name, ddl)))
            counters[f"sequence {name}"] = [int(query(f"SELECT next_not_cached_value FROM {quote(name)}")[0][0])]
        elif kind in ("BASE TABLE", "SYSTEM VERSIONED"):
            ddl = _COUNTER.sub(r"\1", text_of(query(f"SHOW CREATE TABLE {quote(name)}")[0][1]))
            ddl = ddl.replace(f"val({quote(database)}.`", "val(`")  # a default that counts on with a sequence
            if counter is not None:
                counters[f"table {name}"] = [int(counter)]
            tables.append(_table(name, ddl, columns[name], keys.get(name)))
            if kind == "SYSTEM VERSIONED":
                not_kept.append(f"earlier versions of the rows of table {name}")
            if text_of(engine) not in _TRANSACTIONAL:
                not_kept.append(f"one instant for table {name}: its engine {text_of(engine)} has no transactions")
            if updated is not None and float(updated) < began - _SETTLED_SECONDS:
                marks[name] = f"{text_of(updated)} {text_of(created)}"
    shown_views = {name: query(f"SHOW CREATE VIEW {quote(name)}")[0][1] for name in views}
    for name in _views_in_order({n: "" if d is None else text_of(d) for n, d in shown_views.items()}):
        made("view", name, shown_views[name])
    for raw_name, raw_kind in query(
        "SELECT routine_name, routine_type FROM information_schema.routines WHERE routine_schema = DATABASE() "
        "ORDER BY routine_type, routine_name"
    ):
        name, kind = text_of(raw_name), text_of(raw_kind)
        if kind not in ("FUNCTION", "PROCEDURE"):
            not_kept.append(f"{kind.lower()} {name}")
            continue
        shown = query(f"SHOW CREATE {kind} {quote(name)}")[0]
        made(kind.lower(), name, shown[2], _session(shown[1], shown[4]))
    for (raw_name,) in query(
        "SELECT trigger_name FROM information_schema.triggers WHERE trigger_schema = DATABASE() "
        "ORDER BY event_object_table, action_timing, event_manipulation, action_order"
    ):
        shown = query(f"SHOW CREATE TRIGGER {quote(text_of(raw_name))}")[0]
        made("trigger", text_of(raw_name), shown[2], _session(shown[1], shown[4]))
    for (raw_name,) in query(
        "SELECT event_name FROM information_schema.events WHERE event_schema = DATABASE() ORDER BY event_name"
    ):
        shown = query(f"SHOW CREATE EVENT {quote(text_of(raw_name))}")[0]
        made("event", text_of(raw_name), shown[3], _session(shown[1], shown[5], shown[2]))
    charset, collation = query(
        "SELECT default_character_set_name, default_collation_name FROM information_schema.schemata "
        "WHERE schema_name = DATABASE()"
    )[0]
    settings: dict[str, Value] = {"charset": text_of(charset), "collation": text_of(collation)}
    if definers:
        settings["definers"] = json.dumps(definers, sort_keys=True)
        shown_accounts = ", ".join(sorted({d.replace("`", "") for d in definers.values()}))
        not_kept.append(f"the definer ({shown_accounts}) of views and routines, where that account does not exist")
    schema = Schema("mariadb", version, tuple(tables), tuple(objects), settings, tuple(not_kept), counters)
    return schema, marks


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
    return f"SET sql_mode = {literal_of(text_of(sql_mode))}, collation_connection = {literal_of(text_of(collation))}{zone};\n"


def _sequence_ddl(query: Query, name: str, ddl: str) -> str:
    shown = query(f"SHOW CREATE SEQUENCE {quote(name)}")
    return text_of(shown[0][1]) if shown else ddl


def _columns(query: Query) -> dict[str, list[tuple[str, ColumnKind, str, bool]]]:
    """By table: each stored column's name, kind, way of reading, and whether it may be null."""
    found: dict[str, list[tuple[str, ColumnKind, str, bool]]] = {}
    for table, column, data_type, charset, extra, nullable in query(
        "SELECT table_name, column_name, data_type, character_set_name, extra, is_nullable FROM information_schema.columns "
        "WHERE table_schema = DATABASE() ORDER BY table_name, ordinal_position"
    ):
        listed = found.setdefault(text_of(table), [])
        if "GENERATED" in text_of(extra).replace("DEFAULT_GENERATED", ""):
            continue
        kind, how = _kind(text_of(data_type).lower(), None if charset is None else text_of(charset))
        listed.append((text_of(column), kind, how, text_of(nullable) == "YES"))
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


def _keys(query: Query, columns: dict[str, list[tuple[str, ColumnKind, str, bool]]]) -> dict[str, tuple[str, ...]]:
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
        filled = {c for c, _, _, nullable in columns.get(table_name, ()) if not nullable}
        for parts in by_index.values():
            if all(whole and c in filled for c, whole in parts):
                found[table_name] = tuple(c for c, _ in parts)
                break
    return found


def _table(name: str, ddl: str, columns: list[tuple[str, ColumnKind, str, bool]], key: tuple[str, ...] | None) -> Table:
    key = key or tuple(c[0] for c in columns)
    order = sorted(columns, key=lambda c: key.index(c[0]) if c[0] in key else len(key))
    return Table(
        name, tuple(c[0] for c in order), key, ddl, kinds=tuple(c[1] for c in order), read_as=tuple(c[2] for c in order),
        row_format="copy",
    )  # fmt: skip
