"""What is to be known of a site at a glance: its card on the board of a fleet. Nothing is asked over a network."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict, dataclass, field
from datetime import datetime, timedelta

from keenharbor.base.errors import UnsettledError
from keenharbor.base.text import now, plural, stamp
from keenharbor.host.lease import HeldError
from keenharbor.live.journal import refuse_running
from keenharbor.live.ways import open_ways
from keenharbor.place.places import places_of
from keenharbor.place.standing import Standing, standing_of
from keenharbor.site.feed import Feed
from keenharbor.site.log import read_log
from keenharbor.site.survey import Survey, survey_site
from keenharbor.site.view import SiteView
from keenharbor.site.whereabouts import whereabouts_of
from keenharbor.snapshot import Snapshot, list_snapshots
from keenharbor.store import Store
from keenharbor.tend.duties import Duty
from keenharbor.tend.routine import duties_said
from keenharbor.tend.tending import due_now, next_of, read_tended
from keenharbor.trial.result import list_trials

OLD = timedelta(days=7)
"""A newest snapshot that is older is told."""
UNPROVEN = timedelta(days=35)


@dataclass(frozen=True)
class Card:
    """A site: versions, what is pending, its newest snapshot with its proof, places, the last trial, the way back that
    is open, and what comes next; ``state`` is ``failed``, ``caution`` or ``good``, ``attention`` says why, in words."""

    site: str
    title: str
    address: str
    state: str
    attention: tuple[str, ...]
    core: str
    core_newest: str | None
    runtime: str
    database: str
    updates: tuple[str, ...] = ()
    snapshot: str | None = None
    taken_at: str | None = None
    proven_at: str | None = None
    snapshots: int = 0
    places: tuple[dict[str, object], ...] = ()
    trial: dict[str, str] | None = None
    way_back: dict[str, str] | None = None
    coming: tuple[tuple[str, str], ...] = ()
    duties: dict[str, str] = field(default_factory=dict)

    def as_json(self) -> dict[str, object]:
        return asdict(self)


def card_of(site: SiteView, feed: Feed | None) -> Card:
    """The card of a site as it is now. Raises `KeenHarborError` where it cannot be read."""
    store = Store(site.store_folder) if (site.store_folder / "store.json").exists() else None
    known = list_snapshots(store, site.name) if store is not None else []
    surveyed = survey_site(site, feed, None)
    _, places = places_of(site.site_file)
    standing = [standing_of(p, {s.id for s in known}) for p in places]
    duties, tended, at = _duties(site), read_tended(site.work), datetime.now()
    wrong = {n: d.told for n, d in tended.duties.items() if d.code and any(u.name == n for u in duties)}
    bad = [*_failures(site, standing, known), *(f"{n}: {t}" for n, t in wrong.items() if tended.duties[n].code > 1)]
    doubts = [*_doubts(site, surveyed, known, standing), *(
        f"{n}: {t}" for n, t in wrong.items() if tended.duties[n].code == 1
    )]  # fmt: skip
    newest = known[0] if known else None
    late = [(at, d.duty.name) for d in due_now(duties, tended, at)]
    later = [d for d in duties if d.name not in {name for _, name in late}]
    coming = sorted((soon, d.name) for d in later if (soon := next_of(d, at)) is not None)
    return Card(
        site.name, surveyed.title or site.name, site.told_address, "failed" if bad else "caution" if doubts else "good",
        (*bad, *doubts), surveyed.core, surveyed.core_newest, surveyed.runtime,
        f"{surveyed.engine} {surveyed.engine_version}", tuple(_pending(surveyed)),
        newest.id if newest else None, stamp(newest.taken_at) if newest else None, _proven(known), len(known),
        tuple(s.as_json() for s in standing), _last_trial(site), _way_back(site, store),
        tuple((stamp(soon.astimezone()), name) for soon, name in [*late, *coming][:3]),
        {n: d.word for n, d in tended.duties.items()},
    )  # fmt: skip


def _duties(site: SiteView) -> list[Duty]:
    return duties_said(whereabouts_of(site.site_file)) if _has_routine(site) else []


def _has_routine(site: SiteView) -> bool:
    return "routine" in site.model.model_fields_set


def _pending(surveyed: Survey) -> Iterator[str]:
    if surveyed.core_newest is not None and surveyed.core_newest != surveyed.core:
        yield f"core {surveyed.core_newest}"
    for item in surveyed.installations:
        if item.update_pending:
            yield item.component.name


def _proven(known: list[Snapshot]) -> str | None:
    proofs = [p.at for s in known if (p := s.proven) is not None]
    return stamp(max(proofs)) if proofs else None


def _failures(site: SiteView, standing: list[Standing], known: list[Snapshot]) -> Iterator[str]:
    try:
        refuse_running(site)
    except UnsettledError as error:
        yield f"{error.what}: keenharbor settle"
    except HeldError:
        pass  # somebody is at it
    if not known:
        yield "there is no snapshot"
    for place in standing:
        if place.verdict == "damaged":
            yield f"place {place.name}: {place.told}"


def _doubts(site: SiteView, surveyed: Survey, known: list[Snapshot], standing: list[Standing]) -> Iterator[str]:
    if known and now() - known[0].taken_at > OLD:
        yield f"the newest snapshot is {plural((now() - known[0].taken_at).days, 'day')} old"
    proofs = [p.at for s in known if (p := s.proven) is not None]
    if known and (not proofs or now() - max(proofs) > UNPROVEN):
        yield "no snapshot was proven by a drill within 35 days"
    for place in standing:
        if place.verdict == "caution":
            yield f"place {place.name}: {place.told}"
    if known and not standing:
        yield "snapshots lie in one place only"
    if surveyed.edits:
        yield f"{plural(len(surveyed.edits), 'local edit')}"
    if not _has_routine(site):
        yield "nothing is done by itself: no [routine]"


def _last_trial(site: SiteView) -> dict[str, str] | None:
    trials = list_trials(site.work)
    if not trials:
        return None
    return {"id": trials[0].id, "verdict": trials[0].verdict, "at": trials[0].started_at}


def _way_back(site: SiteView, store: Store | None) -> dict[str, str] | None:
    """The way back that is open, and what the late watch said last."""
    ways = open_ways(site, store) if store is not None else []
    if not ways:
        return None
    way = ways[0]
    watched = [e for e in read_log(site.work).entries if e.command == "watch" and e.subject == way.target.id]
    return {
        "to": f"core {way.target.manifest.facts.core}", "since": stamp((way.arrival or way.target).taken_at),
        "watched": watched[-1].detail if watched else "",
    }  # fmt: skip
