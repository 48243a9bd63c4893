"""Settling an interrupted change, the same way each time it is tried."""

from __future__ import annotations

from dataclasses import dataclass

from keenharbor.base.errors import DamagedError, UnsettledError, UsageError
from keenharbor.base.locks import held
from keenharbor.base.progress import Progress
from keenharbor.base.text import now
from keenharbor.cutover.journal import Journal, close_journal, open_journal, steps_have_ended
from keenharbor.cutover.live import maintenance_off, put_back, reload_host
from keenharbor.cutover.restore import Chosen, put_back_chosen
from keenharbor.cutover.rollback import go_back
from keenharbor.site.log import append_log
from keenharbor.site.view import SiteView
from keenharbor.snapshot.manifest import read_snapshot
from keenharbor.store import Store

WAIT_SECONDS = 60
"""So long the programs that a killed run had started are waited for."""


@dataclass(frozen=True)
class Settled:
    """What was settled, and whether live is now as ``before`` or as ``after`` the change."""

    kind: str
    started_at: str
    live_is: str
    detail: str


def settle(site: SiteView, progress: Progress) -> Settled | None:
    """Bring live to the state before or after the interrupted change; None when there is nothing to settle.

    Unfinished packs of a killed snapshot are collected too.
    """
    with held(site.work / "site.lock", f"the site '{site.name}'", WAIT_SECONDS):
        if (site.store_folder / "store.json").exists():
            store = Store(site.store_folder)
            with store.in_use():
                store.collect_staging()
        journal = open_journal(site.work)
        if journal is None:
            return None
        if journal.site != site.name:
            raise UsageError(
                f"what was interrupted here is {journal.told}, not of '{site.name}'", where=site.work,
                advice="type 'keenharbor settle' with that site's file",
            )  # fmt: skip
        steps_have_ended(site, WAIT_SECONDS)
        try:
            live_is, detail = _finish(site, journal, progress)
        except KeyboardInterrupt as stop:
            raise UnsettledError(
                f"settling {journal.told}, was stopped", where=site.root, advice="keenharbor settle goes on"
            ) from stop
        close_journal(site)
        append_log(site.work, site.name, "settle", "settled", f"{journal.told}: {detail}")
        return Settled(journal.kind, journal.started_at, live_is, detail)


def _finish(site: SiteView, journal: Journal, progress: Progress) -> tuple[str, str]:
    if journal.phase == "begun":
        maintenance_off(site)
        return "before", "it had not changed anything; live is as before"
    if journal.phase == "done":
        reload_host(site)
        maintenance_off(site)
        return "after", "it had done its work; live is as after it"
    store = Store(site.store_folder)
    if journal.safety is None:
        raise DamagedError("the journal names no safety snapshot", where=site.work / "journal.json")
    if journal.kind == "cutover":
        progress.stage(f"putting back snapshot {journal.safety}")
        put_back(site, store, journal.safety)
        return "before", f"snapshot {journal.safety} was put back; live is as before it"
    if journal.kind == "restore":
        progress.stage(f"going on with giving back snapshot {journal.target}")
        chosen = Chosen.from_json(journal.chosen or {})
        try:
            put_back_chosen(site, read_snapshot(store, str(journal.target)), chosen, journal.safety)
        except DamagedError as error:
            progress.note(f"that cannot be done ({error.what}); putting back snapshot {journal.safety}")
            put_back(site, store, journal.safety)
            return "before", f"snapshot {journal.safety} was put back; live is as before it"
        maintenance_off(site)
        return "after", f"what was chosen of snapshot {journal.target} is on live"
    progress.stage(f"going on with the way back to snapshot {journal.target}")
    target, safety = read_snapshot(store, str(journal.target)), read_snapshot(store, journal.safety)
    carried = go_back(site, target, safety)
    carried.save_aside(site.work / f"not-carried-{now():%Y%m%d-%H%M%S}.jsonl")
    maintenance_off(site)
    return "after", f"live is as snapshot {journal.target}, with {carried.rows} rows of visitors carried over"
