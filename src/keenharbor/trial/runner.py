"""A trial: the plan rehearsed on a clone, looked at before, after each step, and at the end."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from keenharbor import __version__
from keenharbor.base.durable import private_folder, remove_folder, write_plain
from keenharbor.base.errors import KeenHarborError
from keenharbor.base.progress import Progress
from keenharbor.base.text import duration, now, plural, stamp
from keenharbor.clone.clone import Clone
from keenharbor.clone.facts import TRIAL_PURPOSE
from keenharbor.clone.mailbox import Mailbox
from keenharbor.clone.making import make_clone
from keenharbor.compare import Look, Noise, Observation, Weight, compare_pages, group, learn_noise, verdict_of
from keenharbor.compare.browsed import refuse_without_browser
from keenharbor.compare.camera import Camera
from keenharbor.compare.findings import Finding
from keenharbor.compare.look import Far
from keenharbor.compare.state import secret_values
from keenharbor.compare.timing import SLOW_SECONDS
from keenharbor.database import row_delta
from keenharbor.host.ports import port_is_taken
from keenharbor.site.feed import Feed
from keenharbor.site.model import SiteFile
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot, find_snapshot, record_proof
from keenharbor.snapshot.take import new_id
from keenharbor.store import Store
from keenharbor.tree import compare_trees
from keenharbor.trial.accepted import read_accepted, sort_out
from keenharbor.trial.control import (
    Control,
    by_the_clock,
    look_at_both,
    look_at_the_end,
    not_by_the_clock,
    pages_to_add,
)
from keenharbor.trial.fresh import brought_by, restore_rows, schema_when_fresh, unlike_fresh
from keenharbor.trial.gallery import Gallery
from keenharbor.trial.going_on import GoOn
from keenharbor.trial.halving import Halving
from keenharbor.trial.isolation import isolation_of, of_isolation, traces_of_live
from keenharbor.trial.observing import Laid, laid_of_pages, laid_of_steps, of_log, of_step, passing, unconfirmed
from keenharbor.trial.pace import PaceFound
from keenharbor.trial.plan import Plan
from keenharbor.trial.record import (
    SeenBefore,
    SeenStep,
    TrialRecord,
    as_plain,
    forget_older,
)
from keenharbor.trial.remarks import Unseen
from keenharbor.trial.result import TOOL, StepRecord, TrialResult, WayBackTried, save_result
from keenharbor.trial.sentinels import stands_for_all
from keenharbor.trial.stage import Ask, Stage
from keenharbor.trial.steps import StepBase
from keenharbor.trial.titles import titles_of
from keenharbor.trial.wayback import backwards, try_way_back

SAMPLES = 2
BEFORE_SAMPLES = 4


@dataclass(frozen=True)
class TrialOptions:
    """``keep``: leave the clone for a visit; ``go_on``: carry out the steps behind one that failed, too; ``ask`` shows
    a person what to do and returns when they are done (None: nobody is there); ``pictures``: look at the pages with a
    browser, too; ``spare``: trials whose checkpoints are still needed, beside the newest."""

    ask: Ask | None = None
    keep: bool = False
    go_on: bool = False
    port: int | None = None
    pictures: bool = False
    spare: frozenset[str] = frozenset()


def run_trial(
    live: SiteView, plan: Plan, plan_file: Path, snapshot: Snapshot, feed: Feed, options: TrialOptions,
    progress: Progress,
    earlier: GoOn | None = None,
) -> TrialResult:  # fmt: skip
    """Rehearse ``plan`` on a clone of ``snapshot``; the result is saved under the site's work folder. With ``earlier``,
    go on with that trial: what stands is not done again.

    Raises `KeenHarborError` when no clone can be made or the clone does not start; what the plan's steps do wrong
    is in the result.
    """
    began, started = time.monotonic(), now()
    refuse_without_browser(live.model.check)
    identity = new_id(started)
    folder = private_folder(live.work / "trials" / identity)
    agreed = read_accepted(plan_file)
    try:
        write_plain(folder / "plan.toml", plan_file.read_bytes())
        progress.stage("taking live's fingerprint")
        before_live = live.fingerprint(known=snapshot.state)
        with Mailbox() as mailbox, contextlib.ExitStack() as stack:
            gallery = Gallery(folder, stack.enter_context(Camera())) if options.pictures else None
            rehearsal = _Rehearsal(live, plan, feed, mailbox, options, progress, folder, snapshot, gallery)
            pace, traces = rehearsal.carry_through(identity, earlier)
            clone = rehearsal.stage.clone
            laid = rehearsal.laid(pace)
            findings, accepted = sort_out(rehearsal.findings(laid), agreed)
            mails = tuple({"to": ", ".join(m.to), "subject": m.subject} for m in rehearsal.stage.mails())
        progress.stage("taking live's fingerprint again")
        isolation = isolation_of(live, before_live, live.fingerprint(before_live), clone, traces, mails)
        findings = [*group((o, None, None) for o in of_isolation(isolation)), *findings]
        result = TrialResult(
            id=identity, site=live.name, plan_file=str(plan_file), plan_digest=plan.digest, snapshot=snapshot.id,
            started_at=stamp(started), seconds=round(time.monotonic() - began, 3), verdict=verdict_of(findings),
            findings=tuple(findings), healed=tuple(rehearsal.healed(laid)), slower=tuple(s for s, _ in pace.slower),
            steps=tuple(s.record for s in rehearsal.record.steps), noise=tuple(rehearsal.record.before.noise.listing()),
            pages=len(rehearsal.before.pages), isolation=isolation, clone=clone.id if options.keep else None,
            way_back=rehearsal.way_back, described=live.model.rehearsed() | {TOOL: __version__},
            known=tuple(sorted({o.identity for o, _, _ in laid})), timings=pace.timings,
            accepted=tuple(accepted), remarks=tuple(rehearsal.remarks(pace)),
            went_on_with=earlier.kept if earlier else 0,
            with_pictures=rehearsal.record.before.shots is not None,
            titles=titles_of(rehearsal.before, {p for f in (*findings, *accepted) for p in f.pages}),
        )  # fmt: skip
    except BaseException:
        if (earlier is not None and earlier.record.give_back(folder)) or not (folder / "seen/1.zst").exists():
            remove_folder(folder)
        raise
    if options.keep:
        clone.keep()
    else:
        clone.drop()
    save_result(live.work, result)
    forget_older(live.work / "trials", {identity, *options.spare})
    return result


class _Rehearsal:
    """The part of a trial that happens on the clone."""

    stage: Stage
    record: TrialRecord

    def __init__(
        self, live: SiteView, plan: Plan, feed: Feed, mailbox: Mailbox, options: TrialOptions, progress: Progress,
        folder: Path,
        snapshot: Snapshot, gallery: Gallery | None,
    ) -> None:  # fmt: skip
        self._gallery = gallery
        self._live, self._plan, self._feed, self._mailbox = live, plan, feed, mailbox
        self._options, self._progress, self._folder, self._snapshot = options, progress, folder, snapshot
        self._clone: Clone | None = None
        self._control: Control | None = None
        self._control_end: Look | None = None
        self._no_control = ""
        self._unlike: list[Observation] = []
        self._not_held = ""
        self._no_way_back = ""
        self.way_back: WayBackTried | None = None
        self._halving: Halving | None = None
        self._checkpoint: Snapshot | None = None

    @property
    def before(self) -> Look:
        return self.record.before.look

    def drop(self) -> None:
        """Remove the clones, if there are any."""
        self.drop_control()
        if self._clone is not None:
            self._clone.drop()

    def carry_through(self, identity: str, earlier: GoOn | None) -> tuple[PaceFound, tuple[str, ...]]:
        """All that happens on the clones, which are stopped then: the pages that became slower, and what of live was
        left in the clone."""
        try:
            self.begin(identity, earlier)
            self.carry_out()
            self.find_steps()
            pace = self.pace()
            self._try_way_back()
            traces = traces_of_live(self.stage.clone, self._live, self._snapshot, self._checkpoint or self._snapshot)
            self._hold_definitions()
        except BaseException:
            self.drop()
            raise
        self.stage.clone.stop()
        self.drop_control()
        return pace, traces

    def drop_control(self) -> None:
        """Remove the control, if there is one."""
        control, self._control = self._control, None
        if control is not None:
            control.drop()

    def _make_control(self, twin: Clone | None = None) -> None:
        """The second clone. What it is for can be done without it, though less surely: then it is said why."""
        self._progress.stage("making a second clone, on which nothing will be done")
        try:
            self._control = Control(self._live, self._snapshot, self._feed, twin)
        except KeenHarborError as error:
            self._say_no_control(error)

    def _start_control(self) -> None:
        try:
            if self._control is not None:
                self._control.start()
        except KeenHarborError as error:
            self.drop_control()
            self._say_no_control(error)

    def _say_no_control(self, error: KeenHarborError) -> None:
        self._no_control = error.what
        self._progress.note(f"there is no second clone: {error.what}")

    def begin(self, identity: str, earlier: GoOn | None) -> None:
        """Make the clone and look at it unchanged; or take up what an earlier trial has left.

        Raises `KeenHarborError` when the clone does not start.
        """
        if earlier is not None:
            self._take_up(identity, earlier)
            return
        self._progress.stage(f"making a clone of snapshot {self._snapshot.id}")
        restoring = time.monotonic()
        self._set(identity, self._snapshot)
        self._store = Store.create(self._folder / "checkpoints", behind=[self._snapshot.store])
        self._snapshot.store.add_dependent(self._store.folder)
        how = f"trial {identity}"
        took = time.monotonic() - restoring
        self._make_control(self._clone)
        restoring = time.monotonic() - took
        try:
            self.stage.clone.start()
        except KeenHarborError as error:
            record_proof(self._snapshot, how, False, time.monotonic() - restoring, error.what)
            raise
        took = time.monotonic() - restoring
        self._start_control()
        self._look_before()
        starts = [self.before.pages[s] for s in self._live.model.look.starts if s in self.before.pages]
        good = bool(starts) and all(page.loads for page in starts)
        record_proof(self._snapshot, how, good, took, plural(len(self.before.pages), "page"))

    def _set(self, identity: str, snapshot: Snapshot, was_at: str | None = None) -> None:
        port = self._options.port
        if was_at is not None and port is None:
            # At the port of before its pages hold what they did then; at another one its address is rewritten.
            old = int(was_at.rpartition(":")[2])
            port = None if port_is_taken(old) else old
        self._clone = make_clone(
            self._live, snapshot, f"{TRIAL_PURPOSE}{identity}", mail_port=self._mailbox.port, port=port,
            environment=True,
            was_at=was_at,
        )  # fmt: skip
        self.stage = Stage(self._live, self._clone, self._mailbox, self._feed, self._options.ask, self._progress)

    def _look_before(self) -> None:
        """Look twice at the unchanged clone (at the control beside it), and learn what is noise."""
        self._progress.stage("looking at the unchanged clone, twice")
        # What the scripted visits write they have written before the first look: it is no noise then.
        for stage in (self.stage, self._control.stage) if self._control is not None else (self.stage,):
            stage.make_checks()
        first = self.stage.look(samples=BEFORE_SAMPLES, learn=True, far=Far(1))
        again, known = Far(1, served=False), tuple(first.pages)
        second, beside = look_at_both(
            self.stage, self._control, lambda s: s.look(known, samples=BEFORE_SAMPLES, learn=True, far=again)
        )
        times: dict[str, list[float]] = {}
        for look in (first, second):
            for path, page in look.pages.items():
                times.setdefault(path, []).extend(page.seconds)
        self._checkpoint = self.stage.clone.begun_from
        self._initial = self._take_checkpoint("before the first step")
        noise = learn_noise([first, second, *([beside] if beside is not None else [])])
        before = SeenBefore(
            self._snapshot.id, self._initial.id, self.stage.clone.address, second, noise, times,
            sorted(self.stage.log_lines()),
        )  # fmt: skip
        if self._gallery is not None:
            self._progress.stage("taking pictures of the unchanged clone, twice")
            before.shots = self._gallery.before(self.stage.clone.address, second, self.stage.member_cookies)
        self.record = TrialRecord.begin(self._folder, before)

    def _take_up(self, identity: str, earlier: GoOn) -> None:
        kept = earlier.kept
        self.record = earlier.record.continued(self._folder, kept)
        self._store = Store(self.record.checkpoints, [self._snapshot.store])
        self._snapshot.store.add_dependent(self._store.folder)
        self._initial = find_snapshot(self._store, self.record.before.initial, self._live.name)
        last = self.record.steps[-1].record.checkpoint if kept else self.record.before.initial
        start = find_snapshot(self._store, last, self._live.name)
        told = f"after step {self.record.steps[-1].name}" if kept else "before the first step"
        self._progress.stage(f"making a clone of the checkpoint {told}")
        self._set(identity, start, self.record.before.address)
        self.stage.install_again(self._plan.step[:kept])
        try:
            self.stage.clone.start()
        except KeenHarborError as error:
            # What stands may be broken by itself: the next steps are there to mend it.
            self._progress.note(error.what)
        self._make_control()
        self._start_control()
        if self._control is not None:
            self._control.stage.make_checks()

    def carry_out(self) -> None:
        """Every step that is not done yet, each between two checkpoints and followed by a look."""
        total = len(self._plan.step)
        for number, step in enumerate(self._plan.step, 1):
            if number <= len(self.record.steps):
                continue
            self._progress.stage(f"step {number} of {total}: {step.name} ({step.told()})")
            seen = self._carry_out_one(step, last=number == total)
            self.record.add(seen)
            problem = seen.record.problem
            state = f"failed: {problem}" if problem else "done"
            self._progress.note(
                f"{state} in {duration(seen.record.seconds)}, {plural(len(seen.observations), 'difference')} seen"
            )
            if problem and not self._options.go_on:
                break
        if self.record.steps and self.record.steps[-1].partial:  # an earlier trial went further
            self._look_behind(
                self.record.steps[-1], self.record.before.noise, self.record.steps[-1].versions, last=True
            )
            self.record.change(len(self.record.steps) - 1)

    def find_steps(self) -> None:
        """Lay to its step what only the last look shows."""
        steps = self.record.steps
        if not any(s.partial for s in steps):
            return
        self._progress.stage("finding the steps since which the differences are there")
        self._halving = Halving(steps, self.before, self._differing_at)
        self._halving.lay()
        for number in sorted(self._halving.changed):
            self.record.change(number)

    def _differing_at(
        self, number: int, pages: Sequence[str], onwards: bool = False
    ) -> tuple[Look, list[Observation]] | None:
        """Some pages as they were behind a step (``onwards``: and what they newly led to), and how they differ from
        before."""
        look = self._look_at(number, pages, new_to=self.before if onwards else None)
        seen, noise = self.record.steps[number], self.record.before.noise
        if look is None:
            return None
        live, secrets = [self._live.address], secret_values(self._live)
        return look, compare_pages(self.before, look, noise, seen.versions, live, secrets)

    def _look_at(self, number: int, pages: Sequence[str], samples: int = 1, new_to: Look | None = None) -> Look | None:
        """Some pages as they were behind a step (timed, where ``samples`` are wanted); None where it does not start."""
        seen, noise = self.record.steps[number], self.record.before.noise
        self._progress.note(f"behind {seen.name}: {plural(len(pages), 'page')}")
        state = find_snapshot(self._store, seen.record.checkpoint, self._live.name)
        try:
            clone = make_clone(
                self._live, state, f"{TRIAL_PURPOSE}halving", mail_port=self._mailbox.port, environment=True,
                was_at=self.record.before.address,
            )  # fmt: skip
        except KeenHarborError:
            return None
        try:
            stage = Stage(self._live, clone, self._mailbox, self._feed)
            stage.install_again(self._plan.step[: number + 1])
            clone.start()
            look = stage.look(
                (), samples=samples, noise=noise, only=pages, checks=False, timed=samples > 1, new_to=new_to
            )
        except KeenHarborError:
            return None
        finally:
            clone.drop()
        look.cut = True
        return look

    def _carry_out_one(self, step: StepBase, *, last: bool) -> SeenStep:
        start = self._take_checkpoint(f"before {step.name}")
        outcome = self.stage.carry_out(step, self.before.checks)
        end = self._take_checkpoint(f"after {step.name}")
        last = last or (outcome.problem is not None and not self._options.go_on)
        earlier = self.record.steps[-1] if self.record.steps else None
        versions = {**(earlier.versions if earlier else {}), **outcome.versions}
        rows = row_delta(start.state, end.state, [c.carried for c in step.carries])
        difference = compare_trees(start.entries, end.entries)
        record = StepRecord(
            step.name, step.told(), outcome.problem, outcome.tries, round(outcome.seconds, 3), outcome.output,
            len(difference.added) + len(difference.removed) + len(difference.changed),
            sum(len(t.added) + len(t.removed) + len(t.changed) for t in rows.tables.values()), end.id,
        )  # fmt: skip
        seen = SeenStep(as_plain(step), record, versions=versions, begun_from=start.id)
        seen.of_step = of_step(self._live.model, step, outcome, start, end, rows)
        try:
            self.stage.clone.restart()
        except KeenHarborError as error:
            seen.observations = [Observation("does-not-start", "site", Weight.DAMAGE, error.what)]
        else:
            noise = self.record.before.noise
            self._look_behind(seen, noise, versions, last=last)
            self._take_pictures(seen, earlier)
        known = set(earlier.log_lines if earlier else self.record.before.log_lines)
        lines = self.stage.log_lines()
        seen.of_step += of_log(sorted(lines - known))
        seen.log_lines = sorted(known | lines)
        return seen

    def _look_behind(self, seen: SeenStep, noise: Noise, versions: dict[str, str], *, last: bool) -> None:
        """Look at the pages; behind the last step at those of the control at the same moment, too."""
        pages, live, secrets = tuple(self.before.pages), [self._live.address], secret_values(self._live)
        if not last:
            shots = self.record.before.shots
            pictured = {s.path for s in shots.shots.values()} if self._gallery is not None and shots is not None else ()
            step = self._plan.step[len(self.record.steps)]
            chosen = stands_for_all(self.before, self._live.model.look.starts, [step], pictured)
            seen.partial = len(chosen) < len(pages)
            only = chosen if seen.partial else None
            seen.look = self.stage.look(
                pages, samples=1 if only else SAMPLES, noise=noise, only=only, timed=not only,
                far=Far(1, as_before=self.before) if only else None,
            )  # fmt: skip
            seen.look.cut = seen.look.cut or seen.partial
            seen.observations = compare_pages(self.before, seen.look, noise, versions, live, secrets)
            return
        seen.partial = False
        seen.look, control = look_at_the_end(self.stage, self._control, self.before, noise)
        if control is not None:
            noise = noise | learn_noise([control])  # of what differs by itself more was seen than before
        seen.observations = compare_pages(self.before, seen.look, noise, versions, live, secrets)
        if control is not None:
            self._control_end = control
            earlier = {o.identity for s in self.record.steps for o in s.observations}
            seen.observations = not_by_the_clock(
                seen.observations, control, seen.look, noise, versions, live, earlier, secrets, self.before.pages
            )
            self._look_further(seen, noise, versions)

    def _look_further(self, seen: SeenStep, noise: Noise, versions: dict[str, str]) -> None:
        """Where pages differ, look at more of their kind that were left out, on both clones: what the control says is
        what they said before."""
        assert seen.look is not None
        more = pages_to_add(self.before, seen.observations)
        if not more:
            return
        self._progress.note(f"{plural(len(more), 'page')} more, of the kinds that differ")
        often = Far(BEFORE_SAMPLES, served=False)
        mine, theirs = look_at_both(
            self.stage,
            self._control,
            lambda s: s.look(
                (), samples=BEFORE_SAMPLES, learn=True, only=more, checks=False, timed=False, far=often
            ),
        )  # fmt: skip
        if theirs is None:
            return
        seen.look.pages |= {p: page for p, page in mine.pages.items() if p in theirs.pages}
        self.before.pages |= {p: page for p, page in theirs.pages.items() if p in mine.pages}
        self.before.left = [p for p in self.before.left if p not in theirs.pages]
        # Of these pages nothing was learnt before.
        noise = noise | learn_noise([theirs]) | learn_noise([mine])
        self.record.before.noise |= noise
        self.record.change_before()
        for step in self.record.steps:
            if step.look is not None:
                step.partial = step.look.cut = True  # it was not at these pages
        mine.cut = theirs.cut = True
        live, secrets = [self._live.address], secret_values(self._live)
        found = compare_pages(theirs, mine, noise, versions, live, secrets)
        seen.observations += [o for o in found if o.page in more and o.kind != "unsettled"]

    def _take_pictures(self, seen: SeenStep, earlier: SeenStep | None) -> None:
        before = self.record.before
        if self._gallery is None or before.shots is None or seen.look is None:
            return
        look_earlier = earlier.look if earlier is not None and earlier.look is not None else before.look
        shots = earlier.shots if earlier is not None and earlier.shots else before.shots.shots
        looks, member = (look_earlier, seen.look), self.stage.member_cookies
        seen.shots = self._gallery.after(self.stage.clone.address, shots, looks, before.noise, member)
        seen.observations += self._gallery.differences(before.shots, seen.shots, (before.look, seen.look), before.noise)

    def _take_checkpoint(self, label: str) -> Snapshot:
        self._checkpoint = self.stage.checkpoint(self._store, label, self._checkpoint)
        return self._checkpoint

    def _try_way_back(self) -> None:
        """Go back on the control with what made-up visitors did on the upgraded clone."""
        steps, control = self.record.steps, self._control
        if len(steps) < len(self._plan.step) or any(s.record.problem for s in steps):
            return  # there is no cutover that one could go back from
        if control is None:
            self._no_way_back = "there is no second clone"
            return
        self._progress.stage("trying the way back with what made-up visitors did")
        arrival = self._take_checkpoint("arrival")
        self.stage.make_checks()
        now = self._take_checkpoint("after visitors")
        pages = stands_for_all(self.before, self._live.model.look.starts, self._plan.step)
        self.way_back = try_way_back(control, arrival, now, self.before, pages, backwards(self._plan.carried))
        self._progress.note(self.way_back.told)

    def _hold_definitions(self) -> None:
        """Hold the upgraded database's definitions against those that the new release makes of an empty one. Comes
        last: the clone's rows go."""
        steps, command = self.record.steps, self._live.model.commands.build_schema
        if command is None or len(steps) < len(self._plan.step) or any(s.record.problem for s in steps):
            return
        self._progress.stage("bringing an empty database up by the new code")
        end, clone = find_snapshot(self._store, steps[-1].record.checkpoint, self._live.name), self.stage.clone
        try:
            self._unlike = list(unlike_fresh(schema_when_fresh(clone, end), end.state.schema))
            if self._unlike and self._control is not None:
                # What the old release would have made otherwise, too, no step has done.
                old, there = schema_when_fresh(self._control.stage.clone, self._snapshot), self._snapshot.state.schema
                known = {(o.place, o.before, o.after, o.text) for o in unlike_fresh(old, there)}
                self._unlike = [o for o in self._unlike if (o.place, o.before, o.after, o.text) not in known]
        except KeenHarborError as error:
            self._not_held = error.what
        finally:
            if self._options.keep:
                restore_rows(clone, end)

    def pace(self) -> PaceFound:
        """The pages that became slower."""
        before = self.record.before
        return PaceFound(
            self.stage, self._snapshot, before.look, before.times, self.record.steps, self._progress, self._look_at
        )

    def laid(self, pace: PaceFound) -> list[Laid]:
        """Every difference that is there at the end, laid to its step and weighed."""
        steps = self.record.steps
        found = list(laid_of_pages(steps, self.before))
        found += unconfirmed(steps, found, self.before)
        if steps:
            end = find_snapshot(self._store, steps[-1].record.checkpoint, self._live.name)
            found += laid_of_steps(self._live.model, steps, self._initial, end)
        if self._unlike:
            behind = [(s.name, find_snapshot(self._store, s.record.checkpoint, self._live.name)) for s in steps]
            schemas = [(name, state.state.schema) for name, state in behind]
            found += [(o, brought_by(o, self._initial.state.schema, schemas), None) for o in self._unlike]
        found += [(o, None, None) for o in (self.way_back.observed() if self.way_back is not None else ())]
        for slow, step in pace.slower:
            weight = Weight.NOTE if slow.after < SLOW_SECONDS else Weight.DOUBT
            before, after = duration(slow.before), duration(slow.after)
            text = f"{slow.path} takes {slow.ratio:.1f} times as long ({before} → {after})"
            found.append((Observation("slower", slow.path, weight, text, slow.path, before, after), step, None))
        return [(weighed(o, self._live.model), s, h) for o, s, h in found]

    def findings(self, laid: list[Laid]) -> list[Finding]:
        """What is there at the end, grouped, worst first; with pictures where there are some."""
        found, before = group(laid), self.record.before
        last = self.record.steps[-1].shots if self.record.steps else {}
        if self._gallery is None or before.shots is None or not last:
            return found
        return [
            self._gallery.show(f, before.shots, last, before.noise) if f.weight is not Weight.NOTE else f for f in found
        ]

    def healed(self, laid: list[Laid]) -> list[Finding]:
        """What showed after a step and was gone at the end, but for what the clock had done."""
        end = self._control_end
        clock = by_the_clock(self.before, end, self.record.before.noise) if end is not None else set()
        return group(laid for laid in passing(self.record.steps, laid) if laid[0].identity not in clock)

    def remarks(self, pace: PaceFound) -> list[str]:
        """What this trial could not see, in words."""
        return Unseen(
            self._live.model, self.record, self._control_end, self._no_control, self._not_held, self._no_way_back,
            self.stage.clone.facts.opaque, pace.not_timed, self._halving.undecided if self._halving is not None else 0,
            [s.name for s in self._plan.step[len(self.record.steps) :]],
        ).told()  # fmt: skip


def weighed(seen: Observation, model: SiteFile) -> Observation:
    """An observation with the weight that the site file gives to its kind."""
    said = model.verdict.weights.get(seen.kind)
    return seen if said is None else replace(seen, weight=Weight(said))
