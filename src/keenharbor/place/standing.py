"""How a place stands, as far as this machine knows without asking it."""

from __future__ import annotations

from collections.abc import Set
from dataclasses import dataclass
from datetime import datetime

from keenharbor.base.text import now, parse_stamp, plural, stamp
from keenharbor.place.berth import newest_of
from keenharbor.place.checking import MONTH
from keenharbor.place.places import Place


@dataclass(frozen=True)
class Standing:
    """A place: its newest state, what it holds, the snapshots that ``wait`` here, parcels that are known to be damaged,
    and those that were not read back within a month."""

    name: str
    url: str
    set_up: bool
    append_only: bool
    state: int
    snapshots: int
    waiting: int
    parcels: int
    bytes: int
    damaged: int
    unread: int
    newest: str | None
    newest_taken_at: datetime | None
    sent_at: datetime | None
    verified_at: datetime | None

    @property
    def verdict(self) -> str:
        """``good``, ``caution`` or ``damaged``."""
        if self.damaged:
            return "damaged"
        never = bool(self.parcels) and self.unread == self.parcels
        return "good" if self.set_up and not self.waiting and not never else "caution"

    @property
    def told(self) -> str:
        """What is to be known of it, in a few words."""
        if not self.set_up:
            return "has no key on this machine yet"
        if self.damaged:
            return f"{plural(self.damaged, 'parcel')} damaged"
        if self.waiting:
            return f"{plural(self.waiting, 'snapshot')} not sent"
        if self.unread == self.parcels and self.parcels:
            return "never read back"
        return f"{self.unread} of {self.parcels} parcels unread this month" if self.unread else ""

    @property
    def advice(self) -> str:
        """What to type next."""
        if not self.set_up:
            return f"keenharbor place add {self.name}"
        if self.damaged or self.waiting:
            return f"keenharbor place send {self.name}"
        return f"keenharbor place verify {self.name}"

    def as_json(self) -> dict[str, object]:
        def at(moment: datetime | None) -> str | None:
            return stamp(moment) if moment is not None else None

        return {
            "name": self.name, "url": self.url, "verdict": self.verdict, "told": self.told, "set_up": self.set_up,
            "append_only": self.append_only, "state": self.state, "snapshots": self.snapshots,
            "waiting": self.waiting, "parcels": self.parcels, "bytes": self.bytes, "damaged": self.damaged,
            "unread": self.unread, "newest": self.newest, "newest_taken_at": at(self.newest_taken_at),
            "sent_at": at(self.sent_at), "verified_at": at(self.verified_at),
        }  # fmt: skip


def standing_of(place: Place, here: Set[str]) -> Standing:
    """How a place stands; ``here`` are the snapshots of the site in the store."""
    held, last, readings = place.berth.held(), place.berth.last_send(), place.berth.readings()
    newest = newest_of(held.snapshots)
    unread = sum(1 for n in held.parcels if n not in readings or now() - readings[n].at > MONTH)
    return Standing(
        place.name, place.part.url, place.berth.is_set_up, place.part.append_only, held.number, len(held.snapshots),
        len(here - set(held.snapshots)), len(held.parcels), held.bytes,
        sum(1 for n, r in readings.items() if r.wrong and n in held.parcels), unread, newest[0] if newest else None,
        parse_stamp(newest[1].taken_at) if newest else None, last.at if last is not None else None,
        place.berth.verified_at,
    )  # fmt: skip
