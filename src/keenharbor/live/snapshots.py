"""A snapshot of live, taken while no change of it is under way or half-way."""

from __future__ import annotations

from collections.abc import Sequence

from keenharbor.base.progress import Progress
from keenharbor.base.text import parse_stamp, size
from keenharbor.live.journal import exclusive
from keenharbor.site.log import append_log, read_log
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot, TakeOptions, find_snapshot, list_snapshots, take_snapshot
from keenharbor.store import Store
from keenharbor.tree import Scan

WAIT_SECONDS = 5


def newest_whole(snapshots: Sequence[Snapshot]) -> Snapshot | None:
    """The newest of ``snapshots`` (newest first) that leaves out no area: what another one is compared with."""
    return next((s for s in snapshots if not s.manifest.areas_left_out), None)


CHANGES = ("cutover", "rollback", "rollback of a step", "snapshot restore", "settle")


def snapshot_for_trial(site: SiteView, store: Store, wanted: str | None, progress: Progress) -> Snapshot:
    """The snapshot that a trial starts from: the one that is ``wanted``, the newest, or a new one of ``live``; a new
    one as well where there is none, or where live was changed since the newest was taken. Raises `UsageError` when
    there is no such one."""
    known = list_snapshots(store, site.name)
    since = [e for e in read_log(site.work).entries if e.command in CHANGES and e.outcome in ("done", "settled")]
    stale = bool(known and since) and parse_stamp(since[-1].at) > known[0].taken_at
    if wanted is None and stale:
        progress.note(f"live was changed by a {since[-1].command} since the newest snapshot: a new one is taken")
    if wanted == "live" or (wanted is None and (not known or stale)):
        return take_guarded(site, store, TakeOptions(reason="before a trial"), progress)
    return find_snapshot(store, wanted or "newest", site.name)


def take_guarded(
    site: SiteView, store: Store, options: TakeOptions, progress: Progress, looked: Scan | None = None,
    read: Snapshot | None = None,
) -> Snapshot:  # fmt: skip
    """Take a snapshot, reading only files that changed since the newest whole one, and note it in the log. The lists
    of ``read`` need not be read again where it is still that one.

    Raises `UnsettledError` when an interrupted change has left live between two states.
    """
    with exclusive(site, WAIT_SECONDS):
        earlier = None if options.read_all else newest_whole(list_snapshots(store, site.name))
        if read is not None and earlier is not None and read.id == earlier.id:
            earlier = read
        taken = take_snapshot(site, store, options, progress, earlier, looked)
        detail = f"{size(taken.manifest.added_bytes)} added, {options.reason}"
        append_log(site.work, site.name, "snapshot take", "done", detail, taken.id)
        return taken
