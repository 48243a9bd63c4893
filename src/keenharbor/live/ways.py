"""The ways back that are open: each cutover that was done, until live went back of it, was given something else, or a
person closed it.

What a way back needs stays in the store: the snapshot from before the cutover, and the one of the arrival. What changed
since the arrival is what people did, exactly; what changed before it is the upgrade's doing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from keenharbor.database.diff import Carried
from keenharbor.live.journal import last_change
from keenharbor.merge.model import Passage
from keenharbor.site.log import LogEntry, append_log, read_log
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot, change_record, list_snapshots, record_of
from keenharbor.store import Store
from keenharbor.trial.wayback import backwards

CLOSED = "rollback close"
"""How the log calls that a person gave up the way back."""


@dataclass(frozen=True)
class WayBack:
    """From where live is to the snapshot ``target`` from before a cutover; ``arrival`` is the state at that cutover's
    end (none where an earlier version of the tool carried it out, or it could not be saved). ``trial`` is the one that
    it repeated, where its steps were carried out on live."""

    target: Snapshot
    arrival: Snapshot | None
    passages: tuple[Passage, ...] = ()
    trial: str | None = None


def note_arrival(
    arrival: Snapshot, target: Snapshot, carried: Sequence[Carried], trial: str | None = None
) -> None:  # fmt: skip
    """Note in the record of a snapshot that it is the state at the end of the cutover before which ``target`` was
    taken, with the tables that the steps have carried elsewhere, and the ``trial``."""
    said = [{"table": c.table, "to": c.to, "columns": dict(c.columns)} for c in carried]
    change_record(arrival, lambda record: record.update(arrival={"of": target.id, "carried": said, "trial": trial}))


def open_ways(site: SiteView, store: Store) -> list[WayBack]:
    """The ways back that are open, the newest cutover's first: live can go them one behind the other."""
    known = {s.id: s for s in list_snapshots(store, site.name)}
    arrivals = {
        str(said["of"]): (s, said)
        for s in known.values()
        if s.reason == "after a cutover" and (said := record_of(store, s.id).get("arrival")) is not None
    }
    found = []
    for target in reversed(_targets(site)):
        if target not in known:
            break  # what lies behind it is reached through it
        if target not in arrivals:
            found.append(WayBack(known[target], None))
            continue
        arrival, said = arrivals[target]
        found.append(WayBack(known[target], arrival, tuple(_backwards(c) for c in said["carried"]), said.get("trial")))
    return found


def trials_needed(site: SiteView, store: Store) -> frozenset[str]:
    """Trials whose checkpoints tell what each step of the last cutover did: it may be wished back alone."""
    return frozenset(way.trial for way in open_ways(site, store)[:1] if way.trial is not None)


def _backwards(said: dict[str, object]) -> Passage:
    """How what the steps carried is called where it came from."""
    columns = said["columns"]
    assert isinstance(columns, dict)
    carried = Carried(str(said["table"]), str(said["to"]), {str(new): str(old) for new, old in columns.items()})
    return backwards([carried])[0]


def forwards(carried: Sequence[Carried]) -> tuple[Passage, ...]:
    """How what the steps carried is called where it went."""
    return tuple(Passage(c.table, c.to, {old: new for new, old in c.columns.items()}) for c in carried)


def _targets(site: SiteView) -> list[str]:
    """Ids of the snapshots from before the cutovers that live stands on, the oldest first."""
    targets: list[str] = []
    for entry in read_log(site.work).entries:
        _follow(targets, entry)
    last = last_change(site.work)
    unlogged = last.safety if last is not None and (last.kind, last.phase) == ("cutover", "done") else None
    if unlogged is not None and unlogged not in targets and not _was_logged(site, unlogged):
        targets.append(unlogged)
    return targets


def _was_logged(site: SiteView, subject: str) -> bool:
    return any(
        e.command == "cutover" and e.outcome == "done" and e.subject == subject for e in read_log(site.work).entries
    )


def _follow(targets: list[str], entry: LogEntry) -> None:
    if entry.command == "cutover" and entry.outcome == "done":
        targets.append(entry.subject)
    elif (entry.command == "rollback" and entry.outcome == "done") or (
        entry.command == "settle" and entry.outcome == "settled" and entry.subject in targets
    ):
        # To somewhere else than before a cutover: the ways lead from nowhere now.
        del targets[targets.index(entry.subject) if entry.subject in targets else 0 :]
    elif entry.command == CLOSED or (entry.command == "snapshot restore" and entry.outcome == "done"):
        targets.clear()


def close_ways(site: SiteView, store: Store) -> list[Snapshot]:
    """Give up the ways back that are open; their snapshots may be thinned out from now on."""
    ways = open_ways(site, store)
    if ways:
        append_log(site.work, site.name, CLOSED, "done", "the way back was given up", ways[0].target.id)
    return [w.target for w in ways]
