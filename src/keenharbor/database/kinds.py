"""What is known of each engine without opening anything: one row an engine. No module outside `keenharbor.database`
names one."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass


def _as_it_is(ddl: str) -> str:
    return ddl


@dataclass(frozen=True)
class EngineKind:
    """An engine's names and habits.

    ``made_by`` is the class in the module of its name; ``schemes`` are those of URLs; ``words`` parts of the names of
    drivers and adapters that speak to it, ``short_words`` whole ones. A database is a file where ``magic``, its first
    bytes, is said. Of servers: the usual ``port``; ``socket_name``, the name of its socket where clients name the
    folder alone, with ``{}`` for the port; ``socket_words`` by which a socket's path is known; ``first_database``, one
    that every server has. ``client`` puts SQL text ``{}`` into an empty database by hand; ``own_types`` says that each
    value has a type of its own; ``settle`` writes a definition as the engine does once it has read its own words."""

    name: str
    made_by: str
    client: str
    schemes: tuple[str, ...] = ()
    words: tuple[str, ...] = ()
    short_words: tuple[str, ...] = ()
    magic: bytes = b""
    port: int = 0
    socket_name: str = ""
    socket_words: tuple[str, ...] = ()
    first_database: str = ""
    own_types: bool = False
    settle: Callable[[str], str] = _as_it_is

    @property
    def is_file(self) -> bool:
        return bool(self.magic)

    @property
    def on_server(self) -> bool:
        return self.port > 0


_ARRAY_CAST = re.compile(r"\(ARRAY\[((?:[^\[\]']|'(?:[^']|'')*')*)\]\)::(text|character varying)\[\]")
_ELEMENT = re.compile(r"'(?:[^']|'')*'::[a-z ]+(?:\(\d+\))?")


def _settled(ddl: str) -> str:
    """A list of texts that was cast as a whole (``status IN ('a', 'b')`` over ``varchar``) is written with a cast for
    each the next time, and means the same."""

    def spread(found: re.Match[str]) -> str:
        elements = _ELEMENT.findall(found[1])
        if ", ".join(elements) != found[1]:
            return found[0]
        return f"ARRAY[{', '.join(f'({e})::{found[2]}' for e in elements)}]"

    return _ARRAY_CAST.sub(spread, ddl)


SQLITE = EngineKind(
    "sqlite", "SqliteDatabase", "sqlite3 NEW.db < {}", ("sqlite",), ("sqlite",), magic=b"SQLite format 3\0",
    own_types=True,
)  # fmt: skip
MARIADB = EngineKind(
    "mariadb", "MariadbDatabase", "mariadb --default-character-set=utf8mb4 NEW_DATABASE < {}", ("mariadb", "mysql"),
    ("mariadb", "mysql"), port=3306, socket_words=("mysql", "maria"), first_database="mysql",
)  # fmt: skip
POSTGRES = EngineKind(
    "postgres", "PostgresDatabase", "psql -v ON_ERROR_STOP=1 -1 -d NEW_DATABASE -f {}", ("postgres", "postgresql"),
    ("postgres", "pgsql", "psycopg", "pg8000", "asyncpg"), ("pg", "psql"), port=5432, socket_name=".s.PGSQL.{}",
    socket_words=("PGSQL", "postgres"), first_database="postgres", settle=_settled,
)  # fmt: skip
NO_ENGINE = "none"
"""The engine of a site without a database."""
NONE = EngineKind(NO_ENGINE, "NoDatabase", "(the site has no database: there is nothing to do)")

KINDS = {k.name: k for k in (SQLITE, MARIADB, POSTGRES, NONE)}
SCHEMES = {s: k.name for k in KINDS.values() for s in k.schemes}


def kind_of(engine: str) -> EngineKind:
    """The engine of that name; one that is not known has no habits."""
    return KINDS.get(engine) or EngineKind(engine, "", "")


def engine_of(text: str) -> str | None:
    """The engine that a driver's, adapter's or back end's name speaks of; None when it is none of those that are
    known."""
    word = text.strip().lower()
    if word in SCHEMES:
        return SCHEMES[word]
    if exact := next((k.name for k in KINDS.values() if word in k.short_words), None):
        return exact
    return next((k.name for k in KINDS.values() for part in k.words if part in word and len(word) < 80), None)
