"""Which snapshots stay, which go, and what that frees."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Protocol

from keenharbor.base.errors import DamagedError, KeenHarborError, UsageError
from keenharbor.base.progress import Progress
from keenharbor.base.text import now, stamp
from keenharbor.site.view import SiteView
from keenharbor.snapshot.manifest import Snapshot, change_record, list_snapshots, read_snapshot, unreadable_snapshots
from keenharbor.snapshot.needs import Needs, Part
from keenharbor.store import ObjectId, Store


@dataclass(frozen=True)
class ThinRules:
    """What is to stay; a snapshot stays when any rule says so. Without a rule nothing goes.

    ``newest``: so many; ``younger_than``: all of that age; ``daily``, ``weekly``, ``monthly``: the newest of each of so
    many days, weeks (from Monday) and months, in local time. ``largest_total``: of what is left, the oldest go until
    the store takes at most so many bytes."""

    newest: int = 0
    younger_than: timedelta | None = None
    daily: int = 0
    weekly: int = 0
    monthly: int = 0
    largest_total: int | None = None

    @property
    def any_of_age(self) -> bool:
        return bool(self.newest or self.younger_than or self.daily or self.weekly or self.monthly)


@dataclass
class ThinPlan:
    """Snapshots that stay, each with why; those that go; the bytes in the store that are freed, leftovers of killed
    runs and of what went before included."""

    stay: list[tuple[Snapshot, str]] = field(default_factory=list)
    go: list[Snapshot] = field(default_factory=list)
    frees: int = 0
    leftovers: int = 0
    too_large_still: int = 0
    given_up: tuple[str, ...] = ()

    @property
    def going(self) -> int:
        """How many snapshots go."""
        return len(self.go) + len(self.given_up)

    def as_json(self) -> dict[str, object]:
        return {
            "stay": [{"id": s.id, "why": why} for s, why in self.stay],
            "go": [{"id": s.id, "taken_at": s.manifest.taken_at, "label": s.label} for s in self.go],
            "frees_bytes": self.frees, "leftover_bytes": self.leftovers, "still_too_large_by": self.too_large_still,
            "given_up": list(self.given_up),
        }  # fmt: skip


def _periods(rules: ThinRules) -> list[tuple[str, int, str]]:
    return [
        ("the newest of its day", rules.daily, "%Y-%m-%d"),
        ("the newest of its week", rules.weekly, "%G-%V"),
        ("the newest of its month", rules.monthly, "%Y-%m"),
    ]


def firm_reasons(snapshots: Sequence[Snapshot], needed: Mapping[str, str]) -> dict[str, str]:
    """By id, why a snapshot must stay whatever the rules say: it is kept, something relies on it, or it is the newest
    proven one."""
    newest_first = sorted(snapshots, key=lambda s: s.taken_at, reverse=True)
    why: dict[str, str] = {}
    for snapshot in newest_first:
        if snapshot.kept is not None:
            why[snapshot.id] = "kept" + (f": {snapshot.kept}" if snapshot.kept else "")
        elif snapshot.id in needed:
            why[snapshot.id] = needed[snapshot.id]
    proven = next((s for s in newest_first if s.proven), None)
    if proven is not None:
        why.setdefault(proven.id, "the newest proven one")
    return why


class Dated(Protocol):
    """What age goes by: a snapshot of a store, or of another place."""

    @property
    def id(self) -> str: ...

    @property
    def taken_at(self) -> datetime: ...


def reasons_to_stay(
    snapshots: Sequence[Dated], rules: ThinRules, firm: Mapping[str, str], at: datetime | None = None
) -> dict[str, str]:
    """By id, why a snapshot stays, those with `firm_reasons` first; those that are not named may go."""
    newest_first = sorted(snapshots, key=lambda s: s.taken_at, reverse=True)
    why = dict(firm)
    if not rules.any_of_age and rules.largest_total is None:
        return why | {s.id: "no rule says that it may go" for s in newest_first if s.id not in why}
    if not rules.any_of_age:
        # Only the size counts: what may go is decided there. The newest stays in any case.
        return why | ({newest_first[0].id: "the newest"} if newest_first and newest_first[0].id not in why else {})
    for snapshot in newest_first[: rules.newest]:
        why.setdefault(snapshot.id, f"one of the newest {rules.newest}")
    if rules.younger_than is not None:
        limit = (at or now()) - rules.younger_than
        for snapshot in newest_first:
            if snapshot.taken_at >= limit:
                why.setdefault(snapshot.id, "young enough")
    for words, count, form in _periods(rules):
        seen: set[str] = set()
        for snapshot in newest_first:
            period = snapshot.taken_at.astimezone().strftime(form)
            if period not in seen and len(seen) < count:
                seen.add(period)
                why.setdefault(snapshot.id, words)
    return why


def dependent_snapshots(store: Store) -> Iterator[Snapshot]:
    """Those of stores that lean on this one (checkpoints of trials), and need what it has."""
    for folder in store.dependents():
        leaning = Store(folder, [store])
        for name in leaning.document_names("snapshots"):
            yield read_snapshot(leaning, name)


def plan_thinning(
    store: Store, site: str, rules: ThinRules, needed: Mapping[str, str], give_up: Sequence[str] = ()
) -> ThinPlan:
    """What would stay and go of the snapshots of ``site``, and the space that it would free. Nothing is changed.

    ``give_up`` names snapshots that cannot be read and are to go; raises `DamagedError` for any other such one."""
    if min(rules.newest, rules.daily, rules.weekly, rules.monthly, rules.largest_total or 0) < 0:
        raise UsageError("a rule for thinning cannot be below zero")
    if wrong := sorted(set(give_up) - set(unreadable_snapshots(store))):
        raise UsageError(f"{wrong[0]} is no snapshot that cannot be read", where=store.folder)
    everything = _readable(store, give_up)
    own = [s for s in everything if s.site == site]
    firm = firm_reasons(own, needed)
    why = reasons_to_stay(own, rules, firm)
    needs = Needs(store)
    parts = {s.id: needs.add(s) for s in everything}
    for leaning in dependent_snapshots(store):
        needs.add(leaning)
    stored = needs.space
    plan = ThinPlan(leftovers=store.pack_bytes() - stored, given_up=tuple(give_up))
    may_go = [s for s in sorted(own, key=lambda s: s.taken_at) if s.id not in why]
    size_only = not rules.any_of_age
    kept_for_size = []
    for snapshot in may_go:
        over = rules.largest_total is not None and stored - plan.frees > rules.largest_total
        if size_only and not over:
            kept_for_size.append(snapshot)
            continue
        _let_go(snapshot, plan, needs, parts[snapshot.id])
    if rules.largest_total is not None and not size_only:
        # What the other rules would let stay goes too, oldest first, until the size is kept; never what is needed.
        soft = [s for s in sorted(own, key=lambda s: s.taken_at) if s.id in why and s.id not in firm]
        for snapshot in soft[:-1]:
            if stored - plan.frees > rules.largest_total:
                why.pop(snapshot.id)
                _let_go(snapshot, plan, needs, parts[snapshot.id])
    if rules.largest_total is not None:
        plan.too_large_still = max(0, stored - plan.frees - rules.largest_total)
    reasons = why | {s.id: "the size allows it" for s in kept_for_size}
    plan.stay = [(s, reasons[s.id]) for s in sorted(own, key=lambda s: s.taken_at, reverse=True) if s.id in reasons]
    plan.go.sort(key=lambda s: s.taken_at, reverse=True)
    plan.frees += plan.leftovers
    return plan


def _readable(store: Store, given_up: Sequence[str] = ()) -> list[Snapshot]:
    """Every snapshot of the store but those ``given_up``. Raises `DamagedError` for one whose manifest is damaged: what
    it needs is not known, and would be thrown away."""
    found = []
    for name in store.document_names("snapshots"):
        if name in given_up:
            continue
        try:
            found.append(read_snapshot(store, name))
        except DamagedError as error:
            raise DamagedError(
                f"snapshot {name} cannot be read, so what it needs of the store is not known: nothing is thinned out",
                where=error.where,
                advice=f"put that file back from a copy of the store, or let it go: 'keenharbor snapshot thin "
                f"--give-up {name}'",
            ) from error
    return found


def _let_go(snapshot: Snapshot, plan: ThinPlan, needs: Needs, parts: Iterable[Part]) -> None:
    plan.go.append(snapshot)
    plan.frees += needs.drop(parts)


def thin(store: Store, plan: ThinPlan, progress: Progress, level: int) -> int:
    """Remove what ``plan`` lets go, then what nobody needs any more; returns the bytes freed.

    What has to be compressed for that is so with ``level``.
    Killed at any time it leaves whole snapshots only: manifests go first, then packs are written anew, old ones last.
    """
    before = store.pack_bytes()
    with store.alone():
        store.collect_staging(alone=True)
        progress.stage(f"removing {len(plan.go)} snapshots")
        for snapshot in plan.go:
            store.remove_document("snapshots", snapshot.id)
            store.remove_document("records", snapshot.id)
        for identity in plan.given_up:
            store.remove_document("snapshots", identity)
            store.remove_document("records", identity)
        progress.stage("removing what nobody needs any more")
        store.refresh()
        live: set[ObjectId] = set()
        for snapshot in (*_readable(store), *dependent_snapshots(store)):
            live.update(identity for _, identity in snapshot.objects())
        store.collect(live, lambda done, total: progress.advance(done, total, "byte"), level)
    return before - store.pack_bytes()


def keep(snapshot: Snapshot, why: str | None) -> None:
    """Never let `thin` remove the snapshot."""
    change_record(snapshot, lambda record: record.update(kept={"at": stamp(now()), "why": why or ""}))


def unkeep(snapshot: Snapshot) -> None:
    """Let the rules decide again."""
    change_record(snapshot, lambda record: record.update(kept=None))


@dataclass(frozen=True)
class SnapshotSpace:
    """What one snapshot takes: what only it needs, and all that it needs."""

    snapshot: Snapshot
    alone: int
    whole: int


@dataclass(frozen=True)
class Usage:
    """What fills a store: bytes in it, by snapshot, and by what they are for (an area, a table)."""

    total: int
    packs: int
    documents: int
    leftovers: int
    snapshots: tuple[SnapshotSpace, ...]
    content: dict[str, int]
    plain_bytes: int
    sites: dict[str, int]

    def as_json(self) -> dict[str, object]:
        return {
            "total_bytes": self.total, "pack_bytes": self.packs, "document_bytes": self.documents,
            "leftover_bytes": self.leftovers, "plain_bytes": self.plain_bytes, "by_content": self.content,
            "by_site": self.sites,
            "snapshots": [{"id": s.snapshot.id, "only_its_own_bytes": s.alone, "whole_bytes": s.whole}
                for s in self.snapshots],
        }  # fmt: skip


def usage(store: Store, site: str) -> Usage:
    """What fills ``store``, told for the snapshots of ``site`` (and by site for the others)."""
    everything = list_snapshots(store)
    needs = Needs(store)
    parts = {s.id: needs.add(s) for s in everything}
    plain = sum(s.file_bytes + s.manifest.database.bytes for s in everything)
    content = dict(needs.content.most_common())
    of_sites: dict[str, set[Part]] = {}
    for snapshot in everything:
        of_sites.setdefault(snapshot.site, set()).update(parts[snapshot.id])
    for leaning in dependent_snapshots(store):
        needs.add(leaning)
    packs, documents = store.pack_bytes(), store.document_bytes()
    return Usage(
        packs + documents, packs, documents, max(0, packs - needs.space),
        tuple(
            SnapshotSpace(s, needs.space_alone(parts[s.id]), needs.space_of(parts[s.id]))
            for s in everything if s.site == site
        ),
        content, plain, {name: needs.space_of(those) for name, those in sorted(of_sites.items())},
    )  # fmt: skip


@dataclass(frozen=True)
class SiteUsage:
    """What the live site takes: files by area, the largest files, the database."""

    areas: dict[str, int]
    largest: tuple[tuple[str, int], ...]
    database: int

    def as_json(self) -> dict[str, object]:
        return {"areas": self.areas, "largest_files": [list(f) for f in self.largest], "database_bytes": self.database}


def site_usage(site: SiteView, count: int = 6) -> SiteUsage:
    """Look at the live site; a database that does not answer counts as nothing."""
    areas: Counter[str] = Counter()
    files = [e for e in site.scan().entries.values() if e.kind == "file"]
    for entry in files:
        areas[entry.area] += entry.size
    largest = sorted(files, key=lambda e: -e.size)[:count]
    try:
        database = site.database.size()
    except KeenHarborError:
        database = 0
    return SiteUsage(dict(areas.most_common()), tuple((e.path, e.size) for e in largest), database)
