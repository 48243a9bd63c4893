"""Which steps together bring a finding out: the smallest set, searched for on clones.

The finding shows after a known step, with all the steps before it. Looked for is what of these it needs. By halving (as
in QuickXplain, Junker 2004, for one conflict): the shortest beginning of the plan with which it still shows ends with a
step that is needed; then the same again before that one, until what was found is enough. With ``n`` steps before, each
needed one costs about log2(n) runs and one more. A beginning of the plan is a checkpoint, so most runs are a restore
and one step."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.base.progress import Progress
from keenharbor.base.text import duration
from keenharbor.clone.facts import TRIAL_PURPOSE
from keenharbor.clone.mailbox import Mailbox
from keenharbor.clone.making import make_clone
from keenharbor.compare import Finding, Observation, compare_pages, compare_settings, compare_tables
from keenharbor.compare.state import settings_of
from keenharbor.database import row_delta
from keenharbor.site.feed import Feed
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot, find_snapshot
from keenharbor.store import Store
from keenharbor.trial.observing import log_place, of_step
from keenharbor.trial.plan import Plan
from keenharbor.trial.record import TrialRecord
from keenharbor.trial.stage import Stage

RUNS = 20
_OF_PAGES = ("check-failed", "does-not-start")


@dataclass(frozen=True)
class Run:
    """One try: the steps that were carried out, whether the finding showed (None: a step failed that had not before),
    and how long it took in seconds."""

    steps: tuple[str, ...]
    shows: bool | None
    seconds: float
    problem: str = ""


@dataclass(frozen=True)
class Culprits:
    """The steps that bring ``finding`` out together; ``sure`` says that no smaller set was left untried."""

    finding: Finding
    steps: tuple[str, ...]
    sure: bool
    runs: tuple[Run, ...]

    def as_json(self) -> dict[str, object]:
        return {
            "finding": self.finding.as_json(), "steps": list(self.steps), "sure": self.sure,
            "runs": [{"steps": list(r.steps), "shows": r.shows, "seconds": round(r.seconds, 3), "problem": r.problem}
                     for r in self.runs],
        }  # fmt: skip


class OutOfRuns(Exception):
    """The budget is spent."""


def smallest_set(before: Sequence[int], last: int, shows: Callable[[Sequence[int]], bool]) -> list[int]:
    """The steps (by number, in order) that the finding needs, ``last`` among them: with all of them it is taken to
    show. What ``shows`` raises goes through."""
    needed = [last]
    candidates = list(before)
    while not shows(needed):
        # The shortest beginning of the candidates that is enough; its end is needed.
        low, high = 0, len(candidates)
        while low + 1 < high:
            middle = (low + high) // 2
            if shows(candidates[:middle] + needed):
                high = middle
            else:
                low = middle
        if high == 0:
            break  # nothing is left to add: it does not show in the way in which it did
        needed = [candidates[high - 1], *needed]
        candidates = candidates[: high - 1]
    return needed


@dataclass
class _Search:
    live: SiteView
    plan: Plan
    record: TrialRecord
    finding: Finding
    snapshot: Snapshot
    feed: Feed
    budget: int
    progress: Progress
    runs: list[Run] = field(default_factory=list)
    known: dict[tuple[int, ...], bool] = field(default_factory=dict)

    def shows(self, numbers: Sequence[int]) -> bool:
        """Whether the finding shows after these steps alone."""
        wanted = tuple(numbers)
        if wanted not in self.known:
            if len(self.runs) >= self.budget:
                raise OutOfRuns
            names = tuple(self.record.steps[n].name for n in wanted)
            self.progress.stage(
                f"run {len(self.runs) + 1} (at most {self.budget - len(self.runs) - 1} more): {', '.join(names)}"
            )
            began = time.monotonic()
            shown, problem = self._try(wanted)
            self.runs.append(Run(names, shown, time.monotonic() - began, problem))
            told = "shows" if shown else "does not show" if shown is not None else f"cannot be told: {problem}"
            self.progress.note(f"{told}, in {duration(self.runs[-1].seconds)}")
            self.known[wanted] = bool(shown)
        return self.known[wanted]

    def _try(self, wanted: tuple[int, ...]) -> tuple[bool | None, str]:
        store = Store(self.record.checkpoints, [self.snapshot.store])
        beginning = 0
        while beginning < len(wanted) and wanted[beginning] == beginning:
            beginning += 1
        # The finding is laid to the last step: what that one does is to be seen, so it is never taken from a
        # checkpoint.
        beginning = min(beginning, len(wanted) - 1)
        at = self.record.steps[beginning - 1].record.checkpoint if beginning else self.record.before.initial
        start = find_snapshot(store, at, self.live.name)
        with contextlib.ExitStack() as stack:
            mailbox = stack.enter_context(Mailbox())
            clone = make_clone(
                self.live, start, f"{TRIAL_PURPOSE}culprits", mail_port=mailbox.port, environment=True,
                was_at=self.record.before.address,
            )  # fmt: skip
            stack.callback(clone.drop)
            stage = Stage(self.live, clone, mailbox, self.feed)
            stage.install_again([self.plan.step[n] for n in wanted[:beginning]])
            return self._carry_out(stage, wanted[beginning:], start, store)

    def _carry_out(
        self, stage: Stage, numbers: Sequence[int], start: Snapshot, store: Store
    ) -> tuple[bool | None, str]:  # fmt: skip
        versions: dict[str, str] = dict(self.record.steps[numbers[0] - 1].versions) if numbers[0] else {}
        before_last, seen = start, list[Observation]()
        for number in numbers:
            step, earlier = self.plan.step[number], self.record.steps[number].record
            with contextlib.suppress(KeenHarborError):
                stage.clone.restart()
            last = number == numbers[-1]
            if last:
                before_last = stage.checkpoint(store, f"culprits: before {step.name}", start)
            outcome = stage.carry_out(step, self.record.before.look.checks)
            versions |= outcome.versions
            if last:
                end = stage.checkpoint(store, f"culprits: after {step.name}", before_last)
                rows = row_delta(before_last.state, end.state, [c.carried for c in step.carries])
                seen += of_step(self.live.model, step, outcome, before_last, end, rows)
                initial = find_snapshot(store, self.record.before.initial, self.live.name)
                delta = row_delta(initial.state, end.state, self.plan.carried)
                seen += compare_tables(delta, self.live.model)
                seen += compare_settings(
                    settings_of(initial.state, self.live.model), settings_of(end.state, self.live.model)
                )
            elif outcome.problem is not None and earlier.problem is None:
                return None, f"step '{step.name}' fails without what was left out: {outcome.problem}"
        return self._is_there(stage, seen, versions), ""

    def _is_there(self, stage: Stage, seen: list[Observation], versions: dict[str, str]) -> bool:
        wanted = self.finding
        try:
            stage.clone.restart()
        except KeenHarborError:
            return wanted.kind == "does-not-start"
        if wanted.kind == "log":
            known = set(self.record.before.log_lines)
            stage.look((), samples=1, only=tuple(self.record.before.look.pages), checks=True)
            return any(log_place(line) == wanted.place for line in stage.log_lines() - known)
        before, noise = self.record.before.look, self.record.before.noise
        pages = wanted.pages or (tuple(before.pages) if wanted.kind not in _OF_PAGES else ())
        look = stage.look((), samples=2, noise=noise, only=pages, checks=wanted.kind == "check-failed")
        looked_at = {p for p in pages if p in look.pages}
        left = type(before)(before.address, {p: s for p, s in before.pages.items() if p in looked_at}, before.assets,
                            before.files, before.checks)  # fmt: skip
        look.pages = {p: s for p, s in look.pages.items() if p in looked_at}
        seen = seen + compare_pages(left, look, noise, versions, live=[self.live.address])
        return any(o.kind == wanted.kind and o.place == wanted.place for o in seen)


def find_culprits(
    live: SiteView, plan: Plan, record: TrialRecord, finding: Finding, snapshot: Snapshot, feed: Feed,
    progress: Progress,
    budget: int = RUNS,
) -> Culprits:  # fmt: skip
    """The smallest set of steps that brings ``finding`` out. Raises `UsageError` for a finding that no step has
    brought."""
    names = [s.name for s in record.steps]
    if finding.step not in names:
        raise UsageError(f"the finding '{finding.id}' is laid to no step of the plan")
    if finding.kind == "slower":
        raise UsageError(
            "what became slower is measured, not seen: it is not searched for", advice="keenharbor trial show"
        )
    last = names.index(finding.step)
    search = _Search(live, plan, record, finding, snapshot, feed, budget, progress)
    try:
        found, sure = smallest_set(range(last), last, search.shows), True
        if not search.known.get(tuple(found), False):
            # It took all steps together and still did not show: something else is at play.
            sure = False
    except OutOfRuns:
        shown = [k for k, v in search.known.items() if v]
        least = sorted(shown, key=len)[0] if shown else tuple(range(last + 1))
        found, sure = list(least), False
    return Culprits(finding, tuple(names[n] for n in found), sure, tuple(search.runs))
