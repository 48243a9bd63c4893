"""Rollback: live goes back to a snapshot, and what visitors added since comes along."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from pathlib import Path

from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.base.progress import Progress
from keenharbor.base.text import now, plural
from keenharbor.database import DatabaseState, DatabaseWriter, row_delta
from keenharbor.live.environments import environment_back, environment_missing
from keenharbor.live.flag import reload_host
from keenharbor.live.guard import changing_live
from keenharbor.live.journal import JournalFacts, last_change
from keenharbor.live.putting import put_database_back, put_tree_back
from keenharbor.merge.carry import CarriedOver, carry_over
from keenharbor.site.log import LOG_NAME, read_log
from keenharbor.site.view import SiteView
from keenharbor.site.writable import Writable
from keenharbor.snapshot import Snapshot, list_snapshots
from keenharbor.store import Store


@dataclass(frozen=True)
class RollbackResult:
    """Where live went back to, what was carried over by table, what was put aside and where it is."""

    site: str
    target: str
    safety: str
    carried: dict[str, int]
    aside: int
    trimmed: int
    aside_file: str | None
    elsewhere: tuple[str, ...]
    core: str
    runtime: str
    remarks: tuple[str, ...] = ()

    def as_json(self) -> dict[str, object]:
        return asdict(self)


def default_target(site: SiteView, store: Store) -> Snapshot:
    """The safety snapshot of the last cutover, also of one that could not be logged. Raises `UsageError` when there was
    none."""
    log = read_log(site.work)
    done = [e for e in log.entries if e.command == "cutover" and e.outcome == "done"]
    known = {s.id: s for s in list_snapshots(store, site.name)}
    candidates = [e.subject for e in reversed(done)]
    last = last_change(site.work)
    if last is not None and last.kind == "cutover" and last.phase == "done" and last.safety is not None:
        candidates.insert(0, last.safety)
    elif log.damaged_behind(done[-1] if done else None):
        raise DamagedError(
            f"line {log.damaged[-1][0]} of the log is damaged, and may tell of a later cutover",
            where=site.work / LOG_NAME,
            advice="name the snapshot to go back to; 'keenharbor snapshot list' shows them",
        )  # fmt: skip
    for candidate in candidates:
        if candidate in known:
            return known[candidate]
    raise UsageError(
        "there was no cutover to go back from", where=site.work,
        advice="name the snapshot to go back to; 'keenharbor snapshot list' shows them",
    )  # fmt: skip


def preview_rollback(site: SiteView, target: Snapshot) -> dict[str, int]:
    """How many new rows of visitors would be carried over, by table; reads only."""
    with site.reading_database() as live:
        delta = row_delta(target.state, live)
    return {t: len(delta.tables[t].added) for t in site.model.visitor_data.tables if t in delta.tables}


def run_rollback(site: SiteView, store: Store, target: Snapshot, progress: Progress) -> RollbackResult:
    """Take a safety snapshot, then make live what ``target`` holds, plus visitors' new rows.

    One that fails is put back by the guard; one that is killed is carried on by `settle`: both ends are in the store,
    so the outcome is the same."""
    if target.site != site.name:
        raise UsageError(f"snapshot {target.id} is of the site '{target.site}', not of '{site.name}'")
    why = f"before going back to {target.id}"
    with changing_live(site, store, "rollback", progress, target, why, JournalFacts(target=target.id)) as change:
        assert change.safety is not None
        safety = change.safety
        change.enter("changing", safety.id)
        progress.stage(f"going back to snapshot {target.id}")
        if missing := environment_missing(site, target):
            progress.note(missing)
        carried = go_back(change.live, target, safety)
        aside_file = carried.save_aside(site.work / f"not-carried-{now():%Y%m%d-%H%M%S}.jsonl")
        change.enter("done")
    detail = f"to snapshot {target.id}; {plural(carried.rows, 'row')} carried over, {carried.not_carried} put aside"
    change.log("done", detail, target.id)
    return _result(site, target, safety, carried, aside_file, tuple(change.remarks))


def go_back(site: Writable, target: Snapshot, safety: Snapshot) -> CarriedOver:
    """Files of ``target``; its database plus the rows that visitors had added by ``safety``. Can be repeated."""
    put_tree_back(site, target)
    environment_back(site, target)
    base: DatabaseState = target.state
    found: list[CarriedOver] = []

    def carry(writer: DatabaseWriter) -> None:
        found.append(carry_over(base, safety.state, base, site.model.visitor_data.tables, writer))

    put_database_back(site, target, carry, safety)
    reload_host(site)
    return found[0]


def _result(
    site: SiteView, target: Snapshot, safety: Snapshot, carried: CarriedOver, aside_file: Path | None,
    remarks: tuple[str, ...],
) -> RollbackResult:  # fmt: skip
    return RollbackResult(
        site=site.name,
        target=target.id,
        safety=safety.id,
        carried=carried.carried,
        aside=carried.not_carried,
        trimmed=carried.trimmed,
        aside_file=str(aside_file) if aside_file else None,
        elsewhere=tuple(carried.elsewhere),
        core=site.core_version(),
        runtime=f"{site.model.runtime.name} {site.runtime_version()}",
        remarks=remarks,
    )
