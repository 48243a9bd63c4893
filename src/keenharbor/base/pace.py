"""When a place may be sent to, and how fast."""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta

_HOURS = re.compile(r"([01]?\d|2[0-3]):([0-5]\d)\s*-\s*([01]?\d|2[0-3]|24):([0-5]\d)")
_RATE = re.compile(r"(\d+(?:\.\d+)?)\s*(B|KiB|MiB|GiB|kB|MB|GB|kbit|Mbit|Gbit)(?:/s)?")
_UNITS = {
    "B": 1.0, "KiB": 1024.0, "MiB": 1024.0**2, "GiB": 1024.0**3, "kB": 1e3, "MB": 1e6, "GB": 1e9, "kbit": 125.0,
    "Mbit": 125e3, "Gbit": 125e6,
}  # fmt: skip


@dataclass(frozen=True)
class Hours:
    """A stretch of each day, in local time: minutes from midnight, from one up to another (over midnight where that is
    the smaller)."""

    begins: int
    ends: int

    @classmethod
    def read(cls, text: str) -> Hours:
        """From a text like ``22:00-06:00``. Raises ValueError."""
        found = _HOURS.fullmatch(text.strip())
        if found is None:
            raise ValueError(f"'{text}' is no stretch of a day, like 22:00-06:00")
        begins, ends = int(found[1]) * 60 + int(found[2]), int(found[3]) * 60 + int(found[4])
        if ends > 24 * 60 or begins == ends:
            raise ValueError(f"'{text}' is no stretch of a day, like 22:00-06:00")
        return cls(begins, ends)

    def hold(self, at: datetime) -> bool:
        """Whether ``at`` (local time) lies within."""
        minute = at.hour * 60 + at.minute
        if self.begins < self.ends:
            return self.begins <= minute < self.ends
        return minute >= self.begins or minute < self.ends

    def next(self, at: datetime) -> datetime:
        """When they begin next after ``at``."""
        day = at.replace(hour=0, minute=0, second=0, microsecond=0)
        begins = day + timedelta(minutes=self.begins)
        return begins if begins > at else begins + timedelta(days=1)


def read_rate(text: str) -> float:
    """Bytes a second, from a text like ``2 MiB/s`` or ``10 Mbit``. Raises ValueError."""
    found = _RATE.fullmatch(text.strip())
    if found is None or not float(found[1]):
        raise ValueError(f"'{text}' is no rate, like 2 MiB/s or 10 Mbit/s")
    return float(found[1]) * _UNITS[found[2]]


class RateLimit:
    """Lets bytes pass at a rate, over all threads that send: who is told to wait, waits until the bytes before its own
    would have gone."""

    def __init__(
        self, rate: float, clock: Callable[[], float] = time.monotonic, sleep: Callable[[float], None] = time.sleep
    ) -> None:
        self._rate, self._clock, self._sleep = rate, clock, sleep
        self._free_at = clock()
        self._lock = threading.Lock()

    def __call__(self, count: int) -> None:
        with self._lock:
            at = max(self._clock(), self._free_at)
            self._free_at = at + count / self._rate
        wait = at - self._clock()
        if wait > 0:
            self._sleep(wait)
