"""Verifying a place: what is there is listed against what was sent, and read back, a part each time and all of it over
a month. That needs no key: what lies there is held against the sums of what was sent."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.base.progress import Progress
from keenharbor.base.text import now, plural, size, stamp
from keenharbor.host.lease import held as lease
from keenharbor.place.berth import Reading
from keenharbor.place.carriers import CarrierError
from keenharbor.place.keys import PlaceKey
from keenharbor.place.line import Line
from keenharbor.place.parcels import opened_parcel
from keenharbor.place.places import Place
from keenharbor.place.reading import read_states
from keenharbor.place.states import Held, Parcel, sum_of

MONTH = timedelta(days=30)
_LEAST = 16 * 1024 * 1024
"""So much at least is read back each time."""


@dataclass(frozen=True)
class Trouble:
    """An object that is not as it was sent: what is wrong, and the snapshots that need it."""

    name: str
    what: str
    snapshots: tuple[str, ...] = ()

    def as_json(self) -> dict[str, object]:
        return {"object": self.name, "what": self.what, "snapshots": list(self.snapshots)}


@dataclass
class Checked:
    """What came of verifying a place."""

    place: str
    state: int = 0
    at: str = ""
    parcels: int = 0
    bytes: int = 0
    snapshots: int = 0
    read: int = 0
    read_bytes: int = 0
    oldest_reading: datetime | None = None
    never_read: int = 0
    opened: bool = False
    troubles: list[Trouble] = field(default_factory=list)
    problems: list[str] = field(default_factory=list)
    strays: int = 0
    stray_bytes: int = 0

    @property
    def good(self) -> bool:
        return not (self.troubles or self.problems)

    def as_json(self) -> dict[str, object]:
        return {
            "place": self.place, "good": self.good, "state": self.state, "at": self.at, "parcels": self.parcels,
            "bytes": self.bytes, "snapshots": self.snapshots, "read": self.read, "read_bytes": self.read_bytes,
            "oldest_reading": stamp(self.oldest_reading) if self.oldest_reading else None,
            "never_read": self.never_read, "opened": self.opened, "troubles": [t.as_json() for t in self.troubles],
            "problems": self.problems, "strays": self.strays, "stray_bytes": self.stray_bytes,
        }  # fmt: skip


def snapshots_by_pack(held: Held) -> dict[str, list[str]]:
    """Which snapshots need each pack."""
    found: dict[str, list[str]] = {}
    for identity, sent in held.snapshots.items():
        for pack in sent.packs:
            found.setdefault(pack, []).append(identity)
    return found


def needing(parcel: Parcel, by_pack: dict[str, list[str]]) -> tuple[str, ...]:
    """The snapshots that cannot be whole without a parcel."""
    found: set[str] = set()
    for member in parcel.members:
        kind, _, rest = member.path.partition("/")
        if kind == "packs":
            found.update(by_pack.get(rest.rpartition("/")[2], ()))
        elif kind == "snapshots":
            found.add(rest.removesuffix(".json"))
    return tuple(sorted(found))


def verify(
    place: Place, progress: Progress, *, everything: bool = False, key: PlaceKey | None = None,
    clock: Callable[[], datetime] = now,
) -> Checked:  # fmt: skip
    """Hold a place against what was sent; read back what is due, or everything; with the ``key`` open it, too."""
    keys, berth = place.berth.keys(), place.berth
    if key is not None and key.recipient != keys.recipient:
        raise UsageError(f"this is not the key of the place '{place.name}'", advice="nothing was verified")
    result = Checked(place.name, opened=key is not None)
    with lease(berth.lock, f"the place '{place.name}'", doing="verify"), place.line(progress.note) as line:
        known = berth.held()
        read = read_states(line, keys.folder, keys.own, keys.seed, known)
        result.problems = read.problems
        held = known if known.number >= read.held.number else read.held
        there = line.sizes(f"{keys.folder}/parcels")
        readings = {n: r for n, r in berth.readings().items() if n in held.parcels}
        by_sum = {p.sum: p.name for p in held.parcels.values()}
        sound, odd = [], []
        sizes = {p.size for p in held.parcels.values()}
        for parcel in held.parcels.values():
            wrong = _at_a_glance(parcel, there)
            if not wrong:
                sound.append(parcel)
            elif there.get(parcel.name) in sizes:  # it may be another one: to be read
                odd.append(parcel)
            else:
                readings[parcel.name] = Reading(clock(), wrong)
        due = odd + (sound if everything else _due(sound, readings, berth.verified_at, clock()))
        progress.stage(f"Reading back {plural(len(due), 'parcel')} of {len(held.parcels):,} from '{place.name}'")
        _read_back(line, due, readings, by_sum, key, place.part.connections, progress, clock)
        berth.note_readings(readings, verified=True)
        by_pack = snapshots_by_pack(held)
        result.troubles = [
            Trouble(n, r.wrong, needing(held.parcels[n], by_pack)) for n, r in readings.items() if r.wrong
        ]
        ours = set(held.parcels) | {p.name for p in berth.pending(held.number + 1)}
        strays = {n: s for n, s in there.items() if n not in ours}
        result.strays, result.stray_bytes = len(strays), sum(strays.values())
    result.state, result.at, result.parcels, result.bytes = held.number, held.at, len(held.parcels), held.bytes
    result.snapshots, result.read, result.read_bytes = len(held.snapshots), len(due), sum(p.size for p in due)
    result.oldest_reading = min((r.at for r in readings.values()), default=None)
    result.never_read = len(held.parcels) - len(readings)
    return result


def _at_a_glance(parcel: Parcel, there: dict[str, int]) -> str:
    if parcel.name not in there:
        return "it is missing"
    if there[parcel.name] != parcel.size:
        return f"it has {size(there[parcel.name])} instead of {size(parcel.size)}"
    return ""


def _due(parcels: list[Parcel], readings: dict[str, Reading], last: datetime | None, at: datetime) -> list[Parcel]:
    """What is read back now: what was never read or the longest ago, as much of all as the time since the last
    verification is of a month; and all that was read more than a month ago."""
    never = datetime.min.replace(tzinfo=at.tzinfo)
    when = {p.name: readings[p.name].at if p.name in readings else never for p in parcels}
    total = sum(p.size for p in parcels)
    share = min(1.0, (at - last) / MONTH) if last is not None else 0.0
    wanted = max(_LEAST, int(total * share))
    found: list[Parcel] = []
    taken = 0
    for parcel in sorted(parcels, key=lambda p: when[p.name]):
        old = never < when[parcel.name] <= at - MONTH
        if taken >= wanted and not old:
            continue
        found.append(parcel)
        taken += parcel.size
    return found


def _read_back(
    line: Line, due: list[Parcel], readings: dict[str, Reading], by_sum: dict[str, str], key: PlaceKey | None,
    connections: int, progress: Progress, clock: Callable[[], datetime],
) -> None:  # fmt: skip
    def look(parcel: Parcel) -> str:
        try:
            return wrong_with(parcel, line.get(parcel.name, max(parcel.size, largest)), by_sum, key)
        except CarrierError as error:
            if error.passing:
                raise
            return error.what

    largest = max((p.size for p in due), default=0)
    total, done = sum(p.size for p in due), 0
    with ThreadPoolExecutor(connections, "read") as pool:
        for parcel, wrong in zip(due, pool.map(look, due), strict=True):
            readings[parcel.name] = Reading(clock(), wrong)
            done += parcel.size
            progress.advance(done, total, "byte")


def wrong_with(parcel: Parcel, content: bytes, by_sum: dict[str, str], key: PlaceKey | None = None) -> str:
    """What is wrong with an object that lies where a parcel is to lie; empty where nothing is."""
    told = sum_of(content)
    if told != parcel.sum:
        other = by_sum.get(told)
        if other is None and len(content) != parcel.size:
            return f"it has {size(len(content))} instead of {size(parcel.size)}"
        if other is not None:
            return f"it is another object, that of {other.rpartition('/')[2][:8]}…: they were swapped"
        return "it is not what was sent: bytes of it were changed"
    if key is not None:
        try:
            for _ in opened_parcel(key.open(content), parcel.members):
                pass
        except DamagedError as error:
            return error.what
    return ""
