"""Versions that go together: a consistent set for a target, why there is none, the least change that would make one,
and the route over intermediate releases.

The search is that of resolvelib (https://github.com/sarugaku/resolvelib), which pip uses for the same question.
"""

from __future__ import annotations

import itertools
from collections import deque
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Protocol

from packaging.version import Version
from resolvelib import AbstractProvider, BaseReporter, ResolutionImpossible, ResolutionTooDeep
from resolvelib.resolvers import Resolution

from keenharbor.site.feed import Feed, allows, version_order

RUNTIME = "runtime"
_MOST_ROUNDS = 20_000
_MOST_RELAXED = 2


@dataclass(frozen=True)
class Offer:
    """One version of something, and the ranges that it asks of others."""

    name: str
    version: str
    requires: Mapping[str, str] = field(default_factory=dict, hash=False)

    @property
    def order(self) -> Version:
        return version_order(self.version)


@dataclass(frozen=True)
class Wish:
    """A range that is asked of ``name``; ``by`` says who asks (an offer, or nobody: the target itself)."""

    name: str
    spec: str
    by: Offer | None = None

    def told(self) -> str:
        what = f"{self.name} {self.spec or '(any version)'}"
        return f"{self.by.name} {self.by.version} wants {what}" if self.by is not None else f"the target is {what}"


class Universe(Protocol):
    """Knows what there is of each name."""

    def offers(self, name: str) -> Sequence[Offer]:
        """Every version, the best liked first."""


@dataclass(frozen=True)
class Solved:
    """One version for each name that is needed."""

    versions: dict[str, str]


@dataclass(frozen=True)
class Unsolved:
    """Why there is no set of versions."""

    reasons: tuple[str, ...]


class _Provider(AbstractProvider[Any, Any, str]):
    def __init__(self, universe: Universe) -> None:
        self._universe = universe

    def identify(self, requirement_or_candidate: Any) -> str:
        return str(requirement_or_candidate.name)

    def get_preference(self, identifier: str, *args: Any, **given: Any) -> Any:
        # What has few versions first: a dead end shows soon.
        return len(self._universe.offers(identifier)), identifier

    def find_matches(self, identifier: str, requirements: Any, incompatibilities: Any) -> Iterable[Offer]:
        bad = {o.version for o in incompatibilities[identifier]}
        wishes = list(requirements[identifier])
        return [
            o for o in self._universe.offers(identifier)
            if o.version not in bad and all(allows(w.spec, o.version) for w in wishes)
        ]  # fmt: skip

    def is_satisfied_by(self, requirement: Any, candidate: Any) -> bool:
        return allows(requirement.spec, candidate.version)

    def get_dependencies(self, candidate: Any) -> Iterable[Wish]:
        return [Wish(name, spec, candidate) for name, spec in candidate.requires.items()]


def solve(universe: Universe, wishes: Sequence[Wish]) -> Solved | Unsolved:
    """One version for each name so that all wishes, and those of the versions themselves, are met."""
    try:
        state = Resolution(_Provider(universe), BaseReporter()).resolve(wishes, max_rounds=_MOST_ROUNDS)
    except ResolutionImpossible as error:
        told = dict.fromkeys(Wish(c.requirement.name, c.requirement.spec, c.parent).told() for c in error.causes)
        names = {c.requirement.name for c in error.causes}
        return Unsolved((*told, *(_there_is(universe, n) for n in sorted(names))))
    except ResolutionTooDeep:
        return Unsolved(("no set of versions was found within the search's limit",))
    # What was tried on the way and is asked for no more stays in the state. The library's own sorting out of these goes
    # up from each, without an end where some ask for each other in a ring; down from the wishes there is one.
    needed: dict[str, Offer] = {}
    asked = [w.name for w in wishes]
    while asked:
        name = asked.pop()
        if name not in needed:
            needed[name] = state.mapping[name]
            asked += needed[name].requires
    if not all(allows(spec, needed[n].version) for n, spec in _asked_of(wishes, needed)):
        # Where versions ask for each other in a ring, the library's answer does not always hold (seen with 1.2).
        searched = _search(universe, wishes, {}, itertools.count())
        if searched is None:
            return Unsolved(("no set of versions was found",))
        needed = searched
    return Solved({name: offer.version for name, offer in needed.items()})


def _asked_of(wishes: Sequence[Wish], chosen: Mapping[str, Offer]) -> Iterator[tuple[str, str]]:
    """Every range that is asked, by the wishes and by the offers that are chosen."""
    yield from ((w.name, w.spec) for w in wishes)
    for offer in chosen.values():
        yield from offer.requires.items()


def _search(
    universe: Universe, wishes: Sequence[Wish], chosen: dict[str, Offer], rounds: Iterator[int]
) -> dict[str, Offer] | None:  # fmt: skip
    """By trying one after the other, best liked first; for the rare case that the library's answer does not hold."""
    asked: dict[str, list[str]] = {}
    for name, spec in _asked_of(wishes, chosen):
        asked.setdefault(name, []).append(spec)
    if any(not allows(spec, chosen[n].version) for n, specs in asked.items() if n in chosen for spec in specs):
        return None
    open_name = next((n for n in asked if n not in chosen), None)
    if open_name is None:
        return chosen
    for offer in universe.offers(open_name):
        if next(rounds) > _MOST_ROUNDS:
            return None
        if all(allows(spec, offer.version) for spec in asked[open_name]):
            found = _search(universe, wishes, {**chosen, open_name: offer}, rounds)
            if found is not None:
                return found
    return None


def _there_is(universe: Universe, name: str) -> str:
    versions = [o.version for o in universe.offers(name)]
    shown = ", ".join(versions[:6]) + (" …" if len(versions) > 6 else "")
    return f"of {name} there is: {shown or 'nothing'}"


@dataclass(frozen=True)
class Change:
    """What would have to change so that there is a set of versions: another version of ``core`` or the runtime for the
    target (``instead``), and names that are given up."""

    instead: Mapping[str, str]
    without: tuple[str, ...]

    def told(self) -> str:
        parts = [f"{n} {v}" for n, v in self.instead.items()] + [f"without {n}" for n in self.without]
        return " and ".join(parts)


def least_change(
    universe: Universe, wishes: Sequence[Wish], others: Mapping[str, Sequence[str]], droppable: Sequence[str]
) -> Change | None:
    """The smallest change by which the wishes can be met: one or two of another version for the target (``others`` by
    name) and of names to give up (``droppable``); another version counts less than giving something up."""
    moves: list[tuple[str, str | None]] = [(n, v) for n, versions in others.items() for v in versions]
    moves += [(n, None) for n in droppable]
    for count in range(1, _MOST_RELAXED + 1):
        for chosen in itertools.combinations(moves, count):
            names = [n for n, _ in chosen]
            if len(set(names)) < len(names):
                continue
            changed = {n: v for n, v in chosen if v is not None}
            gone = tuple(n for n, v in chosen if v is None)
            tried = [
                Wish(w.name, f"=={changed[w.name]}") if w.name in changed else w for w in wishes if w.name not in gone
            ]
            if isinstance(solve(universe, tried), Solved):
                return Change(changed, gone)
    return None


# -- over a feed ----------------------------------------------------------------------------------------------


class FeedUniverse:
    """What a feed offers, beside what is installed and the runtimes that are at hand. Of names that are ``moving`` the
    newest version is liked best, of others the one that is installed."""

    def __init__(
        self, feed: Feed, core: str, runtimes: Iterable[str], installed: Iterable[Offer], moving: Container[str]
    ) -> None:  # fmt: skip
        self._feed, self._core, self._moving = feed, core, moving
        self._runtimes = sorted(set(runtimes), key=_runtime_order, reverse=True)
        self._installed = {o.name: o for o in installed}
        self._known: dict[str, list[Offer]] = {}

    def offers(self, name: str) -> Sequence[Offer]:
        if name not in self._known:
            self._known[name] = list(self._offers(name))
        return self._known[name]

    def _offers(self, name: str) -> Iterator[Offer]:
        if name == RUNTIME:
            yield from (Offer(RUNTIME, v) for v in self._runtimes)
            return
        there = self._installed.get(name)
        stays = there is not None and name not in self._moving
        newest_first = sorted(self._feed.versions_of(name, also_older=stays), key=version_order, reverse=True)
        newer = [v for v in newest_first if there is None or version_order(v) > there.order]
        older = [v for v in newest_first if there is not None and version_order(v) < there.order]
        if there is not None and stays:
            yield there
        yield from (Offer(name, v, _Asked(self._feed, self._core, name, v)) for v in newer)
        if there is not None and not stays:
            known = self._feed.find(name, there.version) is not None
            yield Offer(name, there.version, _Asked(self._feed, self._core, name, there.version)) if known else there
        yield from (Offer(name, v, _Asked(self._feed, self._core, name, v)) for v in older)


class _Asked(Mapping[str, str]):
    """What a release asks of others; looked up when somebody wants to know, for an index has to be asked for each."""

    def __init__(self, feed: Feed, core: str, name: str, version: str) -> None:
        self._feed, self._core, self._name, self._version = feed, core, name, version

    @cached_property
    def _found(self) -> dict[str, str]:
        release = self._feed.find(self._name, self._version)
        if release is None:
            return {}
        asked = {self._core: release.requires.core, RUNTIME: release.requires.runtime, **release.requires.packages}
        return {k: v for k, v in asked.items() if k != self._name and (v or k in release.requires.packages)}

    def __getitem__(self, name: str) -> str:
        return self._found[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._found)

    def __len__(self) -> int:
        return len(self._found)


def _runtime_order(text: str) -> tuple[int, ...]:
    return tuple(int(p) for p in text.split(".") if p.isdigit())


def route(feed: Feed, core: str, now: str, target: str) -> list[str] | None:
    """The releases of the core over which the way from ``now`` leads to ``target``, the target last: fewest stops, and
    of equally many the newer ones. None when the feed's releases allow no way."""
    releases = [r for r in feed.of(core) if version_order(now) < r.order <= version_order(target)]
    begun: deque[tuple[str, list[str]]] = deque([(now, [])])
    seen = {version_order(now)}
    while begun:
        at, way = begun.popleft()
        if version_order(at) == version_order(target):
            return way
        for release in sorted(releases, key=lambda r: r.order, reverse=True):
            if release.order > version_order(at) and release.order not in seen and allows(release.upgrades_from, at):
                seen.add(release.order)
                begun.append((release.version, [*way, release.version]))
    return None
