"""The survey: what a site is made of, what is pending, what somebody edited by hand."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from keenharbor.base.text import stamp
from keenharbor.database import open_database
from keenharbor.site.edits import LocalEdit, local_edits
from keenharbor.site.feed import Feed, version_order
from keenharbor.site.view import Component, SiteView


@dataclass(frozen=True)
class Installation:
    """An extension or theme with what the feed has for it: the newest release at all, and whether it is given up."""

    component: Component
    newest: str | None
    replaced_by: str

    @property
    def update_pending(self) -> bool:
        return self.newest is not None and version_order(self.newest) > version_order(self.component.version)

    def as_json(self) -> dict[str, Any]:
        facts = dataclasses.asdict(self.component)
        return {**facts, "newest": self.newest, "update_pending": self.update_pending, "replaced_by": self.replaced_by}


@dataclass(frozen=True)
class NewestSnapshot:
    """The newest snapshot's id, age and proof."""

    id: str
    taken_at: datetime
    proven_at: datetime | None


@dataclass(frozen=True)
class Survey:
    """One site as it is now. Areas hold (files, bytes); tables rows."""

    name: str
    title: str
    address: str
    root: str
    platform: str
    core: str
    core_newest: str | None
    runtime: str
    runtime_installed: tuple[str, ...]
    engine: str
    engine_version: str
    database_place: str
    database_bytes: int
    installations: tuple[Installation, ...]
    areas: dict[str, tuple[int, int]]
    tables: dict[str, int]
    edits: tuple[LocalEdit, ...]
    unchecked: tuple[str, ...]
    unreadable: tuple[str, ...]
    snapshot: NewestSnapshot | None
    maintenance: bool

    def as_json(self) -> dict[str, Any]:
        told = {k: getattr(self, k) for k in self.__dataclass_fields__}
        told |= {
            "installations": [i.as_json() for i in self.installations],
            "areas": {a: {"files": n, "bytes": b} for a, (n, b) in self.areas.items()},
            "edits": [dataclasses.asdict(e) for e in self.edits],
            "snapshot": self.snapshot
            and {
                "id": self.snapshot.id,
                "taken_at": stamp(self.snapshot.taken_at),
                "proven_at": self.snapshot.proven_at and stamp(self.snapshot.proven_at),
            },
        }
        return told


def survey_site(site: SiteView, feed: Feed | None, snapshot: NewestSnapshot | None) -> Survey:
    """Look at ``site``; ``snapshot`` is the newest one in its store, if any. Reads only."""
    scan = site.scan()
    areas: dict[str, tuple[int, int]] = {}
    for entry in scan.entries.values():
        if entry.kind == "file":
            count, total = areas.get(entry.area, (0, 0))
            areas[entry.area] = (count + 1, total + entry.size)
    with site.reading_database() as state:
        tables = {t.name: sum(1 for _ in state.rows(t.name)) for t in state.schema.tables if t.kind == "table"}
    edits, unchecked = local_edits(site, feed) if feed is not None else ([], ["no feed is named in the site file"])
    installations = []
    for component in site.components():
        releases = feed.of(component.name) if feed is not None else []
        newest = releases[-1] if releases else None
        installations.append(
            Installation(component, newest.version if newest else None, newest.replaced_by if newest else "")
        )
    database = open_database(site.database_place)
    core_releases = feed.of(site.model.core.package) if feed is not None else []
    return Survey(
        name=site.name,
        title=site.model.site.title,
        address=site.address,
        root=str(site.root),
        platform=site.model.platform.title or site.model.platform.name,
        core=site.core_version(),
        core_newest=core_releases[-1].version if core_releases else None,
        runtime=f"{site.model.runtime.name} {site.runtime_version()}",
        runtime_installed=tuple(sorted(site.model.runtime.launchers)),
        engine=site.database_place.engine,
        engine_version=database.version(),
        database_place=str(site.database_place.path or site.database_place),
        database_bytes=database.size(),
        installations=tuple(installations),
        areas=dict(sorted(areas.items(), key=lambda a: -a[1][1])),
        tables=dict(sorted(tables.items(), key=lambda t: -t[1])),
        edits=tuple(edits),
        unchecked=tuple(unchecked),
        unreadable=tuple(scan.unreadable),
        snapshot=snapshot,
        maintenance=site.maintenance_on,
    )
