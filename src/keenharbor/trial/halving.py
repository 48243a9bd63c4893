"""To which step each difference is laid that only the last look shows: by halving the steps that were not looked at.

Behind each step stands a checkpoint. A clone of the middle one is looked at, at just the pages in question, for all
differences at once; each goes on in the half in which it came (binary search, as for a change in a history of code).
Pages whose difference is the same in the same place follow those of them that are looked at."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, field

from keenharbor.compare import Look, Observation, Weight
from keenharbor.trial.record import SeenStep

MOST_CLONES = 20
_OF_A_GROUP = 3
_BY_LINK = ("link-broken", "page-new")
_OF_THE_MOMENT = ("stale-cache",)
"""What a clone of a checkpoint cannot show: its caches are empty."""
_MOST_PAGES = 80

LookAt = Callable[[int, Sequence[str]], tuple[Look, list[Observation]] | None]
"""A look at the state behind a step (by its number) at some pages, and what differs there from before the first step;
None where it does not start."""


@dataclass
class _Open:
    """A difference that is there behind step ``high`` and was not behind ``low`` (-1: before the first). It shows on
    ``page``; for a ``link`` that leads there, when the page has it."""

    seen: Observation
    page: str
    low: int
    high: int
    link: str = ""

    def shows(self, look: Look, found: Collection[tuple[str, str, str]]) -> bool:
        """Whether it is there in a look at its page, in which these were ``found``."""
        if not self.link:
            return self.seen.identity in found
        page = look.pages.get(self.page)  # a look that was cut may not have come to it
        return page is not None and page.markup is not None and self.link in page.markup.links()


@dataclass
class Halving:
    """Lays differences to steps, with ``look_at``. ``undecided`` counts those for which there were too many clones to
    be made."""

    steps: Sequence[SeenStep]
    before: Look
    look_at: LookAt
    clones: int = 0
    undecided: int = 0
    changed: set[int] = field(default_factory=set)

    def lay(self) -> None:
        """Note each difference of the last look with every step since it is there, and what had shown on pages that
        have died since."""
        waiting = list(self._open())
        while waiting:
            widest = max(waiting, key=lambda o: o.high - o.low)
            mid = (widest.low + widest.high) // 2
            here = [o for o in waiting if o.low < mid < o.high]  # what is asked there once is asked for all
            if self.clones >= MOST_CLONES:
                self.undecided += len(waiting)
                break
            self._decide(mid, here)
            for one in [o for o in waiting if o.high - o.low <= 1]:
                self._note(one)
            waiting = [o for o in waiting if o.high - o.low > 1]
        for one in waiting:
            self._note(one)
        self._look_before_they_died()

    def _open(self) -> Iterator[_Open]:
        last = len(self.steps) - 1
        for seen in self.steps[last].observations if last >= 0 else ():
            link = seen.page if seen.kind in _BY_LINK else ""
            page = self._page_linking(link) if link else seen.page or self._page_with(seen.place)
            if not page:
                continue
            low, high = -1, last
            if seen.kind in _OF_THE_MOMENT:
                self._note(_Open(seen, page, low, self._first_alike(seen)))
                continue
            for at in range(last - 1, -1, -1):
                if not looked_at(self.steps[at], page):
                    continue
                there = any(o.identity == seen.identity for o in self.steps[at].observations)
                look = self.steps[at].look
                if link and look is not None:
                    there = _Open(seen, page, low, high, link).shows(look, ())
                if not there:
                    low = at
                    break
                high = at
            if high - low > 1:
                yield _Open(seen, page, low, high, link)
            elif link:
                self._note(_Open(seen, page, low, high, link))

    def _first_alike(self, seen: Observation) -> int:
        """The step since which the same shows on any page that stood for all."""
        first = len(self.steps) - 1
        while first > 0 and any(
            (o.kind, o.place) == (seen.kind, seen.place) for o in self.steps[first - 1].observations
        ):
            first -= 1
        return first

    def _page_linking(self, link: str) -> str:
        """A page of the last look that was there before, too, and leads to ``link``."""
        look = self.steps[-1].look
        for path, page in look.pages.items() if look is not None else ():
            if path in self.before.pages and page.markup is not None and link in page.markup.links():
                return path
        return ""

    def _page_with(self, place: str) -> str:
        """A page that asks for a file."""
        for path, page in self.before.pages.items():
            if page.markup is not None and (place in page.markup.assets or place in page.markup.images()):
                return path
        return ""

    def _decide(self, mid: int, here: list[_Open]) -> None:
        groups: dict[tuple[str, str], list[_Open]] = defaultdict(list)
        for one in here:
            groups[one.seen.kind, one.seen.place if one.seen.page != one.seen.place else ""].append(one)
        pages = list(dict.fromkeys(o.page for g in groups.values() for o in g[:_OF_A_GROUP]))[:_MOST_PAGES]
        self.clones += 1
        looked = self.look_at(mid, pages)
        for group in groups.values():
            sample = [o for o in group if looked is not None and o.page in looked[0].pages]
            there = {o.identity for o in looked[1]} if looked is not None else set()
            votes = [looked is not None and o.shows(looked[0], there) for o in sample]
            common = sum(votes) * 2 > len(votes)
            for one in group:
                if looked is None:  # nothing answers there: it may be any step of them
                    one.low = one.high - 1
                elif one.shows(looked[0], there) if one in sample else common:
                    one.high = mid
                else:
                    one.low = mid

    def _note(self, one: _Open) -> None:
        for at in range(one.high, len(self.steps) - 1):
            if all(o.identity != one.seen.identity for o in self.steps[at].observations):
                self.steps[at].observations.append(one.seen)
                self.changed.add(at)

    def _look_before_they_died(self) -> None:
        """What showed on a page before it stopped loading hides behind that."""
        look = self.steps[-1].look if self.steps else None
        dead: dict[int, list[str]] = defaultdict(list)
        for path, page in look.pages.items() if look is not None else ():
            if page.loads or path not in self.before.pages or not self.before.pages[path].loads:
                continue
            since = len(self.steps) - 1
            failing = {o.identity for o in self.steps[-1].observations if o.page == path}
            while since > 0 and any(o.identity in failing for o in self.steps[since - 1].observations):
                since -= 1
            if since > 0 and not looked_at(self.steps[since - 1], path):
                dead[since - 1].append(path)
        for at, paths in dead.items():
            if self.clones >= MOST_CLONES:
                return
            self.clones += 1
            found = self.look_at(at, paths[:_MOST_PAGES])
            known = {o.identity for o in self.steps[at].observations}
            more = [o for o in found[1] if o.identity not in known and o.weight is not Weight.NOTE] if found else []
            if more:
                self.steps[at].observations += more
                self.changed.add(at)


def looked_at(step: SeenStep, page: str) -> bool:
    """Whether a page was looked at behind a step. Where the site did not start at all, it was: nothing was there."""
    return not step.partial or step.look is None or page in step.look.pages
