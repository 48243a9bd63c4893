"""Opening a database: its engine's module is loaded when it is used."""

from __future__ import annotations

from collections.abc import Iterator
from importlib import import_module
from types import ModuleType

from keenharbor.base.errors import UsageError
from keenharbor.database.kinds import KINDS, NO_ENGINE
from keenharbor.database.protocol import Database, DatabasePlace
from keenharbor.database.rows import StoredState

ENGINES = tuple(n for n in KINDS if n != NO_ENGINE)
"""The names of those that a site may have."""


def open_database(place: DatabasePlace) -> Database:
    """The database at ``place``; nothing is opened yet. Raises `UsageError` for an engine that is not known."""
    if place.engine not in KINDS:
        raise UsageError(
            f"database engine '{place.engine}' is not known", advice=f"known engines: {', '.join(sorted(ENGINES))}"
        )
    made: Database = getattr(_module(place.engine), place.kind.made_by)(place)
    return made


def sql_text(state: StoredState) -> Iterator[bytes]:
    """A stored database as SQL that its engine's own client takes, for an empty one."""
    text: Iterator[bytes] = _module(state.schema.engine).sql_text(state)
    return text


def _module(engine: str) -> ModuleType:
    return import_module(f"keenharbor.database.{engine}")
