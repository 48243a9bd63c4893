"""Giving back what a snapshot holds: into a folder, into another database, for the place where it was or another."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.database import Database, DatabasePlace, ReadDatabase, StoredState, open_database, sql_text
from keenharbor.database.kinds import NO_ENGINE
from keenharbor.database.rewrite import rewrite_database
from keenharbor.snapshot.manifest import Snapshot
from keenharbor.snapshot.moved import Moved, moved_rewriter, rewrite_files
from keenharbor.snapshot.plaintext import csv_text, file_name
from keenharbor.snapshot.target import Target
from keenharbor.tree import Entry, restore_tree


@dataclass(frozen=True)
class GivenBack:
    """What was given back: paths, rows, seconds; where the files and the database are; how many files and cells were
    rewritten for another address, folder or database; whether the database was ``checked`` by reading it back."""

    paths: int
    rows: int
    seconds: float
    files: str | None
    database: str | None
    rewritten_files: int = 0
    rewritten_cells: int = 0
    checked: bool = False


def restore_state(state: StoredState, database: Database) -> int:
    """Make ``database`` hold ``state``, then read it again and compare every table; returns the rows.

    Raises `DamagedError` when what was written is not what is read back.
    """
    with database.writing() as writer:
        writer.replace(state)
    rows = 0
    with database.reading() as written:
        if (
            written.schema.version == state.schema.version
            and written.schema.definitions() != state.schema.definitions()
        ):
            apart = sorted(set(written.schema.definitions().items()) ^ set(state.schema.definitions().items()))
            raise DamagedError(
                f"{apart[0][0]} read back is not defined as it was stored", where=str(database.place),
                advice="run 'keenharbor snapshot verify'; take another snapshot",
            )  # fmt: skip
        for table in state.tables.values():
            rows += table.row_count
            if not table.holds(written.blocks(table.name)):
                raise DamagedError(
                    f"table {table.name} read back is not what was stored", where=str(database.place),
                    advice="run 'keenharbor snapshot verify'; take another snapshot",
                )  # fmt: skip
    return rows


def give_back(
    snapshot: Snapshot, target: Target | None, chosen: Callable[[Entry], bool] | None = None, *, files: bool = True,
    tables: Sequence[str] = (), database: DatabasePlace | None = None, with_database: bool = True,
    overwrite: bool = False,
    moved: Moved | None = None, live: ReadDatabase | None = None,
) -> GivenBack:  # fmt: skip
    """Restore into the folder ``target``: files below its ``files``, the database below its ``database`` (as a
    file, or as SQL text where it needs a server), ``tables`` as CSV; and into the database at ``database`` where that
    is given.

    ``target`` must be empty or not exist, ``database`` empty, unless ``overwrite`` lets it be replaced. For a site that
    has ``moved``, addresses, folders and the place of the database are rewritten in files and cells. The database at
    ``live`` is never written. Raises `UsageError` for what cannot be, before anything is written."""
    began = time.monotonic()
    if target is not None:
        target.refuse_unless_empty()
        target.refuse_inside(snapshot.manifest.root)
    if database is not None and live is not None and live.is_at(database):
        raise UsageError("this is the live site's database", where=str(database), advice="--live restores over it")
    if snapshot.state.schema.engine == NO_ENGINE and database is None:
        with_database = bool(tables)
    as_text = with_database and database is None and (bool(tables) or not snapshot.state.schema.kind.is_file)
    if moved is not None and as_text:
        raise UsageError(
            "SQL text and CSV are not rewritten for a site that has moved",
            advice="add --database URL to restore into a database, or --no-database",
        )
    wanted = {p: e for p, e in snapshot.entries.items() if chosen is None or chosen(e)}
    new_database = database
    place: str | None = None
    rows = 0
    if database is not None:
        rows = _into_database(snapshot, open_database(database), tables, overwrite)
        place = str(database)
    elif target is not None and with_database and not as_text:
        new_database = target.database_file(snapshot.state.schema.engine, snapshot.database_place.file.name)
        rows = restore_state(snapshot.state, open_database(new_database))
        place = str(new_database.file)
    elif target is not None and with_database:
        place, rows = _as_text(snapshot, target, tables)
    rewritten_files = rewritten_cells = 0
    if target is not None and files:
        restore_tree(target.tree("files"), wanted, {}, snapshot.store.read)
    if moved is not None:
        rewriter = moved_rewriter(snapshot, moved, new_database)
        if target is not None and files:
            counts, _ = rewrite_files(target.tree("files"), wanted.values(), rewriter)
            rewritten_files = len(counts)
        if new_database is not None:
            rewritten_cells = rewrite_database(open_database(new_database), rewriter).cells.total()
    where = target.path("files") if target is not None and files else None
    count = len(wanted) if where is not None else 0
    checked = place is not None and not as_text and not tables
    return GivenBack(count, rows, time.monotonic() - began, where, place, rewritten_files, rewritten_cells, checked)


def _into_database(snapshot: Snapshot, database: Database, tables: Sequence[str], overwrite: bool) -> int:
    schema = snapshot.state.schema
    if database.place.engine != schema.engine:
        raise UsageError(
            f"the snapshot's database is on {schema.engine}, and this one on {database.place.engine}",
            where=str(database.place), advice=f"name a {schema.engine} database",
        )  # fmt: skip
    if tables:
        with database.writing() as writer:
            return writer.put_rows(snapshot.state, tables)
    if database.exists() and not overwrite:
        with database.reading() as now:
            if now.schema.tables:
                raise UsageError(
                    f"there are {len(now.schema.tables)} tables in this database already", where=str(database.place),
                    advice="name an empty one, or add --overwrite to replace all that is in it",
                )  # fmt: skip
    return restore_state(snapshot.state, database)


def _as_text(snapshot: Snapshot, target: Target, tables: Sequence[str]) -> tuple[str, int]:
    """Tables as CSV, or the whole database as SQL text for the engine's own client."""
    state = snapshot.state
    if tables:
        for name in tables:
            target.write(f"{file_name(name)}.csv", csv_text(state, name))
        return target.path("database"), sum(state.tables[n].row_count for n in tables)
    file = f"{snapshot.database_place.name}.sql"
    target.write(file, sql_text(state))
    return target.path("database", file), sum(t.row_count for t in state.tables.values())
