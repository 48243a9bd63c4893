"""When a duty is due: in words, or as cron has it.

All times are the wall clock's (without a zone): what is due at 03:10 is due when the clock has shown 03:10, once,
also on the day on which an hour comes twice or never."""

from __future__ import annotations

import re
import zlib
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

_DAYS = ("sunday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday")
_CLOCK = re.compile(r"([01]?\d|2[0-3]):([0-5]\d)")
_EVERY = re.compile(r"every (\d+) (minute|hour)s?")
_OFFSETS = re.compile(r"(\d+ ?(?:hours?|days?|h|d))((?:,? ?\d+ ?(?:hours?|days?|h|d))*) after cutover")
_OFFSET = re.compile(r"(\d+) ?([hd])")
FORMS = "'hourly', 'every 6 hours', 'daily 03:10', 'weekly sunday 04:00', 'monthly 1 04:00', 'after snapshot', cron"


@dataclass(frozen=True)
class Schedule:
    """A duty's times as a cron expression, or the duty ``after`` which it is due, or ``offsets`` from a moment,
    ``since``: where that is not known (None) it is not due."""

    text: str
    cron: str = ""
    after: str = ""
    offsets: tuple[timedelta, ...] = ()
    since: datetime | None = None

    @classmethod
    def read(cls, text: str, salt: str = "") -> Schedule:
        """From what a site file says. Where it names no time of the day one between one and five in the morning is
        drawn by ``salt``, so that many sites do not come at once. Raises ValueError."""
        said = " ".join(text.lower().split())
        if _OFFSETS.fullmatch(said):
            hours = sorted({int(n) * (24 if unit == "d" else 1) for n, unit in _OFFSET.findall(said)})
            return cls(text, offsets=tuple(timedelta(hours=h) for h in hours))
        if said.startswith("after ") and re.fullmatch(r"after [a-z]+", said):
            return cls(text, after=said.removeprefix("after "))
        drawn = zlib.crc32(salt.encode())
        clock = _CLOCK.search(said)
        hour, minute = (int(clock[1]), int(clock[2])) if clock else (1 + drawn % 4, drawn // 7 % 60)
        words = _CLOCK.sub("", said).split() if said.count(":") < 2 and "*" not in said else []
        cron = _cron_of(words, hour, minute, drawn, timed=clock is not None) if words else ""
        if not cron:
            from croniter import croniter

            if len(said.split()) != 5 or not croniter.is_valid(said):
                raise ValueError(f"'{text}' says no time; these do: {FORMS}")
            cron = said
        return cls(text, cron)

    def counted(self, since: datetime | None) -> Schedule:
        """With its offsets counted from that moment."""
        return replace(self, since=since)

    def last(self, at: datetime) -> datetime | None:
        """The last time at or before ``at`` at which it was due; None where there was none."""
        if self.offsets:
            return max((t for t in self._moments() if t <= at), default=None)
        from croniter import croniter

        found = croniter(self.cron, at.replace(microsecond=0) + timedelta(seconds=1)).get_prev(datetime)
        assert isinstance(found, datetime)
        return found

    def next(self, at: datetime) -> datetime | None:
        """The next time behind ``at``; None where there is none."""
        if self.offsets:
            return min((t for t in self._moments() if t > at), default=None)
        from croniter import croniter

        found = croniter(self.cron, at).get_next(datetime)
        assert isinstance(found, datetime)
        return found

    def _moments(self) -> list[datetime]:
        return [self.since + offset for offset in self.offsets] if self.since is not None else []


def _cron_of(words: list[str], hour: int, minute: int, drawn: int, *, timed: bool) -> str:
    """A schedule in words as cron has it; empty where they are none."""
    match words:
        case ["hourly"] if not timed:
            return f"{drawn % 60} * * * *"
        case ["every", count, unit] if not timed and (found := _EVERY.fullmatch(f"every {count} {unit}")):
            number = int(found[1])
            if found[2] == "hour" and 1 <= number <= 12 and 24 % number == 0:
                return f"{drawn % 60} */{number} * * *"
            if found[2] == "minute" and 5 <= number <= 30 and 60 % number == 0:
                return f"*/{number} * * * *"
        case ["daily"]:
            return f"{minute} {hour} * * *"
        case ["weekdays"]:
            return f"{minute} {hour} * * 1-5"
        case ["weekly"]:
            return f"{minute} {hour} * * {drawn % 7}"
        case ["weekly", day] if day in _DAYS:
            return f"{minute} {hour} * * {_DAYS.index(day)}"
        case ["monthly"]:
            return f"{minute} {hour} {1 + drawn % 28} * *"
        case ["monthly", day] if day.isdecimal() and 1 <= int(day) <= 28:
            return f"{minute} {hour} {int(day)} * *"
    return ""
