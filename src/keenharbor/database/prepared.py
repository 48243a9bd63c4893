"""A database made beforehand, beside the one that is to hold it.

Of an engine whose databases are files, one with other definitions is made in a file of its own while the site is
served; then its pages are copied over the site's in one transaction (SQLite, "Online Backup API"). That takes the time
of reading a file, and not that of making tables and indexes. Servers hold what they have alike, and are given the
rest."""

from __future__ import annotations

import contextlib
import secrets
from collections.abc import Iterator
from pathlib import Path

from keenharbor.database.engines import open_database
from keenharbor.database.protocol import DatabasePlace, DatabaseState, DatabaseWriter, Schema
from keenharbor.database.sqlite import build_file, copy_pages


@contextlib.contextmanager
def prepared(place: DatabasePlace, now: Schema, state: DatabaseState, folder: Path) -> Iterator[Path | None]:
    """A file in ``folder`` that holds ``state``, for the time of the block; None where the engine has no use for one,
    or where the file is on another machine, or the definitions are those that are there ``now``, so that only rows are
    written that differ."""
    wanted = state.schema
    if (
        not place.kind.is_file
        or place.through is not None
        or (now.definitions(), now.tables) == (wanted.definitions(), wanted.tables)
    ):
        yield None
        return
    file = folder / f".prepared-{secrets.token_hex(4)}.part"
    try:
        build_file(file, state, place.file)
        yield file
    finally:
        for made in (file, file.with_name(f"{file.name}-journal")):
            with contextlib.suppress(OSError):  # what was done with it is done; `settle` removes what is left
                made.unlink(missing_ok=True)


@contextlib.contextmanager
def holding(
    place: DatabasePlace, state: DatabaseState, known: DatabaseState | None, file: Path | None
) -> Iterator[DatabaseWriter]:
    """Make the database at ``place`` hold ``state``, with what is written within the block on top of it; ``file`` holds
    it already. ``known`` is what the database held a moment ago."""
    if file is None:
        with open_database(place).writing() as writer:
            writer.replace(state, known)
            yield writer
        return
    with open_database(DatabasePlace(place.engine, file)).writing() as writer:
        yield writer
    copy_pages(file, place.file)
