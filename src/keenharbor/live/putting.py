"""Putting a snapshot back over live, and proving that it is there."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Iterator, Mapping, Set
from pathlib import Path

from keenharbor.base.errors import KeenHarborError
from keenharbor.database import DatabasePlace, DatabaseState, DatabaseWriter, row_delta
from keenharbor.database.prepared import prepared
from keenharbor.live.environments import environment_back
from keenharbor.live.flag import maintenance_off, reload_host
from keenharbor.merge.trees import MergedTree
from keenharbor.site.view import SiteView
from keenharbor.site.writable import Writable
from keenharbor.snapshot import Snapshot, TakeOptions
from keenharbor.snapshot.take import rules_of
from keenharbor.store import Store
from keenharbor.tree import Entry, RestoreCount, restore_tree
from keenharbor.tree.scan import Hashing, read_content

Trees = tuple[dict[str, Entry], dict[str, Entry]]
"""What a snapshot holds, and what live holds now of it, read."""
_NOT_GIVEN_BACK = frozenset(("logs", "cache"))


def differing_tree(site: SiteView, snapshot: Snapshot, chosen: Callable[[Entry], bool] | None = None) -> Trees:
    """What ``snapshot`` holds and what live holds now: all but caches and logs, or what is ``chosen``."""
    same_rules = snapshot.manifest.rules == rules_of(site, TakeOptions())
    scan = site.scan(snapshot.entries if same_rules else None)
    read_content(site.files, scan, Hashing(), snapshot.entries, None, lambda done, total: None)
    return trees_to_put_back(snapshot, scan.entries, chosen)


def trees_to_put_back(
    snapshot: Snapshot, live: Mapping[str, Entry], chosen: Callable[[Entry], bool] | None = None
) -> Trees:
    """The same, from entries of ``live`` that are known already."""
    areas_left_out = set(snapshot.manifest.areas_left_out)
    left_out = {*snapshot.manifest.left_out, *snapshot.manifest.too_large}

    def were_left_out(entries: Iterable[Entry]) -> Iterator[str]:
        for entry in entries:
            path = entry.path
            if path in left_out or any(path[:at] in left_out for at, c in enumerate(path) if c == "/"):
                yield path

    if chosen is None:
        wanted = without_areas(snapshot.entries, _NOT_GIVEN_BACK)
        present = without_areas(live, _NOT_GIVEN_BACK | areas_left_out)
    else:
        wanted = {p: e for p, e in snapshot.entries.items() if chosen(e)}
        present = {p: e for p, e in live.items() if e.area not in areas_left_out and chosen(e)}
    if left_out:  # what a snapshot left out by rule it must not remove either
        for path in list(were_left_out(present.values())):
            del present[path]
    return wanted, present


def without_areas(entries: Mapping[str, Entry], areas: Set[str]) -> dict[str, Entry]:
    """The entries but those of ``areas``."""
    found = dict(entries)
    for path in [e.path for e in found.values() if e.area in areas]:
        del found[path]
    return found


def put_tree_back(
    site: Writable, snapshot: Snapshot, chosen: Callable[[Entry], bool] | None = None, found: Trees | None = None
) -> RestoreCount:
    """Make live's files what ``snapshot`` holds: logs stay as they are, caches are emptied. Or only those ``chosen``.
    ``found`` is what there was a moment ago, if that is known."""
    wanted, present = found or differing_tree(site, snapshot, chosen)
    count = restore_tree(site.tree, wanted, present, snapshot.store.read)
    empty_caches(site)
    return count


def with_texts(files: MergedTree, store: Store) -> dict[str, Entry]:
    """The entries of a merge, with texts that were put together from both sides as objects of the ``store``."""
    entries = dict(files.entries)
    with store.in_use(), store.writing(1, forks=False) as writer:
        for path, content in files.merged.items():
            entries[path] = entries[path].with_objects((writer.add(content),))._replace(size=len(content), stamp="")
    return entries


def empty_caches(site: Writable) -> None:
    """What was computed from other code or rows goes."""
    for pattern in site.model.areas.get("cache", []):
        if "*" not in pattern:
            site.tree.clear(pattern)


@contextlib.contextmanager
def prepared_database(site: SiteView, state: DatabaseState) -> Iterator[Path | None]:
    """What makes it quick, behind the flag, to let live's database hold ``state``; for the time of the block."""
    if site.database.file is None or not site.host.is_here:
        yield None
        return
    with site.reading_database() as now:
        schema = now.schema
    place = DatabasePlace(site.database.engine, Path(site.database.file))
    with prepared(place, schema, state, site.work) as file:
        yield file


def put_database_back(
    site: Writable, snapshot: Snapshot, then: Callable[[DatabaseWriter], object] | None = None,
    known: Snapshot | None = None, file: Path | None = None,
) -> None:  # fmt: skip
    """Make live's database what ``snapshot`` holds, and do ``then`` within the same transaction. ``known`` is what it
    was a moment ago, ``file`` what `prepared_database` made."""
    with site.holding_database(snapshot.state, known.state if known is not None else None, file) as writer:
        if then is not None:
            then(writer)


def put_back(site: Writable, snapshot: Snapshot) -> None:
    """Live as the safety snapshot holds it, proven by looking again; then visitors are let in."""
    put_tree_back(site, snapshot)
    environment_back(site, snapshot)
    put_database_back(site, snapshot)
    apart = what_differs(site, snapshot)
    if apart:
        listed = ", ".join(apart[:3]) + (" …" if len(apart) > 3 else "")
        raise KeenHarborError(f"live is not as it was after putting it back: {listed}", where=site.place)
    reload_host(site)
    maintenance_off(site)


def what_differs(site: SiteView, snapshot: Snapshot) -> list[str]:
    """In words, what of live is not as ``snapshot`` holds it; logs and caches apart."""
    wanted, present = differing_tree(site, snapshot)
    found = [f"file {p}" for p in sorted(wanted.keys() ^ present.keys())]
    found += [
        f"file {p}"
        for p in sorted(wanted.keys() & present.keys())
        if not wanted[p].same_content(present[p]) or (wanted[p].kind != "link" and wanted[p].mode != present[p].mode)
    ]
    # A folder that holds what was left out (a log, a cache) stays, and one that is all of it is no part of the
    # snapshot.
    found = [f for f in found if (e := present.get(f[5:])) is None or e.kind != "folder" or f[5:] in wanted]
    with site.reading_database() as state:
        delta = row_delta(snapshot.state, state)
    found += [f"table {n}" for n, t in delta.tables.items() if t.added or t.changed or t.removed]
    found += [f"the definition of {d}" for d in (*delta.definitions_added, *delta.definitions_removed,
                                                 *delta.definitions_changed)]  # fmt: skip
    return found
