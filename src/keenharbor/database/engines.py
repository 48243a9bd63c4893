"""The engines that the tool can read and write: one row here and one module each, loaded when it is used."""

from __future__ import annotations

from importlib import import_module

from keenharbor.base.errors import UsageError
from keenharbor.database.protocol import Database, DatabasePlace

ENGINES = {"sqlite": "SqliteDatabase", "mariadb": "MariadbDatabase", "postgres": "PostgresDatabase"}


def open_database(place: DatabasePlace) -> Database:
    """The database at ``place``; nothing is opened yet. Raises `UsageError` for an engine that is not known."""
    if place.engine not in ENGINES:
        raise UsageError(
            f"database engine '{place.engine}' is not known",
            advice=f"known engines: {', '.join(sorted(ENGINES))}",
        )
    module = import_module(f"keenharbor.database.{place.engine}")
    made: Database = getattr(module, ENGINES[place.engine])(place)
    return made
