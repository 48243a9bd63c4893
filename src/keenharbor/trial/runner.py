"""A trial: the plan rehearsed on a clone, looked at before, after each step, and at the end."""

from __future__ import annotations

import contextlib
import re
import shutil
import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from statistics import median
from typing import Any

from keenharbor.base.durable import private_folder
from keenharbor.base.errors import KeenHarborError
from keenharbor.base.process import Ran
from keenharbor.base.progress import Progress, Silent
from keenharbor.base.text import duration, now, plural, stamp
from keenharbor.clone.clone import TRIAL_PURPOSE, Clone, live_places, make_clone
from keenharbor.clone.environment import install
from keenharbor.clone.mailbox import Mailbox
from keenharbor.compare import (
    Look,
    Noise,
    Observation,
    Slower,
    VisitError,
    Visitor,
    Weight,
    compare_files,
    compare_pages,
    compare_settings,
    compare_tables,
    group,
    learn_noise,
    slower_pages,
    take_look,
    verdict_of,
)
from keenharbor.compare.look import first_new_problem, make_checks
from keenharbor.compare.state import settings_of
from keenharbor.compare.timing import RATIO, SLOW_SECONDS
from keenharbor.database import open_database, row_delta
from keenharbor.database.rewrite import Rewriter, places_left
from keenharbor.site.feed import Feed
from keenharbor.site.view import Fingerprint, SiteView
from keenharbor.snapshot import Snapshot, TakeOptions, record_proof, take_snapshot
from keenharbor.snapshot.take import new_id
from keenharbor.store import Store
from keenharbor.tree import compare_trees
from keenharbor.trial.plan import CheckStep, DistributionsStep, Plan, WaitStep, step_facts
from keenharbor.trial.result import Isolation, StepRecord, TrialResult, save_result
from keenharbor.trial.steps import Outcome, Workplace, perform

SAMPLES = 2
BEFORE_SAMPLES = 4
FINAL_SAMPLES = 8
IN_TURN = 15
FEWEST_PAGES = 5


@dataclass(frozen=True)
class TrialOptions:
    """``keep``: leave the clone and the checkpoints for a visit; ``stop_at_failure``: do not go on after a failed step;
    ``ask`` shows a person what to do and returns when they are done (None: nobody is there)."""

    ask: Callable[[str], None] | None = None
    keep: bool = False
    stop_at_failure: bool = False
    port: int | None = None


@dataclass
class _Seen:
    """What was observed after one step: by looking at the pages, and by comparing its two checkpoints."""

    step: str
    look: Look | None
    observations: list[Observation] = field(default_factory=list)
    of_step: list[Observation] = field(default_factory=list)


def run_trial(
    live: SiteView,
    plan: Plan,
    plan_file: Path,
    snapshot: Snapshot,
    feed: Feed,
    options: TrialOptions,
    progress: Progress,
) -> TrialResult:
    """Rehearse ``plan`` on a clone of ``snapshot``; the result is saved under the site's work folder.

    Raises `KeenHarborError` when no clone can be made or the clone does not start; what the plan's steps do wrong
    is in the result.
    """
    began, started = time.monotonic(), now()
    identity = new_id(started)
    folder = private_folder(live.work / "trials" / identity)
    try:
        shutil.copy(plan_file, folder / "plan.toml")
        progress.stage("taking live's fingerprint")
        before_live = live.fingerprint()
        with Mailbox() as mailbox:
            progress.stage(f"making a clone of snapshot {snapshot.id}")
            restoring = time.monotonic()
            clone = make_clone(
                live,
                snapshot,
                f"{TRIAL_PURPOSE}{identity}",
                mail_port=mailbox.port,
                port=options.port,
                environment=True,
            )
            try:
                rehearsal = _Rehearsal(live, plan, feed, clone, mailbox, options, progress, folder, snapshot)
                rehearsal.prove(f"trial {identity}", restoring)
                rehearsal.carry_out()
                slower = rehearsal.slower()
                traces = _traces(clone, live, snapshot)
            except BaseException:
                clone.drop()
                raise
            clone.stop()
            mails = tuple({"to": ", ".join(m.to), "subject": m.subject} for m in mailbox.messages)
        progress.stage("taking live's fingerprint again")
        isolation = _isolation(live, before_live, live.fingerprint(), clone, traces, mails)
        result = rehearsal.result(identity, stamp(started), time.monotonic() - began, str(plan_file), isolation, slower)
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise
    if not options.keep:
        clone.drop()
        shutil.rmtree(folder / "checkpoints", ignore_errors=True)
    save_result(live.work, result)
    return result


class _Rehearsal:
    """The part of a trial that happens on the clone."""

    def __init__(
        self, live: SiteView, plan: Plan, feed: Feed, clone: Clone, mailbox: Mailbox, options: TrialOptions,
        progress: Progress, folder: Path, snapshot: Snapshot,
    ) -> None:  # fmt: skip
        self._live, self._plan, self._feed, self._clone = live, plan, feed, clone
        self._mailbox, self._options, self._progress = mailbox, options, progress
        self._store = Store.create(folder / "checkpoints", behind=[snapshot.store])
        snapshot.store.add_dependent(self._store.folder)
        self._snapshot = snapshot
        self._checkpoint: Snapshot | None = None
        self._seen: list[_Seen] = []
        self._records: list[StepRecord] = []
        self._versions: dict[str, str] = {}
        self._log_lines: set[str] = set()
        self.before = Look("")
        self._noise = Noise()
        self._times_before: dict[str, list[float]] = {}
        self._times_after: dict[str, list[float]] = {}

    def _look(self, samples: int = SAMPLES, learn: bool = False) -> Look:
        with Visitor(self._clone.address) as visitor:
            return take_look(
                visitor, self._live.model.look, also=tuple(self.before.pages), samples=samples, learn=learn,
                checks=self._live.model.check, mail_to=lambda: [a for m in self._mailbox.messages for a in m.to],
            )  # fmt: skip

    def prove(self, how: str, since: float) -> None:
        """Start the clone, look at it, and note in the snapshot's record whether it came up.

        Raises `KeenHarborError` when it does not start.
        """
        try:
            self._clone.start()
        except KeenHarborError as error:
            record_proof(self._snapshot, how, False, time.monotonic() - since, error.what)
            raise
        took = time.monotonic() - since
        self.look_before()
        starts = [self.before.pages[s] for s in self._live.model.look.starts if s in self.before.pages]
        good = bool(starts) and all(page.loads for page in starts)
        record_proof(self._snapshot, how, good, took, plural(len(self.before.pages), "page"))

    def look_before(self) -> None:
        """Look twice at the unchanged clone, and learn what is noise."""
        self._progress.stage("looking at the unchanged clone, twice")
        first = self._look(BEFORE_SAMPLES, True)
        self.before = first
        second = self._look(BEFORE_SAMPLES, True)
        self.before, self._noise = second, learn_noise([first, second])
        for look in (first, second):
            for path, page in look.pages.items():
                self._times_before.setdefault(path, []).extend(page.seconds)
        self._log_lines = self._read_logs()

    def carry_out(self) -> None:
        """Every step, each between two checkpoints and followed by a look."""
        self._initial = self._take_checkpoint("before the first step")
        total = len(self._plan.step)
        for number, step in enumerate(self._plan.step, 1):
            self._progress.stage(f"step {number} of {total}: {step.name} ({step_facts(step)})")
            start = self._take_checkpoint(f"before {step.name}")
            outcome = perform(step, self._workplace())
            end = self._take_checkpoint(f"after {step.name}")
            seen = _Seen(step.name, None)
            self._seen.append(seen)
            seen.of_step = self._of_step(step, outcome, start, end)
            self._versions |= outcome.versions
            try:
                self._clone.restart()
            except KeenHarborError as error:
                seen.observations = [Observation("does-not-start", "site", Weight.DAMAGE, error.what)]
            else:
                last = number == total
                seen.look = self._look(FINAL_SAMPLES if last else SAMPLES)
                seen.observations = compare_pages(self.before, seen.look, self._noise, self._versions)
            seen.of_step += self._new_log_lines()
            rows = row_delta(start.state, end.state)
            difference = compare_trees(start.entries, end.entries)
            self._records.append(
                StepRecord(
                    step.name, step_facts(step), outcome.problem, outcome.tries, round(outcome.seconds, 3), outcome.output,
                    len(difference.added) + len(difference.removed) + len(difference.changed),
                    sum(len(t.added) + len(t.removed) + len(t.changed) for t in rows.tables.values()), end.id,
                )
            )  # fmt: skip
            state = f"failed: {outcome.problem}" if outcome.problem else "done"
            self._progress.note(
                f"{state} in {duration(outcome.seconds)}, {plural(len(seen.observations), 'difference')} seen"
            )
            if outcome.problem and self._options.stop_at_failure:
                break

    def _take_checkpoint(self, label: str) -> Snapshot:
        taken = take_snapshot(
            self._clone.site,
            self._store,
            TakeOptions(label=label, reason="checkpoint", every_row=True),
            Silent(),
            self._checkpoint,
        )
        self._checkpoint = taken
        return taken

    def _workplace(self) -> Workplace:
        """The clone for a step. It was restarted after the step before, so it runs what is there."""
        ask = self._options.ask

        def check(only: Sequence[str]) -> str | None:
            chosen = [c for c in self._live.model.check if not only or c.name in only]
            with Visitor(self._clone.address) as visitor:
                seen = make_checks(visitor, chosen, lambda: [a for m in self._mailbox.messages for a in m.to])
            return first_new_problem(seen, self.before.checks)

        def show(say: str) -> None:
            assert ask is not None
            ask(f"{say}\nThe clone answers at {self._clone.address}")

        def put_in(step: DistributionsStep) -> Ran:
            assert self._clone.facts.environment is not None
            own = Path(self._clone.facts.environment)
            return install(own, step.wants, step.removes, self._live.wheelhouse(), step.time_limit)

        return Workplace(
            self._clone.site, self._feed, self._clone.address, check=check, ask=show if ask is not None else None,
            install=put_in if self._clone.facts.environment is not None else None,
        )  # fmt: skip

    def _of_step(self, step: Any, outcome: Outcome, start: Snapshot, end: Snapshot) -> list[Observation]:
        """What a step did beyond its purpose, from the checkpoints around it."""
        name: str = step.name
        found: list[Observation] = []
        # A check that fails is told of by the look that follows.
        if outcome.problem is not None and not isinstance(step, CheckStep):
            text = f"the step failed: {outcome.problem}"
            if outcome.tries > 1:
                text += f" ({outcome.tries} tries)"
            found.append(Observation("step-failed", name, Weight.DAMAGE, text, after=outcome.output[-400:]))
        for path, diff in outcome.wiped:
            text = f"a local edit of {path} was wiped"
            found.append(Observation("edit-wiped", path, Weight.DAMAGE, text, before=diff))
        if outcome.left_over:
            paths = ", ".join(outcome.left_over)
            text = f"{plural(len(outcome.left_over), 'file')} that the new release does not have: {paths}"
            found.append(Observation("left-over", name, Weight.DOUBT, text, after=paths))
        found += compare_files(start.entries, end.entries, outcome.touches)
        model = self._live.model
        found += compare_tables(row_delta(start.state, end.state), model)
        for seen in compare_settings(settings_of(start.state, model), settings_of(end.state, model)):
            planned = any(seen.place == s or seen.place.startswith(s + ".") for s in outcome.settings)
            found.append(replace(seen, weight=Weight.NOTE, text=f"{seen.text}, as planned") if planned else seen)
        if isinstance(step, WaitStep):
            # What a person was asked to do is recorded, not doubted; what they lost on the way is told as it is.
            lost = ("step-failed", "rows-lost", "setting-lost")
            found = [o if o.kind in lost else replace(o, weight=Weight.NOTE, text=f"{o.text}, by hand") for o in found]
        return found

    def _read_logs(self) -> set[str]:
        lines: set[str] = set()
        for path, entry in self._clone.site.scan().entries.items():
            if entry.area == "logs" and entry.kind == "file":
                text = (self._clone.site.root / path).read_text(encoding="utf-8", errors="replace")
                lines |= {re.sub(r"\d+", "#", line).lstrip("# :,.TZ-") for line in text.splitlines() if line.strip()}
        return lines

    def _new_log_lines(self) -> list[Observation]:
        lines = self._read_logs()
        new = sorted(lines - self._log_lines)
        self._log_lines |= lines
        return [Observation("log", line[:120], Weight.DOUBT, f"new in the error log: {line[:160]}") for line in new]

    def slower(self) -> list[tuple[Slower, str | None]]:
        """The pages that became slower, each with the step since which it is so."""
        last = next((s.look for s in reversed(self._seen) if s.look is not None), None)
        if last is None:
            return []
        self._progress.stage("timing the pages")
        after = {p: seen.seconds for p, seen in last.pages.items() if seen.loads}
        self._times_after = {p: list(times) for p, times in after.items()}
        suspects = [s.path for s in slower_pages(self._times_before, after)]
        if suspects:
            self._ask_in_turn(suspects)
        confirmed = slower_pages(
            {p: self._times_before[p] for p in suspects}, {p: self._times_after[p] for p in suspects}
        )
        return [(s, self._slow_since(s)) for s in confirmed]

    def _ask_in_turn(self, paths: list[str]) -> None:
        """Time ``paths`` anew on an unchanged clone and on this one, in turn, so that a busy moment of the machine
        falls on both sides alike."""
        beside = make_clone(self._live, self._snapshot, f"{TRIAL_PURPOSE}timing", mail_port=self._mailbox.port)
        try:
            # A page that does not answer any more has worse findings than its time.
            with (
                contextlib.suppress(VisitError),
                beside,
                Visitor(beside.address) as old,
                Visitor(self._clone.address) as new,
            ):
                sides = ((old, self._times_before), (new, self._times_after))
                for path in paths:
                    for visitor, times in sides:
                        visitor.get(path)  # the first visit fills caches
                        times[path] = []
                for _ in range(IN_TURN):
                    for path in paths:
                        for visitor, times in sides:
                            began = time.perf_counter()
                            visitor.get(path)
                            times[path].append(time.perf_counter() - began)
        finally:
            beside.drop()

    def _slow_since(self, slower: Slower) -> str | None:
        """The first step after which the page was never again nearer to the time before than to the time after.

        Times are taken relative to the other pages of the same look, as far as these did not become slower too: how
        busy the machine is differs from look to look.
        """
        looks = [(s.step, s.look) for s in self._seen if s.look is not None]
        measure = _relative_time
        first, last = measure(self.before, slower.path), measure(looks[-1][1], slower.path)
        if first is None or last is None or last < RATIO * first:
            measure = _least_time
            first, last = slower.before, slower.after
        border = (first * last) ** 0.5
        since: str | None = None
        for step, look in looks:
            seconds = measure(look, slower.path)
            if seconds is not None:
                since = None if seconds < border else (since or step)
        return since

    def result(
        self, identity: str, started: str, seconds: float, plan_file: str, isolation: Isolation,
        slower: list[tuple[Slower, str | None]],
    ) -> TrialResult:  # fmt: skip
        """Lay every difference that is there at the end to its step, and judge."""
        final = list(self._laid_pages()) + list(self._laid_of_steps())
        for slow, step in slower:
            weight = Weight.NOTE if slow.after < SLOW_SECONDS else Weight.DOUBT
            text = (
                f"{slow.path} takes {slow.ratio:.1f} times as long ({duration(slow.before)} → {duration(slow.after)})"
            )
            seen = Observation(
                "slower", slow.path, weight, text, slow.path, duration(slow.before), duration(slow.after)
            )
            final.append((seen, step, None))
        identities = {o.identity for o, _, _ in final}
        passing: dict[tuple[str, str, str], tuple[Observation, str | None, str | None]] = {}
        for seen_at in self._seen:
            for seen in [*seen_at.observations, *seen_at.of_step]:
                if seen.identity not in identities and seen.weight is not Weight.NOTE:
                    passing.setdefault(seen.identity, (seen, seen_at.step, None))
        findings = group(final)
        return TrialResult(
            id=identity, site=self._live.name, plan_file=plan_file, plan_digest=self._plan.digest,
            snapshot=self._clone.facts.snapshot, started_at=started, seconds=round(seconds, 3), verdict=verdict_of(findings),
            findings=tuple(findings), healed=tuple(group(passing.values())), slower=tuple(s for s, _ in slower),
            steps=tuple(self._records), noise=tuple(self._noise.listing()), pages=len(self.before.pages),
            isolation=isolation, clone=self._clone.id if self._options.keep else None,
            known=tuple(sorted(identities)),
            timings={p: [t, self._times_after[p]] for p, t in self._times_before.items() if p in self._times_after},
        )  # fmt: skip

    def _laid_pages(self) -> Iterable[tuple[Observation, str | None, str | None]]:
        for seen in self._seen[-1].observations if self._seen else ():
            first = len(self._seen) - 1
            while first > 0 and any(o.identity == seen.identity for o in self._seen[first - 1].observations):
                first -= 1
            hidden = None
            at = first - 1
            while at >= 0 and seen.page and self._page_failed(at, seen.page):
                hidden = self._seen[at].step
                at -= 1
            yield seen, self._seen[first].step, hidden

    def _page_failed(self, at: int, page: str) -> bool:
        look = self._seen[at].look
        return look is None or (page in look.pages and not look.pages[page].loads)

    def _laid_of_steps(self) -> Iterable[tuple[Observation, str | None, str | None]]:
        """What the steps did to files and data, as far as it still stands at the end."""
        if not self._seen or self._checkpoint is None:
            return
        end, start, model = self._checkpoint, self._initial, self._live.model
        standing = compare_tables(row_delta(start.state, end.state), model)
        standing += compare_settings(settings_of(start.state, model), settings_of(end.state, model))
        identities = {o.identity for o in standing}
        told: set[tuple[str, str, str]] = set()
        away: dict[str, str] = {}
        for seen_at in self._seen:
            for seen in seen_at.of_step:
                if seen.kind == "schema-gone":
                    away.setdefault(seen.place.removeprefix("table "), seen_at.step)
                data = seen.kind.startswith(("rows-", "schema-", "setting-"))
                gone = seen.kind == "left-over" and not any(p in end.entries for p in seen.after.split(", "))
                if (not data or seen.identity in identities) and not gone:
                    told.add(seen.identity)
                    yield seen, seen_at.step, None
        # A table that was away for some steps hides from each of them what became of its rows.
        for seen in standing:
            if seen.place in away and seen.identity not in told:
                yield seen, away[seen.place], None


def _least_time(look: Look, path: str) -> float | None:
    """The least of a page's times in a look: a busy machine only ever adds. None when it was not timed."""
    page = look.pages.get(path)
    return min(page.seconds) if page is not None and page.loads and page.seconds else None


def _relative_time(look: Look, path: str) -> float | None:
    """`_least_time` over the median of all pages of the look; None when there are too few to tell."""
    own = _least_time(look, path)
    others = [t for t in (_least_time(look, p) for p in look.pages) if t is not None]
    return own / median(others) if own is not None and len(others) >= FEWEST_PAGES else None


def _traces(clone: Clone, live: SiteView, snapshot: Snapshot) -> tuple[str, ...]:
    """What of live is left in the clone's files and cells."""
    search = Rewriter(dict.fromkeys(live_places(live, snapshot), ""))
    found = [f"cell {c}" for c in places_left(open_database(clone.site.database_place), search)]
    for file in sorted(clone.site.root.rglob("*")):
        if file.is_file() and not file.is_symlink() and search.left_in(file.read_bytes()):
            found.append(f"file {file.relative_to(clone.site.root)}")
    return tuple(found)


def _isolation(
    live: SiteView, before: Fingerprint, after: Fingerprint, clone: Clone, traces: tuple[str, ...],
    mails: tuple[dict[str, str], ...],
) -> Isolation:  # fmt: skip
    differences = tuple(before.differences(after))
    theirs = {f"table {t}" for t in (*live.model.visitor_data.tables, *live.model.volatile.tables, "sqlite_sequence")}
    return Isolation(
        before.digest, after.digest, differences, bool(differences) and set(differences) <= theirs,
        len(clone.facts.rewritten_files), clone.facts.rewritten_cells, traces, mails,
    )  # fmt: skip
