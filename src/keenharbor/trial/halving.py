"""To which step each difference is laid, where not every page was looked at behind every step: by halving.

Behind each step stands a checkpoint. A clone of the middle one is looked at, at just the pages in question, for all
differences at once; each goes on in the half in which it came (binary search, as for a change in a history of code).
Asked is for every difference that was ever seen, whether or not the end shows it: between the last look at its page
without it and the first with it. Pages that the end does not show any more are looked at as they were right before
that, for what went with them. Pages whose difference is the same in the same place follow those of them that were
looked at."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, field

from keenharbor.compare import Look, Observation, Weight
from keenharbor.compare.findings import change_of
from keenharbor.trial.record import SeenStep
from keenharbor.trial.sentinels import parents_of, shape
from keenharbor.trial.sight import AWAY, BY_LINK, in_sight, pages_showing

MOST_CLONES = 20
_A_STEP = 2
"""So many clones are made at most, or so many for each step: with a cause in every step each state is asked, and what
hides others takes another one."""
_ONLY_ITS_DOING = ("command", "sql", "check", "wait")
"""Kinds of steps that change nothing but what a checkpoint holds."""
_OF_A_GROUP = 3
_OF_THE_MOMENT = ("stale-cache",)
"""What a clone of a checkpoint cannot show: its caches are empty."""
_MOST_PAGES = 80
_OUT_OF_SIGHT = "out-of-sight"

Identity = tuple[str, str, str]
LookAt = Callable[[int, Sequence[str], bool], tuple[Look, list[Observation]] | None]
"""A look at the state behind a step (by its number) at some pages, and at what they newly lead to where that is wanted,
and what differs there from before the first step; None where it does not start."""


@dataclass(frozen=True)
class _Difference:
    """A difference that was last seen behind step ``end``. It shows on ``page``; for a ``link`` that leads there, when
    the page has it. That a page is out of sight counts as one, too."""

    seen: Observation
    page: str
    end: int
    shape: str
    link: str = ""

    @property
    def identity(self) -> Identity:
        return self.seen.identity

    @property
    def group(self) -> tuple[str, str, str]:
        """What those that have one cause share: what it is, in which place, on which kind of page."""
        return (self.seen.kind, self.seen.place if self.seen.page != self.seen.place else "", self.shape)

    @property
    def hides(self) -> bool:
        """Whether nothing else of its page shows behind it."""
        return self.seen.kind == _OUT_OF_SIGHT

    def is_in(self, look: Look | None, found: Collection[Identity], before: Look) -> bool | None:
        """Whether it is there in a look, in which these were ``found``; None where that does not show it."""
        sight = in_sight(look, self.page, before)
        if self.hides:
            return None if sight is None else not sight
        if self.link:
            page = look.pages.get(self.page) if look is not None else None
            return None if page is None or page.markup is None else self.link in page.markup.links()
        return True if self.identity in found else False if sight else None


@dataclass(frozen=True)
class _Between:
    """A difference that came between the steps ``low`` (-1: before the first) and ``high``, and the steps in between
    behind which its page can still be looked at."""

    difference: _Difference
    low: int
    high: int
    askable: tuple[int, ...] = ()


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
    _looks: list[list[tuple[Look | None, frozenset[Identity]]]] = field(default_factory=list, repr=False)
    _asked: list[set[str]] = field(default_factory=list, repr=False)
    _followed: dict[Identity, tuple[int, int]] = field(default_factory=dict, repr=False)
    _each: set[tuple[str, ...]] = field(default_factory=set, repr=False)
    _uncovered: dict[Identity, _Difference] = field(default_factory=dict, repr=False)
    _parents: set[tuple[str, ...]] = field(default_factory=set, repr=False)
    _shown_on: dict[tuple[Identity, int], str] = field(default_factory=dict, repr=False)

    def lay(self) -> None:
        """Note each difference with every step since which it is there, until it was last seen."""
        if not self.steps:
            return
        self._parents = parents_of(self.before.pages)
        for step in self.steps:
            self._looks.append([(step.look, frozenset(o.identity for o in step.observations))])
            asked = set(self.before.pages) if step.look is None or not step.partial else set(step.look.pages)
            self._asked.append(asked)
        while True:
            between = self._follow([self._between(d) for d in (*self._differences(), *self._gone())])
            waiting = [b for b in between if b.askable]
            # What hides others comes first: only then is it known what else is to be asked for.
            hiding = [b for b in waiting if b.difference.hides]
            last_sights = {} if hiding else self._last_sights(between)
            if not waiting and not last_sights:
                break
            if self.clones >= max(MOST_CLONES, _A_STEP * len(self.steps)):
                self.undecided = len(waiting)
                break
            if last_sights:
                number = max(last_sights, key=lambda n: len(last_sights[n]))
            else:
                widest = max(hiding or waiting, key=lambda b: len(b.askable))
                number = widest.askable[len(widest.askable) // 2]
            self._ask(number, [b for b in waiting if number in b.askable], last_sights.get(number, []))
        self._note_all(between)

    def _differences(self) -> Iterator[_Difference]:
        """All that is known of, each with the last step behind which it was seen; of what the end does not show, only
        what is more than a note."""
        told: set[Identity] = set()
        for number in range(len(self.steps) - 1, -1, -1):
            for seen in self.steps[number].observations:
                if seen.identity in told or seen.kind in _OF_THE_MOMENT:
                    continue
                other = self._uncovered.get(seen.identity)
                if other is not None and other.end > number:
                    continue
                if seen.weight is Weight.NOTE and number < len(self.steps) - 1:
                    continue
                told.add(seen.identity)
                page = self._page_of(seen, number)
                if page:
                    yield _Difference(seen, page, number, self._shape(page), seen.page if seen.kind in BY_LINK else "")
        yield from (d for d in self._uncovered.values() if d.identity not in told)

    def _page_of(self, seen: Observation, number: int) -> str:
        """A page that shows a difference that was found behind a step; empty where none does."""
        if seen.page and seen.kind not in BY_LINK:
            return seen.page
        key = (seen.identity, number)
        if key not in self._shown_on:
            self._shown_on[key] = next(pages_showing(seen, self.before, self.steps[number].look), "")
        return self._shown_on[key]

    def _shape(self, page: str) -> str:
        return shape(page, self._parents)

    def _gone(self) -> Iterator[_Difference]:
        """The pages that were there before and that the end does not show."""
        last = len(self.steps) - 1
        how = {o.page: o.place for o in self.steps[last].observations if o.kind in AWAY and o.page != o.place}
        for path, page in self.before.pages.items():
            if page.loads and in_sight(self.steps[last].look, path, self.before) is False:
                yield _Difference(
                    Observation(_OUT_OF_SIGHT, how.get(path, ""), Weight.DAMAGE, "", path),
                    path,
                    last,
                    self._shape(path),
                )

    def _is_there(self, number: int, difference: _Difference) -> bool | None:
        for look, found in self._looks[number]:
            there = difference.is_in(look, found, self.before)
            if there is not None:
                return there
        return None

    def _between(self, difference: _Difference) -> _Between:
        low, high = -1, difference.end
        askable: list[int] = []
        for number in range(difference.end - 1, -1, -1):
            there = self._is_there(number, difference)
            if there:
                high, askable = number, []
            elif there is False:
                low = number
                break
            elif difference.page not in self._asked[number] and not self._is_idle(number):
                askable.append(number)
        lowest, highest = self._followed.get(difference.identity, (low, high))
        if max(low, lowest) < min(high, highest):  # else a look of its own has told otherwise since
            low, high = max(low, lowest), min(high, highest)
        while high - 1 > low and self._is_idle(high):
            high -= 1
        return _Between(difference, low, high, tuple(n for n in askable if low < n < high))

    def _is_idle(self, number: int) -> bool:
        """Whether a step has changed nothing: then the state behind it is the one before, and no difference came with
        it."""
        step = self.steps[number]
        done = step.record.files_changed or step.record.rows_changed or step.of_step or step.record.problem
        return not done and step.step.get("kind") in _ONLY_ITS_DOING

    def _follow(self, between: Sequence[_Between]) -> list[_Between]:
        """With the step of those that are the same in the same place, where that is known and all have one."""
        known: dict[tuple[str, ...], set[int]] = defaultdict(set)
        for one in between:
            if not one.askable:
                known[(*one.difference.group, change_of(one.difference.seen))].add(one.high)
        found = []
        for one in between:
            seen = one.difference.seen
            steps = known.get((*one.difference.group, change_of(seen)), set()) if one.askable else set()
            high = min(steps, default=-1)
            follows = len(steps) == 1 and one.low < high <= one.high and seen.kind not in (*AWAY, _OUT_OF_SIGHT)
            found.append(_Between(one.difference, high - 1, high) if follows else one)
        return found

    def _last_sights(self, between: Sequence[_Between]) -> dict[int, list[str]]:
        """By step, the pages that are gone since the one behind it and were not looked at there."""
        found: dict[int, list[str]] = defaultdict(list)
        for one in between:
            if not one.difference.hides:
                continue
            for number in range(one.high - 1, -1, -1):
                if self._is_there(number, one.difference) is False:
                    break
                if one.difference.page not in self._asked[number]:
                    found[number].append(one.difference.page)
                    break
        return found

    def _ask(self, number: int, waiting: Sequence[_Between], last_seen: Sequence[str]) -> None:
        """Look at a state: at some pages for each group of what is asked there, and at all of ``last_seen``."""
        groups: dict[tuple[str, ...], list[_Between]] = defaultdict(list)
        for one in waiting:
            groups[one.difference.group].append(one)
        some = [o.difference.page for k, g in groups.items() if k not in self._each for o in g[:_OF_A_GROUP]]
        each = [o.difference.page for k, g in groups.items() if k in self._each for o in g]
        pages = list(dict.fromkeys((*list(dict.fromkeys(some))[:_MOST_PAGES], *each, *last_seen)))
        self.clones += 1
        looked = self.look_at(number, pages, bool(last_seen))
        if looked is None:  # it does not start there
            self._asked[number] |= set(self.before.pages)
            return
        self._asked[number] |= set(pages)
        look, found = looked
        self._looks[number].append((look, frozenset(o.identity for o in found)))
        gone = {*last_seen, *(o.difference.page for o in waiting if o.difference.hides)}
        for seen in found if gone else ():
            if seen.weight is Weight.NOTE or seen.kind in _OF_THE_MOMENT:
                continue
            page = next((p for p in pages_showing(seen, self.before, look) if p in gone), "")
            known = self._uncovered.get(seen.identity)
            if page and (known is None or known.end < number):
                link = seen.page if seen.kind in BY_LINK else ""
                self._uncovered[seen.identity] = _Difference(seen, page, number, self._shape(page), link)
        for key, group in groups.items():
            answers = [self._is_there(number, o.difference) for o in group]
            votes = [a for a in answers if a is not None]
            common = sum(votes) * 2 > len(votes)
            if common and group[0].difference.hides:
                self._each.add(key)  # a page that is only taken to be gone would never be looked at
                continue
            for one, answer in zip(group, answers, strict=True):
                if answer is None and votes:
                    self._followed[one.difference.identity] = (one.low, number) if common else (number, one.high)

    def _note_all(self, between: Sequence[_Between]) -> None:
        for one in between:
            if not one.difference.hides:
                self._note(one.difference.seen, one.high, one.difference.end, one.difference.page)
        for seen in list(self.steps[-1].observations):
            if seen.kind in _OF_THE_MOMENT:
                self._note(seen, self._first_alike(seen), len(self.steps) - 1, seen.page)

    def _first_alike(self, seen: Observation) -> int:
        """The step since which the same shows on any page that stood for all."""
        first = len(self.steps) - 1
        while first > 0 and any(
            (o.kind, o.place) == (seen.kind, seen.place) for o in self.steps[first - 1].observations
        ):
            first -= 1
        return first

    def _note(self, seen: Observation, first: int, end: int, page: str) -> None:
        for number in range(first, end + 1):
            step = self.steps[number]
            if in_sight(step.look, page, self.before) is False and seen.kind not in AWAY:
                continue
            if all(o.identity != seen.identity for o in step.observations):
                step.observations.append(seen)
                self.changed.add(number)
