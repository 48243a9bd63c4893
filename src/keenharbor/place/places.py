"""The places that a site file names."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

from pydantic import BaseModel, ConfigDict

from keenharbor.base.errors import UsageError
from keenharbor.base.pace import Hours, RateLimit, read_rate
from keenharbor.base.references import referred
from keenharbor.place.berth import Berth
from keenharbor.place.carriers import Carrier, Whither, checked_url, no_pace, open_carrier
from keenharbor.place.line import Line
from keenharbor.place.parcels import PARCEL
from keenharbor.site.load import load_site_file
from keenharbor.site.routines import PlacePart
from keenharbor.site.toml import read_toml, validated
from keenharbor.site.whereabouts import Whereabouts
from keenharbor.snapshot.keeping import ThinRules

_SMALLEST_PARCEL = 256 * 1024
_SECONDS_A_PARCEL = 4


class _PlacesFile(BaseModel):
    """A file of places that several sites share."""

    model_config = ConfigDict(extra="forbid")
    place: list[PlacePart] = []


@dataclass(frozen=True)
class Place:
    """A place, as the site file ``base`` names it, and what this machine knows of it."""

    part: PlacePart
    base: Path
    berth: Berth

    @property
    def name(self) -> str:
        return self.part.name

    @property
    def hours(self) -> Hours | None:
        return Hours.read(self.part.hours) if self.part.hours is not None else None

    @property
    def parcel_bytes(self) -> int:
        """How large a parcel gets. Over a limited line what goes at once is a few seconds of it."""
        if self.part.limit is None:
            return PARCEL
        return int(min(PARCEL, max(_SMALLEST_PARCEL, read_rate(self.part.limit) * _SECONDS_A_PARCEL)))

    @property
    def rules(self) -> ThinRules:
        """What stays in it when it is thinned."""
        keep = self.part.keep
        younger = timedelta(days=keep.days) if keep.days else None
        return ThinRules(keep.newest, younger, keep.daily, keep.weekly, keep.monthly)

    def whither(self) -> Whither:
        """Where it is, with the secret that its ``password`` names. Raises `UsageError`."""
        part = self.part
        try:
            password = referred(part.password, self.base) if part.password is not None else None
            url = checked_url(part.url)
        except (LookupError, ValueError) as error:
            raise UsageError(f"the place '{self.name}': {error.args[0]}") from None
        return Whither(
            url, part.user, password, self.base / part.key_file if part.key_file else None,
            self.base / part.known_hosts if part.known_hosts else None, part.endpoint, part.region,
        )  # fmt: skip

    def line(self, told: Callable[[str], None] = lambda _: None, *, makes: bool = False) -> Line:
        """A line to it."""
        whither = self.whither()
        pace = RateLimit(read_rate(self.part.limit)) if self.part.limit is not None else no_pace

        def open_it() -> Carrier:
            return open_carrier(whither, makes=makes)

        return Line(open_it, pace, told)

    def waits_until(self, at: datetime) -> datetime | None:
        """When it may be sent to next, where that is not now."""
        hours = self.hours
        return None if hours is None or hours.hold(at) else hours.next(at)


def places_of(site_file: Path) -> tuple[Whereabouts, list[Place]]:
    """Where the site is (it need not be there any more), and its places. Raises `UsageError`."""
    site_file = site_file.resolve()
    model = load_site_file(site_file)
    where = Whereabouts.of(site_file, model.site.name, model.site.root, model.site.work, model.store.path)
    base = site_file.parent
    parts = [(p, base) for p in model.place]
    if model.places_file is not None:
        shared = (base / model.places_file).resolve()
        own = {p.name for p in model.place}
        found = validated(_PlacesFile, read_toml(shared, "file of places"), shared, "file of places")
        parts += [(p, shared.parent) for p in found.place if p.name not in own]
    return where, [Place(p, b, Berth(where.work / "places" / p.name)) for p, b in parts]


def find_places(site_file: Path, names: tuple[str, ...]) -> tuple[Whereabouts, list[Place]]:
    """The places of these names (none: all). Raises `UsageError`."""
    where, places = places_of(site_file)
    if not places:
        raise UsageError(
            "the site file names no place", where=site_file, advice="'keenharbor place add NAME URL' adds one"
        )
    known = {p.name: p for p in places}
    for name in names:
        if name not in known:
            raise UsageError(f"there is no place '{name}'; there is: {', '.join(known)}", where=site_file)
    return where, [known[n] for n in dict.fromkeys(names)] if names else places
