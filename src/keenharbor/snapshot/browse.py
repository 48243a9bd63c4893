"""Looking into a snapshot: its paths, its rows, a file's content."""

from __future__ import annotations

from typing import BinaryIO

from keenharbor.base.errors import UsageError
from keenharbor.database import Row
from keenharbor.snapshot.manifest import Snapshot
from keenharbor.tree import Entry


def paths_in(snapshot: Snapshot, below: str, text: str | None) -> list[Entry]:
    """The entries at and below a path (all for an empty one) whose path holds ``text``. Raises `UsageError` for
    none."""
    if below and below not in snapshot.entries:
        raise UsageError(
            f"the snapshot has no path '{below}'", advice=f"keenharbor snapshot show {snapshot.id} --paths"
        )
    found = [e for e in snapshot.entries.values() if not below or e.path == below or e.path.startswith(below + "/")]
    return sorted((e for e in found if text is None or text in e.path), key=lambda e: e.path)


def rows_in(snapshot: Snapshot, table: str, text: str | None, limit: int) -> tuple[tuple[str, ...], list[Row]]:
    """A table's columns and its first rows of which a value holds ``text``; no more is read than needed."""
    facts = snapshot.state.schema.table(table)
    if facts is None:
        raise UsageError(
            f"the snapshot has no table '{table}'", advice=f"keenharbor snapshot show {snapshot.id} --tables"
        )
    rows: list[Row] = []
    for row in snapshot.state.rows(table):
        if text is None or any(text in v for v in map(str, row)):
            rows.append(row)
            if len(rows) == limit:
                break
    return facts.columns, rows


def write_content(snapshot: Snapshot, path: str, out: BinaryIO) -> None:
    """Write a file's content to ``out``. Raises `UsageError` when the snapshot has no such file."""
    entry = snapshot.entries.get(path)
    if entry is None or entry.kind != "file":
        raise UsageError(f"the snapshot has no file '{path}'", advice=f"keenharbor snapshot show {snapshot.id} --paths")
    for identity in entry.objects:
        out.write(snapshot.store.read(identity))
    out.flush()
