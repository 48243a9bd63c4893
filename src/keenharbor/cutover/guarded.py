"""A snapshot of live, taken while no change of it is under way or half-way."""

from __future__ import annotations

from collections.abc import Sequence

from keenharbor.base.progress import Progress
from keenharbor.base.text import size
from keenharbor.cutover.journal import exclusive
from keenharbor.site.log import append_log
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot, TakeOptions, list_snapshots, take_snapshot
from keenharbor.store import Store
from keenharbor.tree import Scan

WAIT_SECONDS = 5


def newest_whole(snapshots: Sequence[Snapshot]) -> Snapshot | None:
    """The newest of ``snapshots`` (newest first) that leaves out no area: what another one is compared with."""
    return next((s for s in snapshots if not s.manifest["areas_left_out"]), None)


def take_guarded(
    site: SiteView, store: Store, options: TakeOptions, progress: Progress, looked: Scan | None = None
) -> Snapshot:
    """Take a snapshot, reading only files that changed since the newest whole one, and note it in the log.

    Raises `UnsettledError` when an interrupted change has left live between two states.
    """
    with exclusive(site, WAIT_SECONDS):
        earlier = None if options.read_all else newest_whole(list_snapshots(store, site.name))
        taken = take_snapshot(site, store, options, progress, earlier, looked)
        detail = f"{size(taken.manifest['added_bytes'])} added, {options.reason}"
        append_log(site.work, site.name, "snapshot take", "done", detail, taken.id)
        return taken
