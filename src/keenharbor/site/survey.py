"""The survey: what a site is made of, what is pending, what somebody edited by hand."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any

from keenharbor.base.durable import private_folder, read_summed, write_summed
from keenharbor.base.errors import UsageError
from keenharbor.base.text import now, stamp
from keenharbor.site.components import distributions, normal_name
from keenharbor.site.connections import host_of_address
from keenharbor.site.edits import LocalEdit, local_edits
from keenharbor.site.feed import Feed, is_version, version_order
from keenharbor.site.indexfeed import required
from keenharbor.site.inference.contents import look_through
from keenharbor.site.strays import Stray, strays_in
from keenharbor.site.view import Component, SiteView
from keenharbor.tree import Entry

ERROR_LINE = re.compile(rb"(?i)(error|exception)\b|\b(fatal|critical|traceback|panic)\b")
_LAST_OF_A_LOG = 2 * 1024 * 1024


@dataclass(frozen=True)
class Installation:
    """An extension or theme with what the feed has for it: the newest release of the site's channels, the newest of
    other ``channels``, and whether it is given up; what it ``needs`` of other packages, and which are ``needed_by``
    others."""

    component: Component
    newest: str | None
    replaced_by: str
    bytes: int = 0
    tables: tuple[str, ...] = ()
    channels: Mapping[str, str] = field(default_factory=dict)
    needs: tuple[str, ...] = ()
    needed_by: tuple[str, ...] = ()

    @property
    def update_pending(self) -> bool:
        return (
            self.newest is not None
            and is_version(self.component.version)
            and version_order(self.newest) > version_order(self.component.version)
        )

    def as_json(self) -> dict[str, object]:
        facts = dataclasses.asdict(self.component)
        return {
            **facts, "newest": self.newest, "update_pending": self.update_pending, "replaced_by": self.replaced_by,
            "bytes": self.bytes, "tables": list(self.tables), "channels": dict(self.channels),
            "needs": list(self.needs), "needed_by": list(self.needed_by),
        }  # fmt: skip


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
    kinds: dict[str, tuple[str, str]]
    orphans: tuple[str, ...]
    strays: tuple[Stray, ...]
    largest: tuple[tuple[str, int], ...]
    address_places: dict[str, int]
    opaque_places: dict[str, int]
    log_errors: dict[str, int]

    def as_json(self) -> dict[str, object]:
        told = {k: getattr(self, k) for k in self.__dataclass_fields__}
        told |= {
            "installations": [i.as_json() for i in self.installations],
            "areas": {a: {"files": n, "bytes": b} for a, (n, b) in self.areas.items()},
            "edits": [dataclasses.asdict(e) for e in self.edits],
            "kinds": {t: {"kind": k, "why": w} for t, (k, w) in self.kinds.items()},
            "strays": [dataclasses.asdict(s) for s in self.strays],
            "largest": [{"path": p, "bytes": b} for p, b in self.largest],
            "snapshot": self.snapshot
            and {
                "id": self.snapshot.id,
                "taken_at": stamp(self.snapshot.taken_at),
                "proven_at": self.snapshot.proven_at and stamp(self.snapshot.proven_at),
            },
        }
        return told


def own_tables(name: str, tables: Mapping[str, int]) -> tuple[str, ...]:
    """The tables whose names begin with the component's, in the ways in which names are written."""
    plain = re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_")
    starts = {plain, plain.replace("_", "")}
    found = []
    for table in tables:
        words = re.sub(r"[^a-z0-9]+", "_", table.lower())
        tails = [words, *(words[m.end() :] for m in re.finditer("_", words[:5]))]  # behind a prefix of the site
        if any(t == s or t.startswith(s + "_") for t in tails for s in starts):
            found.append(table)
    return tuple(found)


def _in_settings(site: SiteView) -> dict[str, int]:
    """Settings that carry the address."""
    host = host_of_address(site.address)
    return {
        f"{site.settings_path}: {k}": 1 for k, v in site.settings().items() if host is not None and host in v.lower()
    }


def _errors_in_logs(site: SiteView, files: Sequence[Entry]) -> dict[str, int]:
    """By log, how many of its last lines speak of an error."""
    found = {}
    for entry in files:
        if entry.area == "logs":
            try:
                with site.files.open(entry.path) as log:
                    log.seek(max(0, entry.size - _LAST_OF_A_LOG))
                    count = sum(1 for line in log if ERROR_LINE.search(line))
            except OSError:
                continue
            if count:
                found[entry.path] = count
    return found


def differences(earlier: Mapping[str, Any], later: Mapping[str, Any]) -> list[str]:
    """In words, what differs between two surveys as JSON; the weightiest first."""
    told = []
    for key, name in (("core", "core"), ("runtime", "runtime"), ("engine_version", "database"), ("address", "address")):
        if earlier[key] != later[key]:
            told.append(f"{name}: {earlier[key]} → {later[key]}")
    before, after = ({i["name"]: i for i in s["installations"]} for s in (earlier, later))
    told += [f"{after[n]['kind']} {n} {after[n]['version']} came" for n in sorted(after.keys() - before.keys())]
    told += [f"{before[n]['kind']} {n} {before[n]['version']} went" for n in sorted(before.keys() - after.keys())]
    for name in sorted(before.keys() & after.keys()):
        old, new = before[name], after[name]
        if old["version"] != new["version"]:
            told.append(f"{new['kind']} {name}: {old['version']} → {new['version']}")
        if old["on"] != new["on"]:
            told.append(f"{new['kind']} {name} was switched {'on' if new['on'] else 'off'}")
    for key, name in (("edits", "local edit"), ("strays", "stray")):
        old_paths, new_paths = ({e["path"] for e in s[key]} for s in (earlier, later))
        told += [f"{name} came: {p}" for p in sorted(new_paths - old_paths)] + [
            f"{name} went: {p}" for p in sorted(old_paths - new_paths)
        ]
    tables_before, tables_after = earlier["tables"], later["tables"]
    told += [f"table {t} came" for t in sorted(tables_after.keys() - tables_before.keys())]
    told += [f"table {t} went" for t in sorted(tables_before.keys() - tables_after.keys())]
    for table in sorted(tables_before.keys() & tables_after.keys()):
        if tables_before[table] != tables_after[table]:
            told.append(f"table {table}: {tables_before[table]:,} → {tables_after[table]:,} rows")
    for path in sorted(later["log_errors"].keys() | earlier["log_errors"].keys()):
        counts = earlier["log_errors"].get(path, 0), later["log_errors"].get(path, 0)
        if counts[0] != counts[1]:
            told.append(f"errors in {path}: {counts[0]} → {counts[1]}")
    return told


def keep_survey(work: Path, told: Mapping[str, object]) -> Path:
    """Keep a survey as JSON for later; returns its file."""
    file = private_folder(work / "surveys") / f"{now():%Y%m%d-%H%M%S}.json"
    write_summed(file, dict(told))
    return file


def kept_survey(work: Path, wanted: str) -> Path:
    """The file of a kept survey: one by its path or name, or the ``newest``. Raises `UsageError` when none was kept."""
    folder = work / "surveys"
    if wanted != "newest":
        return Path(wanted) if Path(wanted).exists() else folder / f"{wanted}.json"
    kept = sorted(folder.glob("*.json"))
    if not kept:
        raise UsageError("no survey has been kept yet", where=folder, advice="keenharbor survey --save")
    return kept[-1]


def read_kept_survey(file: Path) -> dict[str, Any]:
    """A kept survey. Raises `UsageError` when the file is none."""
    try:
        told = read_summed(file.read_bytes())
        if not isinstance(told, dict) or not {"installations", "tables", "strays"} <= told.keys():
            raise ValueError("it is no survey")
    except (OSError, ValueError) as error:
        raise UsageError(f"the kept survey cannot be read: {error}", where=file) from None
    return told


def _needs(site: SiteView, feed: Feed | None) -> dict[str, list[str]]:
    """What each extension and theme needs of the others that are installed, by what its release (or distribution)
    says."""
    components = site.components()
    known = {normal_name(c.name): c.name for c in components}
    there = distributions(site.packages()) if site.model.runtime.packages is not None else {}
    found: dict[str, list[str]] = {}
    for component in components:
        own = there.get(normal_name(component.name))
        if own is not None:
            asked: Iterable[str] = required(own.requires, site.runtime_version())
        else:
            release = feed.find(component.name, component.version) if feed and is_version(component.version) else None
            asked = release.requires.packages if release is not None else ()
        found[component.name] = sorted(
            {known[normal_name(n)] for n in asked if normal_name(n) in known} - {component.name}
        )
    return found


def survey_site(site: SiteView, feed: Feed | None, snapshot: NewestSnapshot | None) -> Survey:
    """Look at ``site``; ``snapshot`` is the newest one in its store, if any. Reads only."""
    scan = site.scan()
    files = [e for e in scan.entries.values() if e.kind == "file"]
    with site.reading_database() as state:
        found, places = look_through(state, host_of_address(site.address))
    tables = {k.table: k.rows for k in found if k.is_table}
    kinds = {k.table: (k.kind, k.why) for k in found}
    kinds |= {t: ("visitors", "the site file says so") for t in site.model.visitor_data.tables if t in kinds}
    edits, unchecked = local_edits(site, feed) if feed is not None else ([], ["no feed is named in the site file"])
    core_releases = []
    if feed is not None and site.model.feed is not None:
        core_releases = feed.within(site.model.feed.channels).of(site.model.core.package)
    database = site.database
    return Survey(
        name=site.name,
        title=site.model.site.title,
        address=site.told_address,
        root=site.place if site.host.is_here else f"{site.host.told}:{site.place}",
        platform=site.model.platform.title or site.model.platform.name,
        core=site.core_version(),
        core_newest=core_releases[-1].version if core_releases else None,
        runtime=f"{site.model.runtime.name} {site.runtime_version()}",
        runtime_installed=tuple(sorted(site.model.runtime.launchers)),
        engine=database.engine,
        engine_version=database.version(),
        database_place=database.told,
        database_bytes=database.size(),
        installations=tuple(_installations(site, feed, files, tables)),
        areas=_areas(files),
        tables=dict(sorted(tables.items(), key=lambda t: -t[1])),
        edits=tuple(edits),
        unchecked=tuple(unchecked),
        unreadable=tuple(scan.unreadable),
        snapshot=snapshot,
        maintenance=site.maintenance_on,
        kinds=kinds,
        orphans=tuple(site.orphans()),
        strays=tuple(strays_in(site, feed, scan.entries)) if feed is not None else (),
        largest=tuple((e.path, e.size) for e in sorted(files, key=lambda e: -e.size)[:10]),
        address_places={**_in_settings(site), **places.cells},
        opaque_places=places.opaque,
        log_errors=_errors_in_logs(site, files),
    )


def _areas(files: Sequence[Entry]) -> dict[str, tuple[int, int]]:
    """Files and bytes of each area, the largest first."""
    areas: dict[str, tuple[int, int]] = {}
    for entry in files:
        count, total = areas.get(entry.area, (0, 0))
        areas[entry.area] = (count + 1, total + entry.size)
    return dict(sorted(areas.items(), key=lambda a: -a[1][1]))


def _installations(
    site: SiteView, feed: Feed | None, files: Sequence[Entry], tables: Mapping[str, int]
) -> Iterator[Installation]:
    """Each extension and theme, with what the feed has newer, within its channels and beyond."""
    needs = _needs(site, feed)
    offered = site.model.feed.channels if site.model.feed is not None else []
    for component in site.components():
        every = feed.of(component.name) if feed is not None else []
        releases = [r for r in every if r.channel in offered]
        newest = releases[-1] if releases else None
        here = newest.version if newest else component.version
        beyond = {r.channel: r.version for r in every if r.channel not in offered}  # the newest of each comes last
        yield Installation(
            component,
            newest.version if newest else None,
            newest.replaced_by if newest else "",
            sum(e.size for e in files if component.owns(e.path)),
            own_tables(component.name, tables),
            {c: v for c, v in beyond.items() if is_version(here) and version_order(v) > version_order(here)},
            tuple(needs[component.name]),
            tuple(sorted(n for n, asked in needs.items() if component.name in asked)),
        )
