"""Rollback: live goes back to a snapshot, and what people did since comes along.

Where the state at the cutover's end is known (`keenharbor.live.ways`), everything that changed since then is carried
onto the state before it, of all tables cell by cell, and of all files but the code. Without it nobody can tell what the
upgrade did from what people did: then new rows come along of the tables alone that the site file calls visitors'."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path

from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.base.progress import Progress
from keenharbor.base.text import now, plural
from keenharbor.database import DatabaseState, DatabaseWriter, TableDelta
from keenharbor.live.environments import environment_back, environment_is_there, environment_missing, kept_environment
from keenharbor.live.flag import reload_host
from keenharbor.live.guard import changing_live
from keenharbor.live.journal import JournalFacts, last_change
from keenharbor.live.putting import differing_tree, prepared_database, put_database_back, put_tree_back, with_texts
from keenharbor.live.snapshots import take_guarded
from keenharbor.live.ways import WayBack, open_ways
from keenharbor.merge.carry import CarriedOver, carry_over, preview
from keenharbor.merge.model import Rule, Side
from keenharbor.merge.plan import MergePlan, way_apart
from keenharbor.merge.trees import CODE, MergedTree, merge_trees
from keenharbor.site.feed import Feed
from keenharbor.site.log import LOG_NAME, read_log
from keenharbor.site.passing import Passing
from keenharbor.site.view import SiteView
from keenharbor.site.writable import Writable
from keenharbor.snapshot import Snapshot, TakeOptions, list_snapshots
from keenharbor.store import Store
from keenharbor.tree import Entry
from keenharbor.tree.scan import Hashing, read_content
from keenharbor.trial.control import Control
from keenharbor.trial.result import WayBackTried, list_trials
from keenharbor.trial.sentinels import stands_for_all
from keenharbor.trial.wayback import try_way_back


@dataclass(frozen=True)
class Wishes:
    """What a person decided of a way back: which side wins where both changed the same (none: what the site file
    says), and the tables and columns (``table.column``) whose changes do not come along."""

    prefer: Side | None = None
    without: tuple[str, ...] = ()


AS_USUAL = Wishes()


@dataclass(frozen=True)
class RollbackResult:
    """Where live went back to; what was carried over, by table, and of files; what was put aside and where it is; what
    both sides had changed; in words, what was inferred, and what else differed."""

    site: str
    target: str
    safety: str
    exact: bool
    carried: dict[str, dict[str, int]]
    files: dict[str, list[str]]
    conflicts: tuple[dict[str, object], ...]
    renumbered: dict[str, int]
    inferred: tuple[str, ...]
    aside: int
    left_out: int
    trimmed: int
    aside_file: str | None
    elsewhere: tuple[str, ...]
    core: str
    runtime: str
    remarks: tuple[str, ...] = ()

    def as_json(self) -> dict[str, object]:
        return asdict(self)


@dataclass
class Merged:
    """What a way back brings along."""

    rows: CarriedOver = field(default_factory=CarriedOver)
    files: MergedTree | None = None
    exact: bool = False

    @property
    def conflicts(self) -> list[dict[str, object]]:
        """What both sides had changed: cells, then files."""
        files = self.files.conflicts if self.files is not None else []
        return [asdict(c) for c in self.rows.conflicts] + [asdict(c) for c in files]

    def files_json(self) -> dict[str, list[str]]:
        """What became of files."""
        found = self.files
        if found is None:
            return {}
        parts = {"added": found.added, "changed": found.changed, "removed": found.removed,
                 "merged": sorted(found.merged), "left": found.left}  # fmt: skip
        return {word: paths for word, paths in parts.items() if paths}

    def told(self) -> str:
        """In a few words."""
        rows = "; ".join(count.told(table) for table, count in sorted(self.rows.carried.items()))
        files = plural(self.files.count, "file") if self.files is not None and self.files.count else ""
        return ", and ".join(part for part in (rows, files) if part) or "nothing"


def default_way(site: SiteView, store: Store) -> WayBack:
    """The way back from the last cutover, also of one that could not be logged. Raises `UsageError` when there was
    none."""
    log, last = read_log(site.work), last_change(site.work)
    if ways := open_ways(site, store):
        return ways[0]
    done = [e for e in log.entries if e.command == "cutover" and e.outcome == "done"]
    if log.damaged_behind(done[-1] if done else None) and (last is None or last.kind != "cutover"):
        raise DamagedError(
            f"line {log.damaged[-1][0]} of the log is damaged, and may tell of a later cutover",
            where=site.work / LOG_NAME,
            advice="name the snapshot to go back to; 'keenharbor snapshot list' shows them",
        )  # fmt: skip
    known = {s.id: s for s in list_snapshots(store, site.name)}
    for entry in reversed(done):
        if entry.subject in known:  # gone back from already, or given up: the snapshot is there yet
            return WayBack(known[entry.subject], None)
    raise UsageError(
        "there was no cutover to go back from", where=site.work,
        advice="name the snapshot to go back to; 'keenharbor snapshot list' shows them",
    )  # fmt: skip


def ways_to(site: SiteView, store: Store, target: Snapshot) -> list[WayBack]:
    """How live gets to ``target``: back over each cutover since, one behind the other; or at once, by the rows of
    visitors' tables alone, where it is not from before one that is open."""
    ways = open_ways(site, store)
    at = next((n for n, w in enumerate(ways) if w.target.id == target.id), None)
    if at is None or any(w.arrival is None for w in ways[: at + 1]):
        return [WayBack(target, None)]
    return ways[: at + 1]


def look_at_way(site: SiteView, way: WayBack, wishes: Wishes = AS_USUAL) -> Merged:
    """What would be carried over if live went back now; reads only."""
    with site.reading_database() as live:
        _refuse_strange(wishes, live)
        rows = preview(_plan(site, way, live, wishes))
    if way.arrival is None:
        return Merged(rows)
    scan = site.scan()
    read_content(site.files, scan, Hashing(), way.arrival.entries, None, lambda done, total: None)
    files = merge_trees(way.arrival.entries, scan.entries, way.target.entries, CODE, _content_of(way.target, site))
    return Merged(rows, files, exact=True)


def _refuse_strange(wishes: Wishes, live: DatabaseState) -> None:
    for named in wishes.without:
        table, _, column = named.rpartition(".")
        found = live.schema.table(table)
        if live.schema.table(named) is None and (found is None or column not in found.columns):
            raise UsageError(f"--without: the database has no table or column '{named}'")


def seconds_in_trial(site: SiteView, way: WayBack) -> float | None:
    """How long this way back took on a clone, in the last trial before its cutover; None where none was tried."""
    if way.arrival is None:
        return None
    tried = (t.way_back for t in list_trials(site.work) if t.started < way.arrival.taken_at)
    found = next((t for t in tried if t is not None), None)
    return found.seconds if found is not None and found.seconds else None


def _content_of(snapshot: Snapshot, live: SiteView | None = None) -> Callable[[Entry], bytes]:
    def content(entry: Entry) -> bytes:
        if live is not None and not all(map(snapshot.store.has, entry.objects)):
            return live.path(entry.path).read_bytes()
        return b"".join(snapshot.store.read(o) for o in entry.objects)

    return content


def run_rollback(
    site: SiteView, store: Store, way: WayBack, progress: Progress, wishes: Wishes = AS_USUAL
) -> RollbackResult:  # fmt: skip
    """Take a safety snapshot, then make live what the way's target holds, with what people did since.

    One that fails is put back by the guard; one that is killed is carried on by `settle`: all that it goes by is in
    the store, so the outcome is the same."""
    target = way.target
    if target.site != site.name:
        raise UsageError(f"snapshot {target.id} is of the site '{target.site}', not of '{site.name}'")
    why = f"before going back to {target.id}"
    facts = JournalFacts(target=target.id, prefer=wishes.prefer, without=wishes.without)
    progress.stage("preparing the way back")
    apart = way_apart(way.arrival.state, target.state, way.passages) if way.arrival is not None else None
    with (
        prepared_database(site, target.state) as file,
        changing_live(site, store, "rollback", progress, way.arrival or target, why, facts) as change,
    ):
        assert change.safety is not None
        safety = change.safety
        change.enter("changing", safety.id)
        progress.stage(f"going back to snapshot {target.id}")
        if missing := environment_missing(site, target):
            progress.note(missing)
        merged = go_back(change.live, way, safety, wishes, apart, file)
        aside_file = merged.rows.save_aside(site.work / f"not-carried-{now():%Y%m%d-%H%M%S}.jsonl")
        change.enter("done")
    detail = (
        f"to snapshot {target.id}; {plural(merged.rows.rows, 'row')} carried over, {merged.rows.not_carried} put aside"
    )
    change.log("done", detail, target.id)
    return _result(site, target, safety, merged, aside_file, tuple(change.remarks))


def go_back(
    site: Writable, way: WayBack, safety: Snapshot, wishes: Wishes = AS_USUAL,
    apart: Mapping[str, TableDelta] | None = None, file: Path | None = None,
) -> Merged:  # fmt: skip
    """Files and database of the way's target, with what people had done by ``safety``. Can be repeated. ``apart`` and
    ``file`` are what could be made beforehand (`way_apart`, `prepared_database`)."""
    target, trees, files = way.target, None, None
    if way.arrival is not None:
        wanted, present = differing_tree(site, target)
        files = merge_trees(way.arrival.entries, safety.entries, wanted, CODE, _content_of(target))
        trees = with_texts(files, target.store), present
    put_tree_back(site, target, found=trees)
    environment_back(site, target)
    plan = _plan(site, way, safety.state, wishes, apart)
    found: list[CarriedOver] = []

    def carry(writer: DatabaseWriter) -> None:
        found.append(carry_over(plan, writer))

    put_database_back(site, target, carry, safety, file)
    reload_host(site)
    return Merged(found[0], files, way.arrival is not None)


def rehearse_way(
    site: SiteView, store: Store, way: WayBack, feed: Feed, progress: Progress, wishes: Wishes = AS_USUAL
) -> WayBackTried:  # fmt: skip
    """Go the way back on a clone, with what people did on live until now, and look at it; live is only read. Raises
    `UsageError` where that cannot be tried."""
    if way.arrival is None:
        raise UsageError(
            "the state at the cutover's end is not known: this way back cannot be rehearsed", where=site.work,
            advice="'keenharbor snapshot drill' tries the snapshot by itself",
        )  # fmt: skip
    like = kept_environment(site, way.target)
    if like is None and not environment_is_there(site, way.target):
        raise UsageError(
            "the old code would run with the new environment on a clone, since the old one is not kept: this way back "
            "cannot be rehearsed", where=site.site_file,
        )  # fmt: skip
    options = TakeOptions(comment="to rehearse a way back", reason="before a trial", every_row=True)
    now_there = take_guarded(site, store, options, progress)
    progress.stage(f"making a clone of snapshot {way.target.id}")
    control = Control(site, way.target, feed, like=like)
    try:
        control.start()
        progress.stage("looking at it, before and with what people did since")
        before = control.stage.look(samples=1, timed=False)
        pages = stands_for_all(before, site.model.look.starts, [])
        rule = rule_of(site, wishes)
        return try_way_back(control, way.arrival, now_there, before, pages, way.passages, rule, wishes.without)
    finally:
        control.drop()


def _plan(
    site: SiteView, way: WayBack, theirs: DatabaseState, wishes: Wishes,
    apart: Mapping[str, TableDelta] | None = None,
) -> MergePlan:  # fmt: skip
    ours, model = way.target.state, site.model
    standing = Passing(model.volatile).without
    if way.arrival is None:
        return MergePlan(ours, theirs, ours, standing=standing, only_added=model.visitor_data.tables)
    rule = rule_of(site, wishes)
    return MergePlan(way.arrival.state, theirs, ours, way.passages, rule, standing, without=wishes.without, apart=apart)


def rule_of(site: SiteView, wishes: Wishes) -> Rule:
    """Which side wins where both changed the same: as wished, else as the site file says."""
    part = site.model.merge
    sides: Mapping[str, Side] = {"live": "theirs", "snapshot": "ours"}
    return lambda table: wishes.prefer or sides.get(part.tables.get(table, part.wins), "theirs")


def refuse_undecided(site: SiteView, merged: Merged, wishes: Wishes) -> None:
    """Raise `UsageError` where both sides changed something, and the site file says to ask."""
    part = site.model.merge
    asked = [c for c in merged.rows.conflicts if part.tables.get(c.table, part.wins) == "ask"]
    if asked and wishes.prefer is None:
        listed = "; ".join(f"{c.table} {', '.join(map(str, c.key.values()))}" for c in asked[:3])
        raise UsageError(
            f"{plural(len(asked), 'thing')} that both the upgrade and somebody since then changed: {listed}",
            where=site.site_file,
            advice="'keenharbor rollback --look' shows them; add '--prefer live' or '--prefer snapshot'",
        )


def _result(
    site: SiteView, target: Snapshot, safety: Snapshot, merged: Merged, aside_file: Path | None,
    remarks: tuple[str, ...],
) -> RollbackResult:  # fmt: skip
    rows = merged.rows
    core, runtime = site.told_versions()
    return RollbackResult(
        site=site.name,
        target=target.id,
        safety=safety.id,
        exact=merged.exact,
        carried={table: count.as_json() for table, count in rows.carried.items()},
        files=merged.files_json(),
        conflicts=tuple(merged.conflicts),
        renumbered=rows.numbers,
        inferred=tuple(rows.inferred),
        aside=rows.not_carried - rows.left_out,
        left_out=rows.left_out,
        trimmed=rows.trimmed,
        aside_file=str(aside_file) if aside_file else None,
        elsewhere=tuple(rows.elsewhere),
        core=core,
        runtime=f"{site.model.runtime.name} {runtime}",
        remarks=remarks,
    )
