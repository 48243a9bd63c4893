"""Visiting many pages over a few connections, never more than the site bears.

One connection at first. As long as another one makes the whole faster there are more, up to a number; when it does not
any more, or the site says that it is too much (RFC 6585, 4: status 429; RFC 9110, 15.6.4: status 503), there are fewer
(the rule by which TCP shares a line: additive increase, multiplicative decrease; Chiu and Jain, 1989)."""

from __future__ import annotations

import queue
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

from keenharbor.compare.visitor import Visitor

T = TypeVar("T")
_WAVE = 6
"""So many pages for each connection are visited before the number is thought over."""
_WORTH = 1.1
"""One more connection must make it so many times as fast to be kept."""
_HOLD = 12
"""So many waves it stays as it is after one connection more was not worth it; the site may have been busy."""
TOO_MUCH = (429, 503)


class Crew:
    """Visitors of one site who know each other's cookies."""

    def __init__(self, visitor: Visitor, most: int) -> None:
        self._first, self._most = visitor, most
        self._others: list[Visitor] = []
        self._count = 1
        self._rates: dict[int, float] = {}
        self._hold = 0

    def each(
        self, work: Callable[[Visitor, str], T], paths: Sequence[str], refused: Callable[[T], bool]
    ) -> Iterator[T]:
        """What ``work`` finds at each path, in their order. What seems to be ``refused`` (or broken) while several
        were asked is asked once more alone: it may have been too much at once."""
        at = 0
        while at < len(paths):
            wave = paths[at : at + _WAVE * self._count]
            at += len(wave)
            began = time.monotonic()
            found = self._wave(work, wave)
            took = time.monotonic() - began
            bad = [n for n, one in enumerate(found) if refused(one)]
            if bad and self._count > 1:
                self._count, self._rates = 1, {}
                self._most = max(1, self._most // 2)
                for n in bad:
                    found[n] = work(self._first, wave[n])
            elif len(wave) == _WAVE * self._count:
                self._think_over(len(wave) / max(took, 1e-6))
            yield from found

    def _wave(self, work: Callable[[Visitor, str], T], paths: Sequence[str]) -> list[T]:
        if self._count == 1 or len(paths) == 1:
            return [work(self._first, path) for path in paths]
        while len(self._others) < self._count - 1:
            self._others.append(self._first.another())
        free: queue.SimpleQueue[Visitor] = queue.SimpleQueue()
        for visitor in (self._first, *self._others[: self._count - 1]):
            free.put(visitor)

        def one(path: str) -> T:
            visitor = free.get()
            try:
                return work(visitor, path)
            finally:
                free.put(visitor)

        with ThreadPoolExecutor(self._count) as pool:
            return list(pool.map(one, paths))

    def _think_over(self, rate: float) -> None:
        """``rate``: pages a second with as many as there are now. One slow wave is no reason: what counts is whether it
        is faster than it was with one connection less, by what several waves came to."""
        known = self._rates.get(self._count)
        now = self._rates[self._count] = rate if known is None else (known + rate) / 2
        fewer = self._rates.get(self._count - 1)
        self._hold = max(0, self._hold - 1)
        if fewer is not None and now < fewer * _WORTH:
            del self._rates[self._count]
            self._count -= 1
            self._hold = _HOLD
        elif self._count < self._most and not self._hold:
            self._count += 1

    def stay_alone(self) -> None:
        """One connection from here on."""
        self._most = self._count = 1

    def close(self) -> None:
        """End the connections of all but the first."""
        for visitor in self._others:
            visitor.close()
