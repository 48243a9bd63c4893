"""Which snapshots something under way still relies on."""

from __future__ import annotations

from keenharbor.clone.facts import list_clones
from keenharbor.live.journal import open_journal
from keenharbor.live.ways import open_ways, trials_needed
from keenharbor.site.view import SiteView
from keenharbor.store import Store
from keenharbor.trial.result import list_trials


def needed_snapshots(site: SiteView) -> dict[str, str]:
    """By id, what needs the snapshot: an open change of live, a way back, a clone, the newest trial of each plan
    (for its cutover), and the one that tells what each step of the last cutover did."""
    found: dict[str, str] = {}
    seen: set[str] = set()
    store = Store(site.store_folder) if (site.store_folder / "store.json").exists() else None
    of_last_cutover = trials_needed(site, store) if store is not None else frozenset()
    for trial in list_trials(site.work):  # newest first
        if trial.plan_file not in seen or trial.id in of_last_cutover:
            seen.add(trial.plan_file)
            found[trial.snapshot] = f"needed by trial {trial.id}"
    if store is not None:
        for way in open_ways(site, store):
            for snapshot in (way.target, way.arrival):
                if snapshot is not None:
                    found[snapshot.id] = "needed by the way back ('keenharbor rollback --close' gives it up)"
    for clone in list_clones(site.work):
        found[clone.snapshot] = f"needed by clone {clone.id}"
    journal = open_journal(site.work)
    if journal is not None:
        for identity in (journal.safety, journal.target):
            if identity is not None:
                found[identity] = f"needed to settle {journal.told}"
    return found
