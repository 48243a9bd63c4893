"""Cutover: the rehearsed steps on the live site, guarded, and put back when anything is not as in the trial."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any, Literal

from keenharbor import __version__
from keenharbor.base.errors import DamagedError, KeenHarborError, UsageError
from keenharbor.base.progress import Progress
from keenharbor.base.text import duration, now, plural
from keenharbor.compare import Finding, Look, Observation, Visitor, compare_settings, compare_tables
from keenharbor.compare.browsed import refuse_without_browser
from keenharbor.compare.look import check_again
from keenharbor.compare.state import settings_of
from keenharbor.database import row_delta
from keenharbor.host.programs import Ran
from keenharbor.live.arrivals import note_arrival_look
from keenharbor.live.beside import Beside, Work, made_beside, put_in_place, taken_from
from keenharbor.live.environments import install_beside, thin_environments
from keenharbor.live.flag import pass_header, reload_host
from keenharbor.live.guard import Change, changing_live
from keenharbor.live.journal import JournalFacts, steps_lock
from keenharbor.live.kept import WAITING, CarriedOn, carry_on
from keenharbor.live.looks import AsInClone, LiveLooks, Rehearsed, Unlike, must_answer
from keenharbor.live.snapshots import newest_whole
from keenharbor.site.feed import Feed
from keenharbor.site.passing import Passing
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot, list_snapshots
from keenharbor.store import Store
from keenharbor.tree import compare_trees
from keenharbor.tree.scan import Hashing, read_content
from keenharbor.trial.plan import Plan
from keenharbor.trial.result import TOOL, TrialResult, list_trials, refuse_newer_damage
from keenharbor.trial.steps import Workplace, perform

_PUT_BACK_ADVICE = "'keenharbor trial show' tells what the rehearsal saw; correct the plan and rehearse it again"
By = Literal["steps", "merge"]
REHEARSED_AREAS = ("core", "extensions", "themes", "settings")


@dataclass(frozen=True)
class Drift:
    """What changed on live since the trial's snapshot: files by area, rows by table, definitions.

    ``serious`` names what makes live another site than the rehearsed one.
    """

    files: dict[str, int]
    rows: dict[str, dict[str, int]]
    serious: tuple[str, ...]

    def __bool__(self) -> bool:
        return bool(self.files or self.rows or self.serious)

    def as_json(self) -> dict[str, object]:
        return asdict(self)


@dataclass(frozen=True)
class CutoverOptions:
    """``despite_verdict``: carry out a plan whose trial did not pass; ``despite_drift``: on a site that has moved
    on; ``despite_description``: though the site file, or the tool, is another one than in the trial."""

    despite_verdict: bool = False
    despite_drift: bool = False
    despite_description: bool = False


@dataclass(frozen=True)
class CutoverResult:
    """A cutover that is done; what the time of maintenance was ``spent`` on, in seconds; and what only showed when
    visitors had been let in again (``late``); by table, what an earlier way back had no place
    for and is there again (``carried_on``)."""

    site: str
    trial: str
    safety: str
    arrival: str | None
    steps: tuple[dict[str, Any], ...]
    pages: int
    notes: tuple[Finding, ...]
    core: str
    runtime: str
    seconds: float
    maintenance_seconds: float
    checks_left_out: tuple[str, ...]
    remarks: tuple[str, ...] = ()
    spent: dict[str, float] = field(default_factory=dict)
    late: tuple[Finding, ...] = ()
    carried_on: dict[str, int] = field(default_factory=dict)
    by: By = "steps"
    merged: dict[str, object] = field(default_factory=dict)

    def as_json(self) -> dict[str, object]:
        findings = {"notes": [n.as_json() for n in self.notes], "late": [f.as_json() for f in self.late]}
        return {**asdict(self), **findings}


def find_drift(site: SiteView, since: Snapshot) -> Drift:
    """What changed on live since ``since``; reads only."""
    scan = site.scan()
    read_content(site.files, scan, Hashing(), since.entries, None, lambda done, total: None)
    difference = compare_trees(since.entries, scan.entries)
    files: dict[str, int] = {}
    serious: list[str] = []
    for path in (*difference.added, *difference.removed, *difference.changed):
        entry = scan.entries.get(path) or since.entries[path]
        if entry.area in ("cache", "logs") or entry.kind == "folder":
            continue
        files[entry.area] = files.get(entry.area, 0) + 1
        if entry.area in REHEARSED_AREAS:
            serious.append(f"{path} ({entry.area})")
    with site.reading_database() as state:
        delta = Passing(site.model.volatile).without(row_delta(since.state, state))
    rows = {
        name: {"new": len(t.added), "changed": len(t.changed), "removed": len(t.removed)}
        for name, t in delta.tables.items()
    }
    for what in (*delta.definitions_added, *delta.definitions_removed, *delta.definitions_changed):
        serious.append(f"the definition of {what}")
    return Drift(files, rows, tuple(serious))


def rehearsal_of(site: SiteView, plan: Plan, options: CutoverOptions) -> TrialResult:
    """The newest trial of exactly this plan. Raises `UsageError` when there is none, or when it did not pass."""
    if plan.plan.site != site.name:
        raise UsageError(f"the plan is for the site '{plan.plan.site}', not for '{site.name}'")
    trials = list_trials(site.work)
    trial = next((t for t in trials if t.plan_digest == plan.digest), None)
    refuse_newer_damage(site.work, trial)
    if trial is None:
        problem = "the plan was changed after its last trial" if trials else "this plan has not been rehearsed"
        raise UsageError(problem, advice="keenharbor trial run")
    if trial.verdict != "pass" and not options.despite_verdict:
        raise UsageError(
            f"the trial {trial.id} of this plan ended with '{trial.verdict}'",
            advice="correct the plan and rehearse it again, or add '--despite verdict' if you know better",
        )
    changed = changed_since(site, trial)
    if changed and not options.despite_description:
        raise UsageError(
            f"{' and '.join(changed)} changed since the trial {trial.id}",
            where=site.site_file,
            advice="rehearse it again: keenharbor trial run; or add '--despite description'",
        )
    return trial


def changed_since(site: SiteView, trial: TrialResult) -> list[str]:
    """In words, what of the site file and the tool is another one than in ``trial`` (nothing for one of an earlier
    version, which did not note it)."""
    now = site.model.rehearsed() | {TOOL: __version__}
    apart = [name for name, digest in trial.described.items() if now.get(name) != digest]
    tables = [f"[[{n}]]" if n == "check" else f"[{n}]" for n in apart if n != TOOL]
    found = [f"{', '.join(tables)} of the site file"] if tables else []
    return found + ([f"the tool (it was {trial.described[TOOL]})"] if TOOL in apart else [])


def check_drift(drift: Drift, options: CutoverOptions) -> None:
    """Raise `UsageError` when live is not the site that was rehearsed any more."""
    if drift.serious and not options.despite_drift:
        listed = ", ".join(drift.serious[:3]) + (" …" if len(drift.serious) > 3 else "")
        raise UsageError(
            f"live is not the site that was rehearsed any more: {listed}",
            advice="rehearse it on a new snapshot: keenharbor trial run --snapshot live; or add '--despite drift'",
        )


def run_cutover(
    site: SiteView, plan: Plan, trial: TrialResult, store: Store, feed: Feed, since: Snapshot | None,
    progress: Progress,
    ask: Callable[[str], None] | None = None, by: By = "steps",
) -> CutoverResult:  # fmt: skip
    """Carry ``plan`` out on live; the caller has asked `rehearsal_of` and `check_drift`. ``ask`` shows a person what to
    do and returns when they are done; without it a plan with such a step is refused. ``by`` merge the steps are carried
    out beside live before, and live's changes since then merged onto what they made (`keenharbor.live.beside`).

    Raises what the guard raises (`keenharbor.live.guard`).
    """
    began = time.monotonic()
    _refuse_without_a_person(plan, ask)
    refuse_without_browser([c for c in site.model.check if not c.writes])
    must_answer(site)
    with contextlib.ExitStack() as stack:
        beside = None
        if by == "merge":
            beside = stack.enter_context(made_beside(site, plan, trial, store, feed, progress, ask))
        return _change_live(site, plan, trial, store, feed, since, progress, ask, beside, began)


def bring_live(site: SiteView, wanted: str, store: Store, feed: Feed, progress: Progress) -> CutoverResult:
    """Make live what a person made of a clone, with what changed on live since the clone was made. Live must look as
    the clone does afterwards. Raises what the guard raises."""
    began = time.monotonic()
    must_answer(site)
    with taken_from(site, wanted, store, feed, progress) as (beside, look):
        known = AsInClone(f"of clone {wanted}", beside, look)
        return _change_live(site, beside, known, store, feed, beside.since, progress, None, beside, began)


def _change_live(
    site: SiteView, work: Work, trial: Rehearsed, store: Store, feed: Feed, since: Snapshot | None,
    progress: Progress, ask: Callable[[str], None] | None, beside: Beside | None, began: float,
) -> CutoverResult:  # fmt: skip
    why = f"before the cutover of trial {trial.id}"
    looks = LiveLooks(site, trial, progress=progress)
    progress.stage("looking at live, while visitors are served")
    looks.before(work.step)
    newest = newest_whole(list_snapshots(store, site.name)) or since

    def look_behind(change: Change) -> None:
        progress.stage(f"looking at {plural(len(looks.chosen), 'page')} behind the flag")
        with change.spending("looking"):
            looks.behind_the_flag(change.token)

    with (
        changing_live(
            site, store, "cutover", progress, newest, why, JournalFacts(trial=trial.id), advice=_PUT_BACK_ADVICE,
            before=look_behind,
        ) as change,
        steps_lock(site) as descriptor,
    ):  # fmt: skip
        assert change.safety is not None
        safety = change.safety
        change.enter("changing", safety.id)
        place = _Live(change, feed, descriptor, looks.behind, ask, safety)
        with change.spending("steps"):
            records, versions = place.carry_out(work, progress) if beside is None else place.take_over(beside)
            progress.stage("letting the host take up the change")
            reload_host(site)
        progress.stage("looking at live as in the trial")
        with change.spending("looking"):
            notes = looks.again(change.token, versions, place.rows)
        again, arrival = _arrive(change, work)
        change.enter("done")
    with contextlib.suppress(OSError, KeenHarborError):  # from here on it is done, whatever becomes of the line to it
        again.put_by()
        thin_environments(site)
    core, runtime = site.told_versions()
    late = _look_afterwards(looks, versions, change, progress)
    _note_arrival_look(looks, change, safety, trial)
    detail = (
        f"trial {trial.id}, {plural(len(records), 'step')}; back to snapshot {safety.id} with 'keenharbor rollback'"
    )
    change.log("done", detail, safety.id)
    return CutoverResult(
        site.name, trial.id, safety.id, arrival.id if arrival is not None else None, tuple(records),
        len(looks.whole.pages), tuple(notes), core,
        f"{site.model.runtime.name} {runtime}", round(time.monotonic() - began, 3),
        round(change.maintenance_seconds, 3), tuple(c.name for c in site.model.check if c.writes),
        tuple(change.remarks), {k: round(v, 3) for k, v in change.spent.items()}, tuple(late), again.rows,
        "steps" if beside is None else "merge", place.merged,
    )  # fmt: skip


def _arrive(change: Change, work: Work) -> tuple[CarriedOn, Snapshot | None]:
    """What the last way back had no place for is put there again; then the state is saved, from which on everything is
    people's doing."""
    again = CarriedOn()
    try:
        again = carry_on(change.live)
    except DamagedError as error:  # of what was saved long ago, and stays
        change.remarks.append(f"what an earlier way back had no place for was not carried on: {error.what}")
    if again.rows:
        change.progress.note("carried on what an earlier way back had no place for: " + told_rows(again.rows))
    change.progress.stage("saving the state on arrival")
    with change.spending("saving the arrival"):
        return again, change.save_arrival(work.carried)


def told_rows(rows: dict[str, int]) -> str:
    """Rows by table, in words."""
    return ", ".join(plural(n, f"row of {t}", f"rows of {t}") for t, n in sorted(rows.items()))


def _refuse_without_a_person(plan: Plan, ask: Callable[[str], None] | None) -> None:
    by_hand = [s.name for s in plan.step if s.by_a_person]
    if by_hand and ask is None:
        raise UsageError(
            f"the step '{by_hand[0]}' waits for a person, and nobody is there to ask",
            advice="carry the plan out in a terminal",
        )


def _look_afterwards(looks: LiveLooks, versions: dict[str, str], change: Change, progress: Progress) -> list[Finding]:
    """Visitors are in, and the change is done: what breaks this off breaks nothing else off."""
    if looks.at_all:
        return []
    progress.stage("visitors are let in; looking at every page")
    try:
        return looks.afterwards(versions)
    except (KeyboardInterrupt, KeenHarborError) as error:
        change.remarks.append(f"the look at every page was broken off: {str(error) or 'it was stopped'}")
        return []


def _note_arrival_look(looks: LiveLooks, change: Change, safety: Snapshot, trial: Rehearsed) -> None:
    """What the late watch holds live against."""
    if looks.arrived is None:
        return
    try:
        note_arrival_look(looks.site, safety.id, trial.id, looks.arrived, looks.noise)
    except (OSError, KeyboardInterrupt, KeenHarborError) as error:
        change.remarks.append(f"how live arrived was not saved, so it is not watched later: {error}")


@dataclass
class _Live:
    """Live while the steps are carried out on it."""

    change: Change
    feed: Feed
    descriptor: int
    before: Look
    ask: Callable[[str], None] | None
    safety: Snapshot
    changed: bool = False
    merged: dict[str, object] = field(default_factory=dict)
    rows: list[Observation] = field(default_factory=list)
    """What the steps did to the data. What visits write, the looks' and those of a step that only looks, is not their
    doing."""

    def _compare_data(self, work: Work) -> None:
        model, then = self.change.site.model, self.safety.state
        with self.change.site.reading_database() as state:
            self.rows = compare_tables(row_delta(then, state, work.carried), model)
            self.rows += compare_settings(settings_of(then, model), settings_of(state, model))

    def take_over(self, beside: Beside) -> tuple[list[dict[str, object]], dict[str, str]]:
        """What the steps made beside live, with what changed on live since."""
        progress = self.change.progress
        progress.stage("putting what was made beside live in its place, with what changed meanwhile")
        done = put_in_place(self.change, beside)
        progress.note(done.told)
        carried = done.rows
        self.merged = {
            "carried": {t: c.as_json() for t, c in carried.carried.items()}, "files": done.files,
            "renumbered": carried.numbers, "aside": carried.not_carried,
            "conflicts": [*map(asdict, carried.conflicts), *map(asdict, done.tree.conflicts)],
        }  # fmt: skip
        saved = carried.save_aside(self.change.site.work / f"{WAITING}{now():%Y%m%d-%H%M%S}.jsonl")
        if saved is not None:
            self.change.remarks.append(f"what both the steps and live had changed meanwhile is saved in {saved}")
        self.rows = beside.rows  # live's own changes came on top, and are no step's doing
        return beside.records, beside.versions

    def carry_out(self, work: Work, progress: Progress) -> tuple[list[dict[str, object]], dict[str, str]]:
        """Every step; returns what is told of each, and the versions moved on. Raises `Unlike` for one that fails."""
        site = self.change.site
        place = Workplace(
            self.change.live, self.feed, site.address, pass_header(site, self.change.token), (self.descriptor,),
            restart=self._restart, check=self._check, ask=self.ask, install=self._install,
        )  # fmt: skip
        records: list[dict[str, object]] = []
        versions: dict[str, str] = {}
        changing = max((n for n, s in enumerate(work.step, 1) if not s.only_looks), default=0)
        for number, step in enumerate(work.step, 1):
            if step.save:
                progress.stage(f"taking a snapshot before step {step.name}")
                self.change.save_again(f"before the step {step.name}")
            progress.stage(f"step {number} of {len(work.step)}: {step.name} ({step.told()})")
            outcome = perform(step, place)
            self.changed = True
            versions |= outcome.versions
            if outcome.problem is not None:
                raise Unlike(f"step '{step.name}' failed: {outcome.problem}")
            tries = f" at try {outcome.tries}" if outcome.tries > 1 else ""
            progress.note(f"done{tries} in {duration(outcome.seconds)}")
            if number == changing:
                self._compare_data(work)
            records.append({"name": step.name, "tries": outcome.tries, "seconds": round(outcome.seconds, 3)})
        return records, versions

    def _install(self, wants: Sequence[str], removes: Sequence[str], time_limit: float) -> Ran:
        site = self.change.site
        return install_beside(site, wants, removes, site.wheelhouse(), time_limit)

    def _restart(self) -> None:
        """Let the host take up what the steps so far changed, for the next one asks the site itself."""
        if self.changed:
            reload_host(self.change.site)
            self.changed = False

    def _check(self, only: Sequence[str]) -> str | None:
        site = self.change.site
        harmless = [c for c in site.model.check if not c.writes]
        with Visitor(site.address, pass_header(site, self.change.token)) as visitor:
            return check_again(visitor, harmless, only, self.before.checks)
