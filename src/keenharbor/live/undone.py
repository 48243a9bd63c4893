"""One step of a cutover taken back, while the rest of the upgrade and what people did since stay.

base: the trial's clone after the step. ours: the same before it. theirs: live as it is now. All in live's terms, and
cut down to the files and tables that the step touched; the rest of live is left as it is. What changed in them on live
since the step (by people, by later steps) is carried onto the state before it, as `keenharbor.live.rollback` carries it
onto the state before the cutover. A step on which a later one built cannot be taken back alone."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Mapping
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from tempfile import TemporaryDirectory

from keenharbor.base.durable import private_folder
from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.base.progress import Progress
from keenharbor.base.text import now, plural
from keenharbor.compare import Look, Visitor
from keenharbor.compare.look import take_look
from keenharbor.database import DatabaseState, Schema, StoredState, encode_row, row_delta
from keenharbor.live.flag import pass_header, reload_host
from keenharbor.live.guard import Change, changing_live
from keenharbor.live.journal import JournalFacts
from keenharbor.live.putting import empty_caches, with_texts
from keenharbor.live.rollback import Merged, Wishes, rule_of
from keenharbor.live.snapshots import take_guarded
from keenharbor.live.ways import open_ways
from keenharbor.merge.carry import carry_over, preview
from keenharbor.merge.plan import MergePlan, Told
from keenharbor.merge.trees import CODE, NOT_MERGED, MergedTree, merge_trees
from keenharbor.site.feed import Feed
from keenharbor.site.passing import Passing
from keenharbor.site.view import SiteView
from keenharbor.site.writable import Writable
from keenharbor.snapshot import Snapshot, TakeOptions, find_snapshot
from keenharbor.store import Store
from keenharbor.tree import Entry, compare_trees, restore_tree
from keenharbor.tree.scan import Hashing, read_content
from keenharbor.trial.control import Control
from keenharbor.trial.plan import read_plan
from keenharbor.trial.record import SeenStep, TrialRecord, read_record
from keenharbor.trial.renamed import places_of_live, renamed_entries, renamed_state
from keenharbor.trial.sentinels import stands_for_all
from keenharbor.trial.steps import DistributionsStep
from keenharbor.trial.wayback import MOST_PAGES, worse

STATES_OF_A_STEP = ".step-"
"""How the folder begins in which both states of a step are kept while it is looked at."""
WHOLE = "keenharbor rollback goes back to before the whole cutover"


@dataclass(frozen=True)
class Undone:
    """What the step ``name`` of ``trial`` made of a tree and a database, in live's terms: both sides of it, of what it
    touched (``paths``, ``tables``, ``definitions``) alone; ``rows`` are how many it changed, by table."""

    name: str
    trial: str
    store: Store
    paths: frozenset[str]
    tables: frozenset[str]
    definitions: frozenset[str]
    rows: Mapping[str, int]
    tree_after: Mapping[str, Entry]
    tree_before: Mapping[str, Entry]
    after: StoredState
    before: StoredState

    @property
    def files(self) -> list[str]:
        """The files and links among the paths."""
        both = ((p, e) for tree in (self.tree_after, self.tree_before) for p, e in tree.items())
        return sorted({p for p, e in both if e.kind != "folder"})

    def plan(self, site: SiteView, live: DatabaseState, wishes: Wishes) -> MergePlan:
        """What changed since the step in the tables that it touched, to be carried onto them as they were before."""
        standing = Passing(site.model.volatile).without
        return MergePlan(
            self.after, live, self.before, rule=rule_of(site, wishes), standing=standing, without=wishes.without,
            only=self.tables,
        )  # fmt: skip

    def schema_on(self, live: Schema) -> Schema:
        """Live's definitions, but for those that the step made: these are as before it."""
        tables = [self.before.schema.table(t.name) if t.name in self.tables else t for t in live.tables]
        kept = [t for t in tables if t is not None]
        kept += [t for t in self.before.schema.tables if live.table(t.name) is None]
        old = {(o.kind, o.name): o for o in self.before.schema.objects if f"{o.kind} {o.name}" in self.definitions}
        objects = [
            old.pop((o.kind, o.name), None) if f"{o.kind} {o.name}" in self.definitions else o for o in live.objects
        ]
        new = {k for k in self.after.schema.counters if k not in self.before.schema.counters}
        return replace(
            live, tables=tuple(kept), objects=(*(o for o in objects if o is not None), *old.values()),
            counters={k: v for k, v in live.counters.items() if k not in new},
        )  # fmt: skip

    def state_on(self, live: StoredState) -> StoredState:
        """Live's database with the tables that the step touched as they were before it."""
        tables = [t for t in live.tables.values() if t.name not in self.tables]
        return StoredState(self.schema_on(live.schema), [*tables, *self.before.tables.values()], self.store.read)


@dataclass(frozen=True)
class UndoneResult:
    """What came of taking back a step: of the files and rows that it touched what was carried, and what was put aside
    and where it is; the snapshot from just before."""

    site: str
    step: str
    safety: str
    files: int
    tables: tuple[str, ...]
    rows: dict[str, int]
    carried: dict[str, dict[str, int]]
    conflicts: tuple[dict[str, object], ...]
    aside: int
    aside_file: str | None
    remarks: tuple[str, ...] = ()

    def as_json(self) -> dict[str, object]:
        return asdict(self)


@contextlib.contextmanager
def step_undone(site: SiteView, store: Store, name: str, progress: Progress) -> Iterator[Undone]:
    """What the step ``name`` of the last cutover did, for the time of the block; live is not looked at. Raises
    `UsageError` where that is not known (any more), or where a later step built on it."""
    record, trial = _record(site, store)
    names = [s.name for s in record.steps]
    if name not in names:
        raise UsageError(f"the last cutover had no step '{name}'", advice=f"its steps: {', '.join(names)}")
    number = names.index(name)
    step = read_plan(record.folder / "plan.toml").step[number]
    if isinstance(step, DistributionsStep):
        raise UsageError(f"step '{name}' installed into the environment, which goes back as a whole", advice=WHOLE)
    if step.carries:
        raise UsageError(f"step '{name}' carried tables elsewhere, which go back as a whole", advice=WHOLE)
    checkpoints = Store(record.checkpoints, [store])
    states = [_states_of(step, checkpoints, site) for step in record.steps]
    before, after = states[number]
    touched = _Touched.between(site, before, after)
    if touched.nothing or step.only_looks:
        raise UsageError(f"step '{name}' changed nothing of its own: there is nothing to take back")
    progress.stage(f"looking whether later steps built on {name}")
    for later, then in zip(names[number + 1 :], states[number + 1 :], strict=True):
        _refuse_built_on(site, name, later, touched, (before, after), then)
    begun = find_snapshot(store, record.before.snapshot, site.name)
    with store.in_use(), TemporaryDirectory(prefix=STATES_OF_A_STEP, dir=site.work) as folder:
        own = Store.create(private_folder(Path(folder) / "states"), behind=[checkpoints, store])
        back = places_of_live(record.before.address, after, site)
        with own.writing(1, forks=False) as writer:
            trees = [renamed_entries(s, back, writer.add, touched.paths) for s in (after, before)]
            databases = [
                renamed_state(s, back, writer, own.read, touched.tables, _of_nobody(begun, s, touched))
                for s in (after, before)
            ]
        yield Undone(
            name, trial, own, touched.paths, touched.tables, touched.definitions, touched.rows, trees[0], trees[1],
            databases[0], databases[1],
        )  # fmt: skip


def _states_of(step: SeenStep, checkpoints: Store, site: SiteView) -> tuple[Snapshot, Snapshot]:
    """The trial's clone just before a step, and just behind it."""
    ids = (step.begun_from, step.record.checkpoint)
    found = [find_snapshot(checkpoints, i, site.name) for i in ids if i is not None]
    if len(found) < 2:
        raise UsageError(f"what step '{step.name}' did is not known: its trial is an older one", advice=WHOLE)
    return found[0], found[1]


def _of_nobody(begun: Snapshot, state: Snapshot, touched: _Touched) -> dict[str, set[bytes]]:
    """Rows of a checkpoint that neither live had nor the step has made, by their keys: the trial's own visits have
    written them. Live may have others under their numbers."""
    found = {}
    for name, delta in row_delta(begun.state, state.state, only=touched.tables).tables.items():
        table = state.state.schema.table(name)
        if table is not None and not table.keyless and delta.added:
            at = [delta.columns_right.index(k) for k in table.key]
            keys = {encode_row([row[i] for i in at]) for row in delta.added}
            found[name] = keys - touched.made.get(name, set())
    return found


def _record(site: SiteView, store: Store) -> tuple[TrialRecord, str]:
    ways = open_ways(site, store)
    if not ways:
        raise UsageError(
            "no way back is open: there is no cutover of which a step could be taken back", where=site.work
        )
    trial = ways[0].trial
    if trial is None or not (site.work / "trials" / trial).is_dir():
        raise UsageError(
            "what each step of the last cutover did is not known: its steps were done by hand, or by an earlier "
            "version of the tool", where=site.work, advice=WHOLE,
        )  # fmt: skip
    return read_record(site.work / "trials" / trial), trial


@dataclass(frozen=True)
class _Touched:
    """What a step touched: paths of files, tables by their rows or definition, definitions (``kind name``); how many
    ``rows`` of a table, and the keys of those that it ``made``."""

    paths: frozenset[str]
    tables: frozenset[str]
    definitions: frozenset[str]
    rows: Mapping[str, int]
    made: Mapping[str, set[bytes]]

    @property
    def nothing(self) -> bool:
        return not (self.paths or self.tables or self.definitions)

    @classmethod
    def between(cls, site: SiteView, before: Snapshot, after: Snapshot) -> _Touched:
        areas = {p: e.area for s in (before, after) for p, e in s.entries.items()}
        apart = compare_trees(before.entries, after.entries)
        paths = {p for p in (*apart.added, *apart.removed, *apart.changed, *apart.modes) if areas[p] not in NOT_MERGED}
        delta = Passing(site.model.volatile).without(row_delta(before.state, after.state))
        old, new = before.state.schema.definitions(), after.state.schema.definitions()
        definitions = {k for k in old.keys() | new.keys() if old.get(k) != new.get(k)}
        tables = {*delta.tables, *(k.removeprefix("table ") for k in definitions if k.startswith("table "))}
        rows = {n: len(t.added) + len(t.removed) + len(t.changed) for n, t in delta.tables.items()}
        made = {}
        for name, changed in delta.tables.items():
            if (table := after.state.schema.table(name)) is not None and changed.added:
                at = [changed.columns_right.index(k) for k in table.key]
                made[name] = {encode_row([row[i] for i in at]) for row in changed.added}
        return cls(frozenset(paths), frozenset(tables), frozenset(definitions), rows, made)


def _refuse_built_on(
    site: SiteView, name: str, later: str, touched: _Touched, step: tuple[Snapshot, Snapshot],
    then: tuple[Snapshot, Snapshot],
) -> None:  # fmt: skip
    """Raise `UsageError` where the step ``later`` (its two states are ``then``) changed what ``name`` had changed."""
    others = _Touched.between(site, *then)
    reason = ""
    if files := sorted(p for p in touched.paths & others.paths if _is_file(p, *step, *then)):
        reason = f"changed {files[0]}, too" + (f" (and {plural(len(files) - 1, 'more file')})" if files[1:] else "")
    elif made := sorted(touched.definitions & others.definitions):
        reason = f"changed the definition of the {made[0]}, too"
    elif both := touched.tables & others.tables:
        told = Told()
        for _ in MergePlan(step[1].state, then[1].state, step[0].state, only=both).changes(told):
            pass
        # What later checks of visitors wrote beside is no building on it.
        if told.conflicts:
            found = told.conflicts[0]
            reason = f"changed the same row of {found.table} ({', '.join(map(str, found.key.values()))})"
    if reason:
        raise UsageError(f"step '{name}' cannot be taken back alone: step '{later}' {reason}", advice=WHOLE)


def _is_file(path: str, *states: Snapshot) -> bool:
    return any((e := s.entries.get(path)) is not None and e.kind != "folder" for s in states)


def look_at_undone(site: SiteView, undone: Undone, wishes: Wishes) -> Merged:
    """What would be carried on live if the step were taken back now; reads only. Raises `UsageError` where code that
    it touched was changed by hand since."""
    with site.reading_database() as live:
        rows = preview(undone.plan(site, live, wishes))
    scan = site.scan()
    read_content(site.files, scan, Hashing(), undone.tree_after, None, lambda done, total: None)

    def read(entry: Entry) -> bytes:
        if all(map(undone.store.has, entry.objects)):
            return b"".join(undone.store.read(o) for o in entry.objects)
        return site.path(entry.path).read_bytes()

    return Merged(rows, _merged_files(undone, scan.entries, read), exact=True)


def _merged_files(undone: Undone, live: Mapping[str, Entry], read: Callable[[Entry], bytes]) -> MergedTree:
    now_there = {p: e for p, e in live.items() if p in undone.paths}
    files = merge_trees(undone.tree_after, now_there, undone.tree_before, (), read)
    by_hand = [c.path for c in files.conflicts if c.area in CODE and c.taken != "both"]
    if by_hand:
        raise UsageError(
            f"{by_hand[0]} was changed by hand since step '{undone.name}', in the same lines",
            advice="put it back as the step left it, then type the command again",
        )
    return files


def take_back(site: Writable, undone: Undone, there: Snapshot, wishes: Wishes) -> Merged:
    """Take the step back on a site that is ``there`` now. Can be repeated."""

    def read(entry: Entry) -> bytes:
        return b"".join(undone.store.read(o) for o in entry.objects)

    files = _merged_files(undone, there.entries, read)
    present = {p: e for p, e in there.entries.items() if p in undone.paths}
    restore_tree(site.tree, with_texts(files, undone.store), present, undone.store.read)
    empty_caches(site)
    plan = undone.plan(site, there.state, wishes)
    with site.holding_database(undone.state_on(there.state), there.state) as writer:
        rows = carry_over(plan, writer)
    return Merged(rows, files, exact=True)


def rehearse_undone(
    site: SiteView, store: Store, undone: Undone, feed: Feed, progress: Progress, wishes: Wishes
) -> None:
    """Take the step back on a clone of live, and look at it; live is only read. Raises `KeenHarborError` where pages or
    checks that were good are not any more."""
    options = TakeOptions(comment=f"to rehearse taking back {undone.name}", reason="before a trial", every_row=True)
    now_there = take_guarded(site, store, options, progress)
    progress.stage("rehearsing it on a clone")
    control = Control(site, now_there, feed)
    try:
        control.start()
        stage = control.stage
        before = stage.look(samples=1, timed=False)
        there = stage.checkpoint(undone.store, "before it", stage.clone.begun_from)
        take_back(stage.clone.site, undone, there, wishes)
        stage.clone.restart()
        pages = stands_for_all(before, site.model.look.starts, [])
        after = stage.look((), samples=1, only=pages, timed=False)
    finally:
        control.drop()
    if problem := worse(before, after, f"a clone without step '{undone.name}'"):
        raise KeenHarborError(f"{problem}; live was not touched", advice=WHOLE)


def undo_step(site: SiteView, store: Store, undone: Undone, progress: Progress, wishes: Wishes) -> UndoneResult:
    """Take the step back on live: with maintenance on, a safety snapshot before, and a look behind the flag; one that
    fails or is killed is put back."""
    facts = JournalFacts(trial=undone.trial, prefer=wishes.prefer, without=wishes.without)
    why = f"before step {undone.name} was taken back"
    looks = _Looks(site)
    with changing_live(site, store, "rollback of a step", progress, None, why, facts, before=looks.before) as change:
        assert change.safety is not None
        change.enter("changing", change.safety.id)
        progress.stage(f"taking back step {undone.name}")
        merged = take_back(change.live, undone, change.safety, wishes)
        reload_host(site)
        progress.stage("looking at live")
        looks.behind(change, undone.name)
        aside_file = merged.rows.save_aside(site.work / f"not-carried-{now():%Y%m%d-%H%M%S}.jsonl")
        change.enter("done")
    change.log("done", f"step {undone.name} of trial {undone.trial}", change.safety.id)
    rows = merged.rows
    return UndoneResult(
        site.name, undone.name, change.safety.id, len(undone.files), tuple(sorted(undone.tables)), dict(undone.rows),
        {t: c.as_json() for t, c in rows.carried.items()}, tuple(merged.conflicts), rows.not_carried,
        str(aside_file) if aside_file else None, tuple(change.remarks),
    )  # fmt: skip


class _Looks:
    """At live behind the flag, before and after: pages that stand for all, and checks that do not write."""

    def __init__(self, site: SiteView) -> None:
        self._site = site
        self._before = Look(site.address)

    def before(self, change: Change) -> None:
        self._before = self._look(change)

    def behind(self, change: Change, name: str) -> None:
        """Raises `KeenHarborError` where what was good before is not any more."""
        if problem := worse(self._before, self._look(change), f"live without step '{name}'"):
            raise KeenHarborError(problem, advice=WHOLE)

    def _look(self, change: Change) -> Look:
        part = self._site.model.look.model_copy(update={"limit": MOST_PAGES})
        harmless = [c for c in self._site.model.check if not c.writes]
        with Visitor(self._site.address, pass_header(self._site, change.token)) as visitor:
            return take_look(visitor, part, checks=harmless, samples=1, served=False)
