"""Thinning a place by its own rules: from a machine that may remove there, which need not be the site's."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from typing import NamedTuple

from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.base.text import parse_stamp
from keenharbor.place.berth import BerthKeys
from keenharbor.place.fetching import find_berth
from keenharbor.place.keys import PlaceKey
from keenharbor.place.line import Line
from keenharbor.place.places import Place
from keenharbor.place.reading import Read, read_states, state_names
from keenharbor.place.sending import write_state
from keenharbor.place.states import Held, whole_state
from keenharbor.snapshot.keeping import ThinRules, reasons_to_stay


class _Dated(NamedTuple):
    """What the rules look at of a snapshot."""

    id: str
    taken_at: datetime


@dataclass
class PlaceThinning:
    """What stays in a place, each with why; what goes; the parcels that nobody needs then."""

    stay: dict[str, str] = field(default_factory=dict)
    go: list[str] = field(default_factory=list)
    parcels: list[str] = field(default_factory=list)
    frees: int = 0
    strays: list[str] = field(default_factory=list)

    def as_json(self) -> dict[str, object]:
        return {"stay": self.stay, "go": self.go, "parcels": len(self.parcels), "frees_bytes": self.frees}


def plan_thinning(held: Held, rules: ThinRules, strays: dict[str, int], at: datetime | None = None) -> PlaceThinning:
    """What the rules say of a place's snapshots. The newest one of each site stays whatever they say."""
    plan = PlaceThinning()
    for site in sorted({s.site for s in held.snapshots.values()}):
        dated = [_Dated(i, parse_stamp(s.taken_at)) for i, s in held.snapshots.items() if s.site == site]
        newest = max(dated, key=lambda d: d.taken_at)
        found = reasons_to_stay(dated, rules, {newest.id: "the newest"}, at)
        plan.stay.update(found)
    plan.go = sorted(set(held.snapshots) - set(plan.stay))
    if plan.go:
        wanted = {pack for i in plan.stay for pack in held.snapshots[i].packs}
        current = held.members()
        needed: set[str] = set()
        for path, parts in current.items():
            kind, _, rest = path.partition("/")
            name = rest.rpartition("/")[2]
            if name in wanted or kind == "papers" or name.removesuffix(".json") in plan.stay:
                needed.update(parcel.name for _, parcel in parts)
        plan.parcels = sorted(set(held.parcels) - needed)
    plan.strays = sorted(strays)
    plan.frees = sum(held.parcels[n].size for n in plan.parcels) + sum(strays.values())
    return plan


@dataclass(frozen=True)
class Begun:
    """A thinning that was looked into: what seals and signs, what the place holds, what is to go; whether it is from
    the site's own machine."""

    keys: BerthKeys
    read: Read
    plan: PlaceThinning
    own: bool


def may_remove(place: Place, key: PlaceKey | None) -> None:
    """Raises `UsageError` where this machine is one that may add only, and there is no ``key`` to say otherwise."""
    if key is None and place.part.append_only:
        raise UsageError(
            f"'{place.name}' is a place to which this machine may add and from which it may not remove",
            advice="thin it from another machine, with the key: keenharbor place thin NAME --key FILE",
        )


def begin_thinning(
    place: Place, line: Line, rules: ThinRules, key: PlaceKey | None = None, wanted: str | None = None
) -> Begun:
    """What the rules say of a place: from the site's machine, or with the ``key`` from any. Only the site's machine
    knows which objects without a state are about to get one, so only there such objects go. Raises `DamagedError` where
    the place is not as its states say: first that is mended."""
    if key is None:
        keys = place.berth.keys()
        secret = keys.own
    else:
        keys = BerthKeys.made(key, find_berth(line, key, place.name, wanted).folder)
        secret = key.secret
    read = read_states(line, keys.folder, secret, keys.seed, Held())
    if read.problems or not read.held.number:
        raise DamagedError(
            "a place is not thinned while it is not as it is to be: " + "; ".join(read.problems[:3] or ["it is empty"]),
            advice="keenharbor place verify, and keenharbor place send",
        )
    strays: dict[str, int] = {}
    if key is None:
        coming = {p.name for p in place.berth.pending(read.held.number + 1)}
        there = line.sizes(f"{keys.folder}/parcels")
        strays = {n: s for n, s in there.items() if n not in read.held.parcels and n not in coming}
    return Begun(keys, read, plan_thinning(read.held, rules, strays), key is None)


def thin(place: Place, line: Line, begun: Begun, advance: Callable[[int, int], None]) -> None:
    """Carry a plan out: first a state says what there is from now on, then objects go; a run that is cut leaves
    objects that no state tells of."""
    keys, read, plan = begun.keys, begun.read, begun.plan
    held = read.held
    for name in plan.go:
        held.snapshots.pop(name, None)
    for name in plan.parcels:
        held.parcels.pop(name, None)
    number = max(held.number, read.newest) + 1
    write_state(line, keys, whole_state(keys.folder, number, held, held.sum, held.reader), held)
    older = [n for k, names in state_names(line, keys.folder).items() if k < number for n in names]
    going = [*plan.parcels, *plan.strays, *older]
    for done, name in enumerate(going, 1):
        line.remove(name)
        advance(done, len(going))
    if begun.own:
        place.berth.note_held(held)
