"""Which pages became slower in a trial, said twice before it is told, and since which step."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Mapping, Sequence
from statistics import median

from keenharbor.base.progress import Progress
from keenharbor.clone.facts import TRIAL_PURPOSE
from keenharbor.clone.making import make_clone
from keenharbor.compare import Look, Slower, VisitError, Visitor, slower_pages
from keenharbor.compare.look import FEW, LOGGED_IN, TIMED_PAGES
from keenharbor.compare.timing import RATIO
from keenharbor.snapshot import Snapshot
from keenharbor.trial.record import SeenStep
from keenharbor.trial.stage import Stage

IN_TURN = 15
FEWEST_PAGES = 5
_BESIDE = 10
_SAMPLES_BETWEEN = 5


class PaceFound:
    """The pages that became slower, each with the step since which it is so; the response times (seconds) of both
    sides."""

    def __init__(
        self, stage: Stage, snapshot: Snapshot, before: Look, times_before: dict[str, list[float]],
        steps: Sequence[SeenStep],
        progress: Progress,
        look_at: Callable[[int, Sequence[str], int], Look | None],
    ) -> None:  # fmt: skip
        """``look_at`` times pages as they were behind a step (its number, the pages, how often)."""
        self._look_at = look_at
        self._stage, self._snapshot, self._before, self._steps = stage, snapshot, before, steps
        self._times_before = {p: list(t) for p, t in times_before.items() if not p.endswith(LOGGED_IN)}
        self._times_after: dict[str, list[float]] = {}
        self.slower: list[tuple[Slower, str | None]] = []
        self.not_timed = 0
        last = next((s.look for s in reversed(steps) if s.look is not None), None)
        if last is None:
            return
        progress.stage("timing the pages")
        after = {
            p: seen.seconds for p, seen in last.pages.items()
            if seen.loads and not p.endswith(LOGGED_IN) and len(seen.seconds) > FEW
        }  # fmt: skip
        public = [p for p in last.pages if not p.endswith(LOGGED_IN)]
        self.not_timed = max(0, len(public) - TIMED_PAGES)
        self._times_after = {p: list(times) for p, times in after.items()}
        suspects = [s.path for s in slower_pages(self._times_before, after)]
        if suspects:
            self._ask_in_turn(suspects)
        confirmed = slower_pages(
            {p: self._times_before[p] for p in suspects}, {p: self._times_after[p] for p in suspects}
        )
        looks = {n: s.look for n, s in enumerate(steps) if s.look is not None}
        self._time_between(confirmed, looks)
        self.slower = [(s, self._slow_since(s, looks)) for s in confirmed]

    @property
    def timings(self) -> dict[str, list[list[float]]]:
        """By page, the times before and after."""
        return {p: [t, self._times_after[p]] for p, t in self._times_before.items() if p in self._times_after}

    def _ask_in_turn(self, paths: list[str]) -> None:
        """Time ``paths`` anew on an unchanged clone and on this one, in turn, so that a busy moment of the machine
        falls on both sides alike."""
        stage = self._stage
        beside = make_clone(stage.live, self._snapshot, f"{TRIAL_PURPOSE}timing", mail_port=stage.mailbox.port)
        try:
            # A page that does not answer any more has worse findings than its time.
            with (
                contextlib.suppress(VisitError),
                beside,
                Visitor(beside.address) as old,
                Visitor(stage.clone.address) as new,
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

    def _time_between(self, slow: Sequence[Slower], looks: dict[int, Look]) -> None:
        """Time slow pages behind steps at which they were not looked at, halving what is in question. Others are timed
        with them: how busy the machine is differs from time to time."""
        paths = [s.path for s in slow]
        beside = [p for p in self._times_before if p in self._times_after and p not in paths][:_BESIDE]
        for one in slow:
            high, low = max(looks, default=-1), -1
            border = (one.before * one.after) ** 0.5
            while high - low > 1:
                mid = (low + high) // 2
                look = looks.get(mid)
                if look is None or one.path not in look.pages:
                    timed = self._look_at(mid, [*paths, *beside], _SAMPLES_BETWEEN)
                    if timed is None:
                        break
                    looks[mid] = look = timed
                seconds = _least_time(look, one.path)
                low, high = (low, mid) if seconds is not None and seconds >= border else (mid, high)

    def _slow_since(self, slower: Slower, timed: Mapping[int, Look]) -> str | None:
        """The first step after which the page was never again nearer to the time before than to the time after.

        Times are taken relative to the other pages of the same look, as far as these did not become slower too: how
        busy the machine is differs from look to look.
        """
        looks = [(self._steps[n].name, timed[n]) for n in sorted(timed)]
        measure = _relative_time
        first, last = measure(self._before, slower.path), measure(looks[-1][1], slower.path)
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


def _least_time(look: Look, path: str) -> float | None:
    """The least of a page's times in a look: a busy machine only ever adds. None when it was not timed."""
    page = look.pages.get(path)
    return min(page.seconds) if page is not None and page.loads and page.seconds else None


def _relative_time(look: Look, path: str) -> float | None:
    """`_least_time` over the median of all pages of the look; None when there are too few to tell."""
    own = _least_time(look, path)
    others = [t for t in (_least_time(look, p) for p in look.pages) if t is not None]
    return own / median(others) if own is not None and len(others) >= FEWEST_PAGES else None
