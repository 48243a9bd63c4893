"""Rollback: live goes back to a snapshot, and what visitors added since comes along."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from keenharbor.base.errors import UnsettledError, UsageError
from keenharbor.base.progress import Progress
from keenharbor.base.text import now, plural
from keenharbor.cutover.environments import environment_back, environment_missing
from keenharbor.cutover.journal import begin_journal, close_journal, enter_phase, exclusive
from keenharbor.cutover.live import (
    locked_out,
    maintenance_off,
    new_token,
    put_database_back,
    put_tree_back,
    reload_host,
)
from keenharbor.cutover.merge import CarriedOver, carry_over
from keenharbor.database import DatabaseState, DatabaseWriter, row_delta
from keenharbor.site.log import append_log, read_log
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot, TakeOptions, list_snapshots, take_snapshot
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

    def as_json(self) -> dict[str, Any]:
        return asdict(self)


def default_target(site: SiteView, store: Store) -> Snapshot:
    """The safety snapshot of the last cutover. Raises `UsageError` when there was none."""
    for entry in reversed(read_log(site.work)):
        if entry.command == "cutover" and entry.outcome == "done":
            for snapshot in list_snapshots(store, site.name):
                if snapshot.id == entry.subject:
                    return snapshot
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

    From the moment that the safety snapshot stands the change is carried on, not undone, when it is interrupted
    (`settle`): both ends are in the store, so the outcome is the same.
    """
    if target.site != site.name:
        raise UsageError(f"snapshot {target.id} is of the site '{target.site}', not of '{site.name}'")
    token = new_token()
    with exclusive(site):
        journal = begin_journal(site, "rollback", token, target=target.id)
        with locked_out(site, token, progress):
            progress.stage("taking a safety snapshot")
            options = TakeOptions(
                comment=f"before going back to {target.id}", reason="before a rollback", every_row=True
            )
            safety = take_snapshot(site, store, options, progress, target)
        journal = enter_phase(site, journal, "changing", safety.id)
        try:
            progress.stage(f"going back to snapshot {target.id}")
            if missing := environment_missing(site, target):
                progress.note(missing)
            carried = go_back(site, target, safety)
            aside_file = carried.save_aside(site.work / f"not-carried-{now():%Y%m%d-%H%M%S}.jsonl")
            enter_phase(site, journal, "done")
            progress.stage("maintenance off")
            maintenance_off(site)
        except BaseException as error:
            append_log(site.work, site.name, "rollback", "interrupted", f"to {target.id}: {error}", target.id)
            raise UnsettledError(
                f"the way back was interrupted: {error}", where=site.root, advice="keenharbor settle carries it on"
            ) from error
        close_journal(site)
        detail = f"to snapshot {target.id}; {plural(carried.rows, 'row')} carried over, {carried.not_carried} put aside"
        append_log(site.work, site.name, "rollback", "done", detail, target.id)
    return _result(site, target, safety, carried, aside_file)


def go_back(site: SiteView, target: Snapshot, safety: Snapshot) -> CarriedOver:
    """Files of ``target``; its database plus the rows that visitors had added by ``safety``. Can be repeated."""
    put_tree_back(site, target)
    environment_back(site, target)
    base: DatabaseState = target.state
    found: list[CarriedOver] = []

    def carry(writer: DatabaseWriter) -> None:
        found.append(carry_over(base, safety.state, base, site.model.visitor_data.tables, writer))

    put_database_back(site, target, carry)
    reload_host(site)
    return found[0]


def _result(
    site: SiteView, target: Snapshot, safety: Snapshot, carried: CarriedOver, aside_file: Path | None
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
    )
