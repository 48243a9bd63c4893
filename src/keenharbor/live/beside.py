"""A cutover by merge: the steps are carried out on a clone beside live while visitors are served; then what changed on
live meanwhile is merged onto the result, and that is put in place.

base: the clone before the steps. ours: the clone after them. theirs: live, behind the flag. All three in live's terms,
so what sets the clone apart from live (its address, its mail, what is off in clones) is something that their side
changed, and goes with it. The steps' own looks and checks come behind the state that is taken over."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Protocol

from keenharbor.base.durable import private_folder
from keenharbor.base.errors import KeenHarborError, UsageError, words_of
from keenharbor.base.progress import Progress
from keenharbor.base.text import duration, parse_stamp, plural
from keenharbor.clone.mailbox import Mailbox
from keenharbor.clone.making import make_clone, open_clone
from keenharbor.compare import Look, Observation, compare_settings, compare_tables
from keenharbor.compare.look import Far
from keenharbor.compare.state import settings_of
from keenharbor.database import StoredState, TableDelta, row_delta
from keenharbor.database.diff import Carried
from keenharbor.database.rewrite import Rewriter
from keenharbor.live.environments import install_beside
from keenharbor.live.guard import Change
from keenharbor.live.putting import empty_caches, prepared_database, with_texts, without_areas
from keenharbor.live.snapshots import CHANGES, take_guarded
from keenharbor.live.ways import forwards
from keenharbor.merge.carry import CarriedOver, carry_over
from keenharbor.merge.plan import MergePlan
from keenharbor.merge.trees import NOT_MERGED, MergedTree, merge_trees
from keenharbor.site.components import pins_of
from keenharbor.site.feed import Feed
from keenharbor.site.log import read_log
from keenharbor.site.model import SiteFile
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot, TakeOptions, find_snapshot
from keenharbor.store import Store
from keenharbor.tree import Entry, restore_tree
from keenharbor.trial.plan import Plan
from keenharbor.trial.record import TrialRecord, read_record
from keenharbor.trial.renamed import back_to_live, renamed_entries, renamed_state
from keenharbor.trial.result import TrialResult
from keenharbor.trial.sentinels import stands_for_all
from keenharbor.trial.stage import Stage
from keenharbor.trial.steps import DistributionsStep, StepBase
from keenharbor.trial.wayback import worse

PURPOSE = "cutover"


class Work(Protocol):
    """What a cutover brings: steps (none where a person worked by hand), and the tables that they carry elsewhere."""

    @property
    def step(self) -> Sequence[StepBase]: ...

    @property
    def carried(self) -> Sequence[Carried]: ...


@dataclass
class Beside:
    """What the steps (or a person: none) made of live beside it: trees and databases before and after, in live's terms,
    in a ``store`` of their own; how the rows differ (``apart``), and a database ``file`` that holds them already, where
    the engine has a use for it."""

    step: Sequence[StepBase]
    carried: Sequence[Carried]
    store: Store
    since: Snapshot
    base_tree: Mapping[str, Entry]
    base: StoredState
    tree: Mapping[str, Entry]
    state: StoredState
    records: list[dict[str, object]] = field(default_factory=list)
    versions: dict[str, str] = field(default_factory=dict)
    apart: Mapping[str, TableDelta] = field(default_factory=dict)
    rows: list[Observation] = field(default_factory=list)
    file: Path | None = None

    def learn(self, model: SiteFile) -> None:
        """What the steps did to the rows: for the merge, and as it is held against the trial."""
        delta = row_delta(self.base, self.state, self.carried)
        self.apart = delta.tables
        self.rows = compare_tables(delta, model)
        self.rows += compare_settings(settings_of(self.base, model), settings_of(self.state, model))

    def merged_tree(self, live: Mapping[str, Entry], read: Callable[[Entry], bytes]) -> MergedTree:
        """Live's changes of files on the result. Raises `KeenHarborError` where settings cannot be put together: the
        clone's must not come onto live."""
        merged = merge_trees(self.base_tree, live, self.tree, (), read)
        apart = [c.path for c in merged.conflicts if c.area == "settings" and c.taken != "both"]
        if apart:
            by_hand = "change them on live as they are in the clone, then type the command again"
            raise KeenHarborError(
                f"{apart[0]} was changed in the same lines beside live and on live",
                advice="carry the plan out step by step: keenharbor cutover --by steps" if self.step else by_hand,
            )
        return merged


@contextlib.contextmanager
def made_beside(
    site: SiteView, plan: Plan, trial: TrialResult, store: Store, feed: Feed, progress: Progress,
    ask: Callable[[str], None] | None,
) -> Iterator[Beside]:  # fmt: skip
    """Carry the steps out on a clone of live as it is now, and look at it; live is only read. Raises `KeenHarborError`
    when a step fails there, or when it does not come up as in the ``trial``."""
    progress.stage("taking a snapshot of live, to carry the steps out beside it")
    options = TakeOptions(comment=f"for the cutover of trial {trial.id}", reason="before a trial", every_row=True)
    since = take_guarded(site, store, options, progress)
    with store.in_use(), contextlib.ExitStack() as stack:  # what is stored for it must not be thinned out meanwhile
        mailbox = stack.enter_context(Mailbox())
        progress.stage("making the clone")
        clone = make_clone(site, since, PURPOSE, mail_port=mailbox.port, environment=True)
        stack.callback(_away, clone.drop, progress)
        own = Store.create(private_folder(clone.folder / "states"), behind=[store])
        stage = Stage(site, clone, mailbox, feed, ask)
        clone.start()
        before = stage.checkpoint(own, "before the steps", clone.begun_from)
        seen = read_record(site.work / "trials" / trial.id)
        records, versions = _carry_out(stage, plan, seen, progress)
        after = stage.checkpoint(own, "after the steps", before)
        progress.stage("looking at it as in the trial")
        _must_come_up(stage, seen, plan)
        clone.stop()
        back = back_to_live(clone, site)
        made = _in_lives_terms([back, back], plan.step, plan.carried, own, (since, before, after), records, versions)
        progress.stage("preparing the database")
        made.learn(site.model)
        made.file = stack.enter_context(prepared_database(site, made.state))
        yield made


def _away(end: Callable[[], object], progress: Progress) -> None:
    """End or remove a clone. That it cannot be done does not change what became of live."""
    try:
        end()
    except (OSError, KeenHarborError) as error:
        told = words_of(error)
        progress.note(f"the clone beside live could not be taken away ({told}): keenharbor settle removes it")


@contextlib.contextmanager
def taken_from(
    site: SiteView, wanted: str, store: Store, feed: Feed, progress: Progress
) -> Iterator[tuple[Beside, Look]]:  # fmt: skip
    """What a person made of a clone, against a second one of the same snapshot in which nobody worked; and a look at
    it. Raises `KeenHarborError` where it does not start, or where something of it is no part of what is merged."""
    clone = open_clone(site, wanted)
    since = find_snapshot(store, clone.facts.snapshot, site.name)
    if clone.facts.environment is not None and pins_of(clone.site.packages()) != since.manifest.environment:
        raise UsageError(
            "distributions were installed into the clone's environment, which no merge brings over",
            where=clone.facts.environment, advice="make steps of it: 'keenharbor plan draft'",
        )  # fmt: skip
    with store.in_use(), contextlib.ExitStack() as stack:
        mailbox = stack.enter_context(Mailbox())
        progress.stage("making a clone as that one was before anybody worked in it")
        # Settings name the port that catches mail: it must be the same in both.
        twin = make_clone(site, since, PURPOSE, mail_port=clone.facts.mail_port or mailbox.port)
        stack.callback(_away, twin.drop, progress)
        own = Store.create(private_folder(twin.folder / "states"), behind=[store])
        stages = [Stage(site, c, mailbox, feed) for c in (twin, clone)]
        saved: list[Snapshot] = [since]
        for stage, label in zip(stages, ("before", "after"), strict=True):
            stage.clone.start()
            stack.callback(_away, stage.clone.stop, progress)
            saved.append(stage.checkpoint(own, label, saved[-1]))
        progress.stage("looking at the clone")
        look = stages[1].look(samples=2, learn=True, timed=False)
        backs = [back_to_live(c, site) for c in (twin, clone)]
        record: dict[str, object] = {"name": f"clone {clone.id}", "tries": 1, "seconds": 0.0}
        made = _in_lives_terms(backs, (), (), own, saved, [record], {})
        progress.stage("preparing the database")
        made.learn(site.model)
        made.file = stack.enter_context(prepared_database(site, made.state))
        yield made, look


def _carry_out(
    stage: Stage, plan: Plan, seen: TrialRecord, progress: Progress
) -> tuple[list[dict[str, object]], dict[str, str]]:
    records: list[dict[str, object]] = []
    versions: dict[str, str] = {}
    for number, step in enumerate(plan.step, 1):
        progress.stage(f"beside live, step {number} of {len(plan.step)}: {step.name} ({step.told()})")
        outcome = stage.carry_out(step, seen.before.look.checks)
        if outcome.problem is not None:
            raise KeenHarborError(
                f"step '{step.name}' failed on the clone beside live: {outcome.problem}; live was not touched",
                advice="correct the plan and rehearse it again: keenharbor trial run --snapshot live",
            )
        versions |= outcome.versions
        records.append({"name": step.name, "tries": outcome.tries, "seconds": round(outcome.seconds, 3)})
        progress.note(f"done in {duration(outcome.seconds)}")
        stage.clone.restart()
    return records, versions


def _must_come_up(stage: Stage, record: TrialRecord, plan: Plan) -> None:
    """Raise `KeenHarborError` unless pages and checks are as good as they were at the trial's end."""
    then = record.steps[-1].look if record.steps else None
    if then is None:
        return
    pages = stands_for_all(record.before.look, stage.live.model.look.starts, plan.step)
    look = stage.look((), samples=1, only=pages, timed=False, far=Far(1, served=False))
    if problem := worse(then, look, "the clone beside live"):
        raise KeenHarborError(
            f"{problem}; live was not touched", advice="rehearse the plan on live as it is now: keenharbor trial run "
            "--snapshot live",
        )  # fmt: skip


def _in_lives_terms(
    backs: Sequence[Rewriter], steps: Sequence[StepBase], carried: Sequence[Carried], own: Store,
    saved: Sequence[Snapshot], records: list[dict[str, object]], versions: dict[str, str],
) -> Beside:  # fmt: skip
    """``saved``: live's snapshot, and the states before and after, each written in live's terms by one of ``backs``."""
    since, *states_there = saved
    with own.writing(1, forks=False) as writer:
        there = list(zip(states_there, backs, strict=True))
        trees = [renamed_entries(s, back, writer.add) for s, back in there]
        states = [renamed_state(s, back, writer, own.read) for s, back in there]
    return Beside(steps, carried, own, since, trees[0], states[0], trees[1], states[1], records, versions)


@dataclass(frozen=True)
class CarriedToResult:
    """What changed on live while the steps were carried out beside it, and came along: rows, and paths of files (what
    only sets a clone apart from live is none of them)."""

    rows: CarriedOver
    tree: MergedTree
    files: int

    @property
    def told(self) -> str:
        """In words."""
        return f"{plural(self.rows.rows, 'row')} and {plural(self.files, 'file')} that changed on live meanwhile"


def put_in_place(change: Change, beside: Beside) -> CarriedToResult:
    """Make live what the steps made beside it, with what changed on live since then; within the guard's block."""
    safety, live = change.safety, change.live
    assert safety is not None

    _must_be_the_same_site(change.site, beside.since, safety)

    def read(entry: Entry) -> bytes:
        return b"".join(beside.store.read(o) for o in entry.objects)

    present = without_areas(safety.entries, NOT_MERGED)
    files = beside.merged_tree(present, read)
    entries = with_texts(files, beside.store)
    wanted = {p: _as_on_live(e, present) for p, e in entries.items() if e.area not in NOT_MERGED}
    restore_tree(live.tree, wanted, present, beside.store.read)
    empty_caches(live)
    ours = beside.state
    ours = StoredState(ours.schema.as_on(safety.state.schema), list(ours.tables.values()), beside.store.read)
    theirs = _only_lives(change.site, safety.state, ours)
    plan = MergePlan(
        beside.base, safety.state, ours, forwards(beside.carried), apart=beside.apart,
        standing=lambda delta: replace(delta, tables={n: t for n, t in delta.tables.items() if n not in theirs}),
    )  # fmt: skip
    with live.holding_database(ours, safety.state, beside.file) as database:
        if theirs:
            database.put_rows(safety.state, theirs)
        carried = carry_over(plan, database)
    _install(change.site, beside.step)
    then = beside.since.entries
    moved = [p for p in (*files.added, *files.changed, *files.removed)
             if (a := then.get(p)) is None or (b := present.get(p)) is None or not a.same_content(b)]  # fmt: skip
    return CarriedToResult(carried, files, len(moved))


def _only_lives(site: SiteView, live: StoredState, ours: StoredState) -> list[str]:
    """Tables that are live's alone (sessions, counters of visits): a clone's own are nobody's."""
    named = [(live.schema.table(n), ours.schema.table(n)) for n in site.model.volatile.tables]
    return [a.name for a, b in named if a is not None and b is not None and a.kind == "table" and a == b]


def _must_be_the_same_site(site: SiteView, since: Snapshot, now: Snapshot) -> None:
    """Raise `KeenHarborError` where meanwhile more happened to live than people's work."""
    changed = [e for e in read_log(site.work).entries if e.command in CHANGES and e.outcome in ("done", "settled")]
    if changed and parse_stamp(changed[-1].at) > since.taken_at:
        raise KeenHarborError(f"live was changed by a {changed[-1].command} while the steps were carried out beside it")
    before, after = since.state.schema.definitions(), now.state.schema.definitions()
    apart = sorted(k for k in before.keys() | after.keys() if before.get(k) != after.get(k))
    if apart:
        raise KeenHarborError(f"the definition of {apart[0]} was changed on live while the steps were carried out "
                              "beside it")  # fmt: skip


def _as_on_live(entry: Entry, live: Mapping[str, Entry]) -> Entry:
    """A file with the owner that it has, or its folder has, on live: a clone's belong to who made it."""
    now = live.get(entry.path)
    if now is not None and now.same_content(entry) and now.mode == entry.mode:
        return now
    above = entry.path
    while now is None and above:
        above = above.rpartition("/")[0]
        now = live.get(above)
    return entry._replace(uid=now.uid, gid=now.gid, stamp="") if now is not None else entry._replace(stamp="")


def _install(site: SiteView, steps: Sequence[StepBase]) -> None:
    """An environment is no part of the tree: what the steps installed is installed into live's."""
    for step in steps:
        if isinstance(step, DistributionsStep):
            ran = install_beside(site, step.wants, step.removes, site.wheelhouse(), step.time_limit)
            if ran.code != 0:
                raise KeenHarborError(f"step '{step.name}' cannot be installed on live: {ran.output.strip()[-200:]}")


STEPS_ENOUGH_SECONDS = 20.0


def best_way(plan: Plan, trial: TrialResult) -> tuple[str, str]:
    """How a plan is better carried out, ``steps`` or ``merge``, and why, in words."""
    seconds = sum(s.seconds for s in trial.steps)
    if any(isinstance(s, DistributionsStep) for s in plan.step):
        return "steps", "it installs into live's environment, which no merge replaces"
    if seconds <= STEPS_ENOUGH_SECONDS:
        return "steps", f"its steps took {duration(seconds)} in the trial"
    return "merge", f"its steps took {duration(seconds)} in the trial: visitors need not wait for them"
