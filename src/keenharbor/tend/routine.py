"""The duties of a site, by its site file."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING

from keenharbor.base.errors import UsageError
from keenharbor.site.whereabouts import Whereabouts, read_said
from keenharbor.tend.duties import DUTIES, Duty, Facts, duties_of

if TYPE_CHECKING:
    from keenharbor.site.model import SiteFile


def duties_said(where: Whereabouts) -> list[Duty]:
    """The duties by what the site file says, without reading the rest of it: a run with nothing due is over soon. Which
    there are and when is right; their commands are not. Raises `UsageError`."""
    said, _ = read_said(where.site_file)
    routine = said.get("routine")
    texts = {k: v for k, v in routine.items() if isinstance(v, str)} if isinstance(routine, dict) else {}
    if not texts:
        raise UsageError(
            "the site file has no [routine]", where=where.site_file, advice="keenharbor tend --draft proposes one"
        )
    keeps = isinstance(routine, dict) and bool(routine.get("keep"))
    named = bool(said.get("place") or said.get("places_file"))
    some = ("?",)
    facts = Facts(some if named else (), some if named else (), some if keeps else (), _arrived(where))
    try:
        return duties_of(texts, facts, where.name)
    except ValueError as error:
        raise UsageError(str(error), where=where.site_file) from None


def _arrived(where: Whereabouts) -> datetime | None:
    """When live arrived by the last cutover, by the wall clock; None where it is not watched."""
    if not (where.work / "arrivals").is_dir():
        return None
    from keenharbor.live.arrivals import arrived_at

    at = arrived_at(where.work)
    return at.astimezone().replace(tzinfo=None) if at is not None else None


def duties_of_site(where: Whereabouts, model: SiteFile) -> list[Duty]:
    """The duties with their commands, by the whole site file, and by which places have their key here."""
    from keenharbor.place.places import places_of

    _, places = places_of(where.site_file)
    ready = [p for p in places if p.berth.is_set_up]
    keep = model.routine.keep
    words = [w for n in ("newest", "daily", "weekly", "monthly") if (v := getattr(keep, n)) for w in (f"--{n}", str(v))]
    words += ["--younger-than", f"{keep.days}d"] if keep.days else []
    thinned = [p.name for p in ready if p.rules.any_of_age and not p.part.append_only]
    texts = {n: v for n in DUTIES if (v := getattr(model.routine, n)) is not None}
    return duties_of(texts, Facts([p.name for p in ready], thinned, words, _arrived(where)), where.name)
