"""A line to a place: a carrier whose work is tried again, paced, and made safe to be tried again."""

from __future__ import annotations

import logging
import random
import secrets
import time
from collections.abc import Callable
from typing import TypeVar

from keenharbor.place.carriers import Carrier, CarrierError, NotThereError, Pace, no_pace

T = TypeVar("T")
PATIENCE = 60.0
"""Seconds for which nothing may get through before it is given up: on a line that keeps breaking work goes on as long
as it gets on."""
OPENING_PATIENCE = 10.0
_FIRST_WAIT, _LONGEST_WAIT = 0.25, 15.0


class Line:
    """What is done over it is tried again, ever later, while that may help; then `CarrierError` is raised. Of what was
    sent before nothing is lost."""

    def __init__(
        self, open_it: Callable[[], Carrier], pace: Pace = no_pace, told: Callable[[str], None] = lambda _: None
    ) -> None:
        self._open, self._pace, self._told = open_it, pace, told
        self._carrier: Carrier | None = None
        self._last_good = time.monotonic()

    def __enter__(self) -> Line:
        self._last_good = time.monotonic()
        self._carrier = self._trying(self._open, OPENING_PATIENCE)
        return self

    def __exit__(self, *_: object) -> None:
        if self._carrier is not None:
            self._carrier.close()
            self._carrier = None

    @property
    def carrier(self) -> Carrier:
        assert self._carrier is not None
        return self._carrier

    def _trying(self, do: Callable[[], T], patience: float = PATIENCE) -> T:
        from tenacity import RetryCallState, Retrying, retry_if_exception

        began = time.monotonic()

        def tell(state: RetryCallState) -> None:
            error = state.outcome.exception() if state.outcome is not None else None
            wait = state.next_action.sleep if state.next_action is not None else 0
            logging.getLogger(__name__).debug("tried again in %.1f s: %s", wait, error)
            if state.attempt_number >= 3:
                self._told(f"{error}; it is tried again in {wait:.0f} s")

        for attempt in Retrying(
            retry=retry_if_exception(lambda e: isinstance(e, CarrierError) and e.passing),
            stop=lambda _: time.monotonic() - max(began, self._last_good) > patience, before_sleep=tell, reraise=True,
            wait=lambda _: self._wait(began),
        ):  # fmt: skip
            with attempt:
                done = do()
                self._last_good = time.monotonic()
                return done
        raise AssertionError("the last error is raised above")

    def _wait(self, began: float) -> float:
        """Seconds until the next attempt: the longer, the longer nothing got through, and drawn, so that several do not
        come at once."""
        dead = time.monotonic() - max(began, self._last_good)
        return random.uniform(0, min(_LONGEST_WAIT, _FIRST_WAIT + dead))

    def put_new(self, folder: str, data: bytes, before: str = "") -> str:
        """Write an object under a name that nothing has, and return the name. Where a carrier cannot go on behind what
        a cut line left, the next attempt gets another name: nothing is written over, which a place may forbid."""
        name = ""

        def put() -> str:
            nonlocal name
            if not (name and self.carrier.resumes):
                last = f"{before}-{secrets.token_hex(8)}" if before else _sharded(secrets.token_hex(16))
                name = f"{folder}/{last}"
            self.carrier.put(name, data, self._pace)
            return name

        return self._trying(put)

    def put(self, name: str, data: bytes) -> None:
        """Write an object that is the same for all who use a place; one that is there stays as it is."""
        if name not in self.sizes(name.rpartition("/")[0]):
            self._trying(lambda: self.carrier.put(name, data, self._pace))

    def get(self, name: str, most: int) -> bytes:
        """An object of at most ``most`` bytes."""
        return self._trying(lambda: self.carrier.get(name, most, self._pace))

    def sizes(self, under: str) -> dict[str, int]:
        """Names and lengths of the objects in a folder."""
        try:
            return self._trying(lambda: self.carrier.sizes(under))
        except NotThereError:
            return {}

    def remove(self, name: str) -> None:
        self._trying(lambda: self.carrier.remove(name))


def _sharded(word: str) -> str:
    """A name in one of sixteen folders: lists of one would grow long."""
    return f"{word[0]}/{word[1:]}"
