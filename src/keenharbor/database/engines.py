"""The engines that the tool can read and write: one row here and one module each."""

from __future__ import annotations

from collections.abc import Callable

from keenharbor.base.errors import UsageError
from keenharbor.database.protocol import Database, DatabasePlace
from keenharbor.database.sqlite import SqliteDatabase

ENGINES: dict[str, Callable[[DatabasePlace], Database]] = {"sqlite": SqliteDatabase}


def open_database(place: DatabasePlace) -> Database:
    """The database at ``place``; nothing is opened yet. Raises `UsageError` for an engine that is not known."""
    try:
        make = ENGINES[place.engine]
    except KeyError:
        raise UsageError(
            f"database engine '{place.engine}' is not known",
            advice=f"known engines: {', '.join(sorted(ENGINES))}",
        ) from None
    return make(place)
