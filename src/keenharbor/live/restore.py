"""Restore over live: everything of a snapshot, or parts of it, with nothing of visitors carried over.

Files are staged beside their places and renamed; rows that differ are written in one transaction. A safety snapshot
comes first, and the journal says what is being given back, so that an interrupted restore is carried on by `settle`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass, field, replace
from typing import Any

from keenharbor.base.errors import UsageError
from keenharbor.base.progress import Progress
from keenharbor.base.text import plural
from keenharbor.database import row_delta
from keenharbor.live.flag import reload_host
from keenharbor.live.guard import changing_live
from keenharbor.live.journal import JournalFacts
from keenharbor.live.putting import differing_tree, put_tree_back, trees_to_put_back
from keenharbor.live.snapshots import newest_whole
from keenharbor.site.view import SiteView
from keenharbor.site.writable import Writable
from keenharbor.snapshot import Snapshot, list_snapshots
from keenharbor.store import Store
from keenharbor.tree import Entry, compare_trees


@dataclass(frozen=True)
class Chosen:
    """What of a snapshot is given back: paths, areas and tables; everything of a kind where none is named."""

    files: bool = True
    database: bool = True
    paths: tuple[str, ...] = ()
    areas: tuple[str, ...] = ()
    tables: tuple[str, ...] = ()

    @classmethod
    def by(
        cls, paths: tuple[str, ...], areas: tuple[str, ...], tables: tuple[str, ...], files: bool, database: bool
    ) -> Chosen:
        """Naming paths or areas leaves the database alone, naming tables the files; naming both takes both."""
        some_files, some_tables = bool(paths or areas), bool(tables)
        return cls(
            files and (some_files or not some_tables), database and (some_tables or not some_files),
            tuple(p.strip("/") for p in paths), areas, tables,
        )  # fmt: skip

    @property
    def fits(self) -> Callable[[Entry], bool] | None:
        """Which entries are meant; None for all that a restore gives back."""
        if not self.paths and not self.areas:
            return None
        return lambda e: e.area in self.areas or any(e.path == p or e.path.startswith(p + "/") for p in self.paths)

    @classmethod
    def from_json(cls, said: dict[str, Any]) -> Chosen:
        """What `asdict` and JSON made of it."""
        return cls(
            bool(said["files"]),
            bool(said["database"]),
            tuple(said["paths"]),
            tuple(said["areas"]),
            tuple(said["tables"]),
        )

    def check(self, snapshot: Snapshot) -> None:
        """Raise `UsageError` when the snapshot does not have what is named."""
        for path in self.paths:
            if path not in snapshot.entries:
                raise UsageError(
                    f"the snapshot has no path '{path}'", advice=f"keenharbor snapshot show {snapshot.id} --paths"
                )
        for table in self.tables:
            if table not in snapshot.state.tables:
                raise UsageError(
                    f"the snapshot has no table '{table}'", advice=f"keenharbor snapshot show {snapshot.id} --tables"
                )
            if table in snapshot.state.left_empty:
                raise UsageError(f"the rows of table '{table}' were left out of the snapshot")
        if not self.files and not self.database:
            raise UsageError("nothing is chosen to be given back")


@dataclass(frozen=True)
class Conflict:
    """What live has now that would go or change: paths, and rows by table (that would go, change, come back);
    ``redefined`` names what in the database is made otherwise and would be made anew."""

    added_since: tuple[str, ...] = ()
    changed_since: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()
    rows: dict[str, tuple[int, int, int]] = field(default_factory=dict)
    redefined: tuple[str, ...] = ()

    @property
    def visitors(self) -> int:
        """Rows that would go."""
        return sum(r[0] for r in self.rows.values())

    def __bool__(self) -> bool:
        return bool(self.added_since or self.changed_since or self.missing or self.rows or self.redefined)

    def as_json(self) -> dict[str, object]:
        return asdict(self)


def preview_restore(site: SiteView, snapshot: Snapshot, chosen: Chosen, store: Store) -> Conflict:
    """What would be different on live afterwards; what was not written since the newest snapshot is not read again.
    Writes nothing."""
    chosen.check(snapshot)
    added: tuple[str, ...] = ()
    changed: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()
    if chosen.files:
        wanted, present = differing_tree(site, snapshot, chosen.fits)
        found = compare_trees(wanted, present)
        added, changed, missing = found.added, (*found.changed, *found.modes), found.removed
    rows: dict[str, tuple[int, int, int]] = {}
    redefined: tuple[str, ...] = ()
    if chosen.database:
        newest = newest_whole(list_snapshots(store, site.name))
        with site.reading_database() as live:
            delta = row_delta(snapshot.state, live, known=newest.state if newest is not None else None)
        names = set(chosen.tables or delta.tables) - snapshot.state.left_empty
        rows = {n: (len(d.added), len(d.changed), len(d.removed)) for n, d in delta.tables.items() if n in names}
        if not chosen.tables:
            redefined = (*delta.definitions_added, *delta.definitions_removed, *delta.definitions_changed)
    return Conflict(added, changed, missing, rows, redefined)


@dataclass(frozen=True)
class RestoredLive:
    """What was written to live: paths written and removed, rows; the snapshot of live before it."""

    snapshot: str
    safety: str
    written: int
    removed: int
    rows: int
    remarks: tuple[str, ...] = ()

    def as_json(self) -> dict[str, object]:
        return asdict(self)


def restore_live(site: SiteView, store: Store, snapshot: Snapshot, chosen: Chosen, progress: Progress) -> RestoredLive:
    """Give back what is ``chosen`` of ``snapshot`` over live, between maintenance on and off.

    From the moment that the safety snapshot stands, an interrupted restore is carried on by `settle`.
    """
    if snapshot.site != site.name:
        raise UsageError(f"snapshot {snapshot.id} is of the site '{snapshot.site}', not of '{site.name}'")
    chosen.check(snapshot)
    progress.stage("reading what will be given back")
    check_readable(site, snapshot, chosen)
    why, newest = f"before restoring {snapshot.id}", newest_whole(list_snapshots(store, site.name))
    facts = JournalFacts(target=snapshot.id, chosen=asdict(chosen))
    with changing_live(site, store, "restore", progress, newest or snapshot, why, facts) as change:
        assert change.safety is not None
        change.enter("changing", change.safety.id)
        progress.stage(f"giving back snapshot {snapshot.id}")
        result = put_back_chosen(change.live, snapshot, chosen, change.safety.id, change.safety)
        change.enter("done")
    detail = (
        f"over live: {plural(result.written, 'path')} written, {result.removed} removed, {plural(result.rows, 'row')}"
    )
    change.log("done", detail, snapshot.id)
    return replace(result, remarks=tuple(change.remarks))


def check_readable(site: SiteView, snapshot: Snapshot, chosen: Chosen) -> None:
    """Read what will be written of the snapshot's files, and all of the tables that are meant. Raises `DamagedError`
    before anything of live is touched."""
    if chosen.files:
        wanted, present = differing_tree(site, snapshot, chosen.fits)
        for path, entry in wanted.items():
            now = present.get(path)
            if now is not entry and (now is None or not now.same_content(entry)):
                for identity in entry.objects:
                    snapshot.store.read(identity)
    if chosen.database:
        for table in snapshot.state.tables.values():
            if not chosen.tables or table.name in chosen.tables:
                for identity in table.chunk_ids:
                    snapshot.store.read(identity)


def put_back_chosen(
    site: Writable, snapshot: Snapshot, chosen: Chosen, safety: str, live: Snapshot | None = None
) -> RestoredLive:
    """Write what is chosen. Can be repeated. ``live`` is the safety snapshot when it was taken just before: what is
    written later than that would as well have been written after the restore."""
    written = removed = rows = 0
    if chosen.database:
        with site.writing_database() as writer:
            known = live.state if live is not None else None
            rows = (
                writer.put_rows(snapshot.state, chosen.tables, known) if chosen.tables
                else writer.replace(snapshot.state, known)
            )  # fmt: skip
    if chosen.files:
        found = trees_to_put_back(snapshot, live.entries, chosen.fits) if live is not None else None
        count = put_tree_back(site, snapshot, chosen.fits, found)
        written, removed = count.written, count.removed
    reload_host(site)
    return RestoredLive(snapshot.id, safety, written, removed, rows)
