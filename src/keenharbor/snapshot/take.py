"""Taking a snapshot: files, then the database in one transaction, then the files that moved meanwhile."""

from __future__ import annotations

import contextlib
import dataclasses
import os
import secrets
import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TypedDict

from keenharbor.base.errors import UsageError
from keenharbor.base.jsontext import encode_json
from keenharbor.base.memory import no_cycle_search
from keenharbor.base.progress import Progress
from keenharbor.base.text import now, stamp
from keenharbor.database import Schema, StoredTable, store_state
from keenharbor.host.areas import fits
from keenharbor.site.components import pins_of
from keenharbor.site.model import USUAL
from keenharbor.site.view import SiteView
from keenharbor.snapshot.lists import put_tables, put_tree
from keenharbor.snapshot.manifest import Snapshot
from keenharbor.snapshot.model import Facts, ListedTree, Manifest, Reason, SavedDatabase
from keenharbor.store import ObjectWriter, Store, object_id
from keenharbor.tree import Entry, Scan
from keenharbor.tree.scan import complete, read_content

GENTLE_BYTES_A_SECOND = 8 * 1024 * 1024
GENTLE_NICENESS = 10


@dataclass(frozen=True)
class TakeOptions:
    """How a snapshot is named, why it is taken, what it leaves out, and how much of the machine it may take.

    Of ``empty_tables`` (beyond those of the site file) no row is taken; ``every_row`` takes them all, for a snapshot
    that live may have to go back to. ``gentle`` reads `GENTLE_BYTES_A_SECOND` at most, with one worker and a lower
    priority. ``read_all`` goes by no earlier snapshot."""

    label: str | None = None
    comment: str | None = None
    reason: Reason = "by hand"
    leave_out_areas: Sequence[str] = ()
    leave_out_paths: Sequence[str] = ()
    empty_tables: Sequence[str] = ()
    largest_file: int | None = None
    every_row: bool = False
    gentle: bool = False
    workers: int | None = None
    level: int | None = None
    read_all: bool = False


_NOTHING = Entry("", "file", 0, 0)


class Pace:
    """Keeps the reading of a run below so many bytes a second, by pausing; not at all without a limit."""

    def __init__(self, bytes_a_second: float | None) -> None:
        self._limit = bytes_a_second
        self._began = time.monotonic()
        self._read = 0

    def read(self, count: int) -> None:
        """``count`` more bytes were read."""
        if self._limit is None:
            return
        self._read += count
        ahead = self._read / self._limit - (time.monotonic() - self._began)
        if ahead > 0.01:
            time.sleep(min(ahead, 5))


@contextlib.contextmanager
def _manners(gentle: bool) -> Iterator[Pace]:
    """A lower priority and a pace while the block runs."""
    if not gentle:
        yield Pace(None)
        return
    before = os.nice(0)
    os.nice(GENTLE_NICENESS)
    try:
        yield Pace(GENTLE_BYTES_A_SECOND)
    finally:
        with contextlib.suppress(PermissionError):  # only root may go back; the process ends soon
            os.setpriority(os.PRIO_PROCESS, 0, before)


def new_id(at: datetime) -> str:
    """A snapshot's id: its time, and two letters against clashes within a second."""
    return f"{at:%Y%m%d-%H%M%S}-{secrets.token_hex(2)}"


def take_snapshot(
    site: SiteView, store: Store, options: TakeOptions, progress: Progress, earlier: Snapshot | None = None,
    looked: Scan | None = None,
) -> Snapshot:  # fmt: skip
    """Save files and database of ``site`` in ``store``.

    Files that have not been touched since ``earlier`` are not read again. The snapshot exists when this returns.
    ``looked`` is a scan by the same options, made just before; what changed since is found by the second one. A run
    that is killed leaves nothing but unfinished packs, which the next one collects."""
    began, at = time.monotonic(), now()
    part = site.model.snapshot
    gentle = options.gentle or part.gentle
    workers = options.workers or part.workers or (1 if gentle else max(2, min(8, os.cpu_count() or 1)))
    with store.in_use(), _manners(gentle) as pace:
        store.collect_staging()
        level = options.level or part.level
        forks = not gentle and site.files.forks  # the pace is kept in one process
        with store.writing(workers, level, forks=forks) as writer:
            taking = _Taking(site, store, options, writer, pace, progress, earlier)
            found, tree, database, read = taking.all_of_it(looked)
        with no_cycle_search():
            manifest = Manifest(
                id=new_id(at), seconds=round(time.monotonic() - began, 3), taken_at=stamp(at),
                **_said_of(site, options),
                **_said_of_scan(found), rules=rules_of(site, options), left_empty=tuple(taking.left_empty), tree=tree,
                database=database, added_bytes=writer.added_bytes, read_bytes=read, added_objects=writer.added_objects,
            )  # fmt: skip
            store.write_document("snapshots", manifest.id, manifest.as_json())
    return Snapshot(store, manifest, scanned=found.entries)


@dataclass
class _Taking:
    """What is read and stored for one snapshot, in its order."""

    site: SiteView
    store: Store
    options: TakeOptions
    writer: ObjectWriter
    pace: Pace
    progress: Progress
    earlier: Snapshot | None
    left_empty: list[str] = dataclasses.field(default_factory=list)

    def all_of_it(self, looked: Scan | None) -> tuple[Scan, ListedTree, SavedDatabase, int]:
        """Files, rows, and the files that moved meanwhile: the scan that holds, the two parts of the manifest, and how
        many bytes were read."""
        known = self.earlier.entries if self.earlier is not None else {}
        scan, files = self._files(looked, known)
        schema, tables = self._rows()
        if files or not _is_unchanged(tables, self.earlier):
            scan = self._again(scan)
        # else no row was written since before the files were looked at: whatever a row names had been there then.
        with no_cycle_search():
            tree = put_tree(scan.entries.values(), self.writer, self.earlier.manifest.tree if self.earlier else None)
        database = SavedDatabase(self.site.database.url, schema, put_tables(tables, self.writer))
        read = sum(e.size for p, e in scan.entries.items() if known.get(p, _NOTHING).objects != e.objects)
        return scan, tree, database, read + sum(t.size for t in tables)

    def _files(self, looked: Scan | None, known: Mapping[str, Entry]) -> tuple[Scan, int]:
        """The tree, read and stored, and how many files had to be read."""
        self.progress.stage("reading files")
        seen = known_by_same_rules(self.site, self.options, self.earlier)
        scan, found = (looked, None) if looked else begin_scan_for(self.site, self.options, seen)
        paced = 0

        def files_read(done: int, total: int) -> None:
            nonlocal paced
            self.pace.read(done - paced)
            paced = done
            self.progress.advance(done, total, "byte")

        count = read_content(
            self.site.files, scan, self.writer, known, self.store.has, files_read, looked_at_again=True, found=found
        )
        return scan, count

    def _rows(self) -> tuple[Schema, list[StoredTable]]:
        self.progress.stage("reading the database")
        with self.site.reading_database() as state:
            self.left_empty = left_empty_tables(self.site, self.options, state.schema)
            tables = store_state(
                state,
                self.writer,
                self.earlier.state if self.earlier is not None else None,
                set(self.left_empty).__contains__,
                _RowsSeen(self.progress, self.pace, self.earlier),
                self.store.has,
            )
            return state.schema, list(tables)

    def _again(self, scan: Scan) -> Scan:
        """The scan with what moved while files and rows were read."""
        self.progress.stage("looking for files that moved meanwhile")
        if not scan.unstable and self.site.files.still_as_walked(scan):
            return scan
        again = scan_for(self.site, self.options, scan.entries)
        read_content(self.site.files, again, self.writer, scan.entries, None, lambda done, total: None)
        again.unstable = sorted({*again.unstable, *(p for p in scan.unstable if p in again.entries)})
        return again


class _SaidOfSite(TypedDict):
    site: str
    title: str
    label: str | None
    comment: str | None
    reason: Reason
    root: str
    address: str
    facts: Facts
    areas_left_out: tuple[str, ...]
    environment: dict[str, str]


class _SaidOfScan(TypedDict):
    left_out: tuple[str, ...]
    too_large: tuple[str, ...]
    unreadable: tuple[str, ...]
    unstable: tuple[str, ...]


def _said_of(site: SiteView, options: TakeOptions) -> _SaidOfSite:
    core, runtime = site.told_versions()
    return {
        "site": site.name, "title": site.model.site.title, "label": options.label, "comment": options.comment,
        "reason": options.reason, "root": site.place, "address": site.address,
        "facts": Facts(core, f"{site.model.runtime.name} {runtime}", _components(site)),
        "areas_left_out": tuple(sorted(options.leave_out_areas)), "environment": _environment(site),
    }  # fmt: skip


def _said_of_scan(scan: Scan) -> _SaidOfScan:
    return {
        "left_out": tuple(sorted(scan.left_out)), "too_large": tuple(sorted(scan.too_large)),
        "unreadable": tuple(sorted(scan.unreadable)), "unstable": tuple(scan.unstable),
    }  # fmt: skip


def _components(site: SiteView) -> tuple[dict[str, str | bool | None], ...]:
    """What is installed; nothing where a broken site cannot say (its files are saved all the same)."""
    try:
        # Which files are its own the tree tells; the form of manifests stays as it is.
        return tuple({k: v for k, v in dataclasses.asdict(c).items() if k != "files"} for c in site.components())
    except (UsageError, OSError, ValueError):
        return ()


def _environment(site: SiteView) -> dict[str, str]:
    """The installed distributions of a site that has such, by name with their version: they are not in its files."""
    if site.model.runtime.packages is None:
        return {}
    return pins_of(site.packages())


def left_empty_tables(site: SiteView, options: TakeOptions, schema: Schema) -> list[str]:
    """The tables of which no row is taken."""
    if options.every_row:
        return []
    emptied = tuple({*site.model.snapshot.empty_tables, *options.empty_tables})
    return sorted(t.name for t in schema.tables if t.kind == "table" and fits(t.name, emptied))


def _is_unchanged(tables: Sequence[StoredTable], earlier: Snapshot | None) -> bool:
    """Whether no table had to be read (`store_state` hands on the very tables of ``earlier`` that it need not read)."""
    return earlier is not None and all(not t.chunk_ids or t is earlier.state.tables.get(t.name) for t in tables)


def rules_of(site: SiteView, options: TakeOptions) -> str:
    """A digest of all that decides which paths a scan takes and to which area they belong: while it stays the same,
    what was found out of an untouched path holds."""
    model = site.model
    parts = (
        {str(k): v for k, v in model.areas.items()}, model.files.leave_out, model.files.empty, model.snapshot.usual,
        model.snapshot.largest_file, site.flag_patterns,
        site.database.url, sorted(options.leave_out_areas),
        sorted(options.leave_out_paths), options.largest_file, USUAL,
    )  # fmt: skip
    return object_id(encode_json(parts))[:16]


def known_by_same_rules(site: SiteView, options: TakeOptions, earlier: Snapshot | None) -> Mapping[str, Entry] | None:
    """What ``earlier`` found, where it was taken by the same rules: of an untouched path nothing need be found out."""
    same = earlier is not None and earlier.manifest.rules == rules_of(site, options)
    return earlier.entries if earlier is not None and same else None


def scan_for(site: SiteView, options: TakeOptions, seen: Mapping[str, Entry] | None = None) -> Scan:
    """The site's tree without what the options leave out (see `SiteView.scan`)."""
    return complete(*begin_scan_for(site, options, seen))


def begin_scan_for(
    site: SiteView, options: TakeOptions, seen: Mapping[str, Entry] | None = None
) -> tuple[Scan, Iterator[Sequence[Entry]]]:
    """The same, filled while its entries are taken."""
    scan, found = site.begin_scan(seen)
    paths, largest = tuple(options.leave_out_paths), options.largest_file
    if not options.leave_out_areas and not paths and largest is None:
        return scan, found

    gone: set[str] = set()

    def is_taken(entry: Entry) -> bool:
        if entry.area in options.leave_out_areas or (paths and fits(entry.path, paths)):
            gone.add(entry.path)
            if entry.path.rpartition("/")[0] not in gone:  # a folder tells of all in it
                scan.left_out.append(entry.path)
        elif largest is not None and entry.size > largest:
            scan.too_large.append(entry.path)
        else:
            return True
        del scan.entries[entry.path]
        return False

    return scan, ([entry for entry in entries if is_taken(entry)] for entries in found)


class _RowsSeen:
    """Tells how far the database has been read, by the rows that the earlier snapshot had."""

    def __init__(self, progress: Progress, pace: Pace, earlier: Snapshot | None) -> None:
        self._progress, self._pace = progress, pace
        self._expected = sum(t.size for t in earlier.state.tables.values()) if earlier is not None else 0
        self._bytes = 0

    def __call__(self, table: str, count: int) -> None:
        self._bytes += count
        self._pace.read(count)
        self._progress.advance(self._bytes, max(self._expected, self._bytes) if self._expected else 0, "byte")
