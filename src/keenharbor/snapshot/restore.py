"""Giving back what a snapshot holds, into a folder."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.database import Database, DatabasePlace, StoredState, open_database, table_digest
from keenharbor.snapshot.manifest import Snapshot
from keenharbor.tree import restore_tree


@dataclass(frozen=True)
class GivenBack:
    """What was given back: paths, rows, seconds; where the files and the database are."""

    paths: int
    rows: int
    seconds: float
    files: Path | None
    database: Path | None


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
            if table_digest(written.blocks(table.name)) != table.digest:
                raise DamagedError(
                    f"table {table.name} read back is not what was stored", where=str(database.place),
                    advice="run 'keenharbor snapshot verify'; take another snapshot",
                )  # fmt: skip
    return rows


def give_back(snapshot: Snapshot, target: Path, paths: Sequence[str] = (), *, database: bool = True) -> GivenBack:
    """Restore into the folder ``target``: files below ``target/files``, the database below ``target/database``.

    With ``paths``, only these (and what is below them) and no database. ``target`` must be empty or not exist.
    """
    began = time.monotonic()
    if target.exists() and (not target.is_dir() or any(target.iterdir())):
        raise UsageError(
            "the folder to restore to is not empty",
            where=target,
            advice="name a new folder, so that nothing is overwritten",
        )
    if Path(snapshot.manifest["root"]) in (target.resolve(), *target.resolve().parents):
        raise UsageError("this folder lies inside the live site", where=target, advice="name one outside it")
    wanted = snapshot.entries
    if paths:
        asked = [p.strip("/") for p in paths]
        for path in asked:
            if path not in wanted:
                raise UsageError(
                    f"the snapshot has no path '{path}'",
                    advice=f"'keenharbor snapshot show {snapshot.id} --paths' lists them",
                )
        wanted = {p: e for p, e in wanted.items() if any(p == a or p.startswith(a + "/") for a in asked)}
    files = target / "files"
    restore_tree(files, wanted, {}, snapshot.store.read)
    rows, place = 0, None
    if database and not paths:
        place = target / "database" / Path(snapshot.manifest["database"]["place"].partition(":")[2]).name
        place.parent.mkdir(parents=True)
        rows = restore_state(snapshot.state, open_database(DatabasePlace(snapshot.state.schema.engine, place)))
    return GivenBack(len(wanted), rows, time.monotonic() - began, files, place)
