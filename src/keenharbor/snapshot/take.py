"""Taking a snapshot: files, then the database in one transaction, then the files that moved meanwhile."""

from __future__ import annotations

import dataclasses
import secrets
import time
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from keenharbor.base.errors import UsageError
from keenharbor.base.progress import Progress
from keenharbor.base.text import now, stamp
from keenharbor.database import store_state
from keenharbor.site.view import SiteView
from keenharbor.snapshot.manifest import MANIFEST_FORMAT, Snapshot
from keenharbor.store import Store
from keenharbor.tree import Scan
from keenharbor.tree.scan import read_content


@dataclass(frozen=True)
class TakeOptions:
    """How a snapshot is named, why it is taken, and which areas it leaves out."""

    label: str | None = None
    comment: str | None = None
    reason: str = "by hand"
    leave_out_areas: Sequence[str] = ()


def new_id(at: datetime) -> str:
    """A snapshot's id: its time, and two letters against clashes within a second."""
    return f"{at:%Y%m%d-%H%M%S}-{secrets.token_hex(2)}"


def take_snapshot(
    site: SiteView, store: Store, options: TakeOptions, progress: Progress, earlier: Snapshot | None = None
) -> Snapshot:
    """Save files and database of ``site`` in ``store``.

    Files that have not been touched since ``earlier`` are not read again. The snapshot exists when this returns;
    a run that is killed leaves nothing but unfinished packs, which the next one collects.
    """
    began, at = time.monotonic(), now()
    known = earlier.entries if earlier is not None else {}
    with store.in_use():
        store.collect_staging()
        with store.writing() as writer:
            progress.stage("reading files")
            scan = _scan(site, options.leave_out_areas)
            read_content(
                site.root, scan, writer.add, known, store.has, lambda done, total: progress.advance(done, total, "byte")
            )
            progress.stage("reading the database")
            with site.reading_database() as state:
                schema = state.schema
                tables = store_state(state, writer.add)
            progress.stage("looking for files that moved meanwhile")
            again = _scan(site, options.leave_out_areas)
            read_content(site.root, again, writer.add, scan.entries, store.has, lambda done, total: None)
            again.unstable = sorted({*again.unstable, *(p for p in scan.unstable if p in again.entries)})
        core, runtime = site.told_versions()
        manifest = {
            "format": MANIFEST_FORMAT,
            "id": new_id(at),
            "site": site.name,
            "title": site.model.site.title,
            "taken_at": stamp(at),
            "seconds": round(time.monotonic() - began, 3),
            "label": options.label,
            "comment": options.comment,
            "reason": options.reason,
            "root": str(site.root),
            "address": site.address,
            "facts": {
                "core": core,
                "runtime": f"{site.model.runtime.name} {runtime}",
                "components": _components(site),
            },
            "areas_left_out": sorted(options.leave_out_areas),
            "left_out": sorted(again.left_out),
            "unreadable": sorted(again.unreadable),
            "unstable": again.unstable,
            "tree": [e.as_json() for e in again.entries.values()],
            "database": {
                "place": str(site.database_place),
                "schema": schema.as_json(),
                "tables": [t.as_json() for t in tables],
            },
            "added_bytes": writer.added_bytes,
            "added_objects": writer.added_objects,
        }
        store.write_document("snapshots", str(manifest["id"]), manifest)
    return Snapshot(store, manifest)


def _components(site: SiteView) -> list[dict[str, object]]:
    """What is installed; nothing where a broken site cannot say (its files are saved all the same)."""
    try:
        return [dataclasses.asdict(c) for c in site.components()]
    except (UsageError, OSError, ValueError):
        return []


def _scan(site: SiteView, leave_out_areas: Sequence[str]) -> Scan:
    scan = site.scan()
    for path in [p for p, e in scan.entries.items() if e.area in leave_out_areas]:
        del scan.entries[path]
        scan.left_out.append(path)
    return scan
