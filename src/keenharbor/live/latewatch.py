"""The late watch: live, hours and days after a cutover, held against how it was on arrival.

Damage is often noticed days later: by a task of the night, a form that nobody used on the first day, a log that fills.
What people write meanwhile is no damage: held against the arrival is not what pages say, but whether they load, are
whole, lead somewhere, are found by search engines and answer in time; what the logs say; and what became of rows and
code (`keenharbor.snapshot.unusual`). What shows is looked at again a little later, and is told when it is still
there."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from statistics import median

from keenharbor.base.progress import Progress
from keenharbor.base.text import duration, plural
from keenharbor.compare import Finding, Look, Observation, VisitError, Visitor, Weight, compare_pages, group, take_look
from keenharbor.compare.look import Far, PageSeen
from keenharbor.compare.state import secret_values
from keenharbor.live.arrivals import Arrival, last_arrival, save_arrival_look, times_of
from keenharbor.live.loglines import errors_in_logs
from keenharbor.live.rollback import look_at_way, seconds_in_trial
from keenharbor.live.snapshots import take_guarded
from keenharbor.live.ways import WayBack, open_ways
from keenharbor.site.log import append_log
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot, TakeOptions, list_snapshots
from keenharbor.snapshot.unusual import unusual
from keenharbor.store import Store

PAUSE_SECONDS = 5.0
"""So long behind what shows it is looked at again."""
SLOWER, FAR_SLOWER = 2.0, 3.0
"""A page is slower when its median is so many times the slowest that was ever seen of it and `MUCH_SECONDS` more, or
so far more times and `SOME_SECONDS` more; and when no visit was as quick as the slowest then."""
MUCH_SECONDS, SOME_SECONDS = 0.5, 0.1
MORE_ERRORS, MANY_ERRORS = 20, 100
"""Errors of a kind that was there before are told when there are so many times as many, and so many."""
EMPTIED, WORDS_OF_A_PAGE = 0.2, 30
"""A page of so many words is emptied when not so large a part of them is left."""
_MOST_AGAIN = 50

_ANY = frozenset((
    "redirect", "redirect-loop", "open-to-all", "debug-shown", "secret-shown", "file-broken", "picture-broken",
    "check-failed", "form-gone", "field-lost", "styles-gone", "link-broken", "encoding", "page-fails",
))  # fmt: skip
"""Differences that no editor makes by writing."""
_OF_EDITORS = frozenset(("page-gone", "page-moved"))
"""An editor may have done it: doubt, whatever it would be otherwise."""
_IF_DAMAGE = ("robots-", "canonical-", "header-")


@dataclass(frozen=True)
class LateWatch:
    """What was found: of which cutover (its trial, the snapshot before it, when live arrived), on how many pages; what
    is wrong, worst first; what had passed when it was looked at again; the snapshot that holds this state; what a way
    back would carry, and how long it took in its trial."""

    trial: str
    of: str
    arrived: datetime
    pages: int
    findings: tuple[Finding, ...]
    passed: tuple[str, ...] = ()
    snapshot: str = ""
    carries: str = ""
    conflicts: int = 0
    seconds_back: float | None = None

    @property
    def verdict(self) -> str:
        """``damage``, ``doubt`` or ``good``."""
        return self.findings[0].weight.value if self.findings else "good"

    @property
    def told(self) -> str:
        """In a line."""
        since = f"since the cutover of {self.arrived.astimezone():%d %b %H:%M} (trial {self.trial})"
        if not self.findings:
            return f"nothing went wrong {since}"
        more = f", and {plural(len(self.findings) - 1, 'more thing')}" if self.findings[1:] else ""
        return f"{self.findings[0].text}{more}, {since}"

    @property
    def way_back(self) -> str:
        """What going back now would take, in words."""
        took = f"; in its trial it took {duration(self.seconds_back)}" if self.seconds_back is not None else ""
        both = f"; both sides changed {plural(self.conflicts, 'thing')}" if self.conflicts else ""
        return f"a way back would bring along {self.carries or 'nothing'}{both}{took}"

    def as_json(self) -> dict[str, object]:
        return {
            "trial": self.trial, "back_to": self.of, "arrived": self.arrived.isoformat(timespec="seconds"),
            "verdict": self.verdict, "pages": self.pages, "findings": [f.as_json() for f in self.findings],
            "passed": list(self.passed), "snapshot": self.snapshot,
            "way_back": {"carries": self.carries, "conflicts": self.conflicts, "seconds_in_trial": self.seconds_back},
        }  # fmt: skip


@dataclass
class _Seen:
    """What a look shows, with the look."""

    look: Look | None = None
    observations: list[Observation] = field(default_factory=list)


def watch_live(site: SiteView, store: Store, progress: Progress, pause: float = PAUSE_SECONDS) -> LateWatch | None:
    """Hold live against its last arrival; None where no way back is open, or nothing was saved then. Live is only
    read, and a snapshot of it taken. Raises `DamagedError`, and `UnsettledError` where live
    is between two states."""
    ways = open_ways(site, store)
    arrival = last_arrival(site.work, [w.target.id for w in ways])
    if arrival is None:
        return None
    way = next(w for w in ways if w.target.id == arrival.of)
    progress.stage("looking at live")
    seen, passed = _confirmed(site, arrival, progress, pause)
    progress.stage("reading the logs")
    found = [*seen.observations, *_of_logs(site, arrival)]
    # A new one each time: what was mended a minute ago must not be told again.
    snapshot = take_guarded(site, store, TakeOptions(reason="scheduled", comment="by the late watch"), progress)
    if way.arrival is not None:
        progress.stage("holding files and rows against the arrival")
        found += _of_state(way, snapshot, list_snapshots(store, site.name))
    findings = sorted(group((o, None, None) for o in found), key=_urgency)
    pages = len(seen.look.pages) if seen.look is not None else 0
    result = LateWatch(arrival.trial, arrival.of, arrival.at, pages, tuple(findings), tuple(passed), snapshot.id)
    if findings:
        merged = look_at_way(site, way)
        result = replace(
            result, carries=merged.told(), conflicts=len(merged.conflicts), seconds_back=seconds_in_trial(site, way)
        )
    append_log(site.work, site.name, "watch", result.verdict, result.told, arrival.of)
    return result


def _urgency(finding: Finding) -> tuple[int, int]:
    """Sorts findings: the worst first, then what stops visitors."""
    first = ("no-answer", "page-fails", "check-failed", "emptied", "rows-lost", "table-gone", "code-in-uploads")
    return finding.weight.rank, first.index(finding.kind) if finding.kind in first else len(first)


# -- pages ----------------------------------------------------------------------------------------------------


def _confirmed(site: SiteView, arrival: Arrival, progress: Progress, pause: float) -> tuple[_Seen, list[str]]:
    """What is wrong on pages and still is when it is looked at again; in words, what had passed by then."""
    first = _seen(site, arrival, progress, None)
    slow = _slower(site, arrival)
    if not first.observations and not slow:
        return first, []
    progress.stage("looking again at what shows")
    time.sleep(pause)
    pages = _pages_of(first)
    again = _seen(site, arrival, progress, pages)
    there = {o.identity for o in again.observations}
    looked = set(pages)
    still = [o for o in first.observations if o.identity in there or (o.page and o.page not in looked)]
    passed = [o.text for o in first.observations if o not in still]
    if slow:
        later = {o.place: o for o in _slower(site, arrival, [o.place for o in slow])}
        still += [later[o.place] for o in slow if o.place in later]
        passed += [o.text for o in slow if o.place not in later]
    return _Seen(first.look, still), passed


def _pages_of(seen: _Seen) -> list[str]:
    """The pages on which something shows, and those that ask for a file that is broken; so many at most."""
    assert seen.look is not None
    files = {o.place for o in seen.observations if not o.page}
    pages = [o.page for o in seen.observations if o.page]
    for path, page in seen.look.pages.items():
        if files and page.markup is not None and files.intersection((*page.markup.assets, *page.markup.images())):
            pages.append(path)
            files -= {*page.markup.assets, *page.markup.images()}
    return list(dict.fromkeys(p for p in pages if p in seen.look.pages))[:_MOST_AGAIN]


def _seen(site: SiteView, arrival: Arrival, progress: Progress, only: Sequence[str] | None) -> _Seen:
    """What is wrong on the pages; ``only`` on these."""
    harmless = [c for c in site.model.check if not c.writes]
    try:
        with Visitor(site.address) as visitor:
            visitor.get(site.model.look.starts[0])
            look = take_look(
                visitor, site.model.look, also=tuple(arrival.look.pages), samples=1, served=False, checks=harmless,
                far=Far(1, served=False), only=only, progress=progress,
            )  # fmt: skip
    except VisitError as error:
        text = f"live does not answer: {error}"
        return _Seen(Look(site.address), [Observation("no-answer", site.address, Weight.DAMAGE, text)])
    look.cut = look.cut or only is not None
    differing = compare_pages(arrival.look, look, arrival.noise, secrets=secret_values(site))
    emptied = list(_emptied(arrival.look, look))
    empty = {o.page for o in emptied}  # what else such a page lacks follows from it
    return _Seen(look, [*(o for o in _weighed(differing, look) if o.page not in empty), *emptied])


def _weighed(differing: Sequence[Observation], look: Look) -> Iterator[Observation]:
    """Those differences that are trouble, with the weight that they have days later."""
    linked = {link for page in look.pages.values() if page.markup is not None for link in page.markup.links()}
    for seen in differing:
        if seen.kind in _OF_EDITORS and seen.weight is not Weight.NOTE:
            yield replace(seen, weight=Weight.DOUBT)
        elif seen.kind == "page-fails" and _is_away(look.pages.get(seen.page)) and seen.page not in linked:
            yield replace(seen, weight=Weight.DOUBT, text=f"{seen.page} is not there any more")
        elif (seen.kind in _ANY and seen.weight is not Weight.NOTE) or (
            seen.kind.startswith(_IF_DAMAGE) and seen.weight is Weight.DAMAGE
        ):
            yield seen


def _is_away(page: PageSeen | None) -> bool:
    return page is not None and page.status in (404, 410)


def _emptied(before: Look, after: Look) -> Iterator[Observation]:
    """Pages that load and say next to nothing any more."""
    for path, then in before.pages.items():
        now_there = after.pages.get(path)
        if now_there is None or not now_there.loads or now_there.redirect != then.redirect:
            continue
        was, are = _words(then), _words(now_there)
        if was >= WORDS_OF_A_PAGE and are < EMPTIED * was:
            text = f"{path} says next to nothing any more ({plural(are, 'word')} of {was})"
            yield Observation("emptied", "page", Weight.DAMAGE, text, path, f"{was} words", f"{are} words")


def _words(page: PageSeen) -> int:
    return sum(len(b.text.split()) for b in page.markup.blocks.values()) if page.markup is not None else 0


def _slower(site: SiteView, arrival: Arrival, only: Sequence[str] | None = None) -> list[Observation]:
    """Pages that take far longer than on arrival, and than in any later look in which nothing was wrong."""
    pages = [p for p in arrival.times if only is None or p in only]
    medians: dict[str, float] = {}
    found = []
    for path, taken in times_of(site, pages).items():
        medians[path] = after = median(taken)
        before = max(median(arrival.times[path]), arrival.slowest.get(path, 0.0))
        more = after - before
        far = after >= FAR_SLOWER * before and more >= SOME_SECONDS
        if (far or (after >= SLOWER * before and more >= MUCH_SECONDS)) and min(taken) > max(arrival.times[path]):
            text = f"{path} takes {duration(after)}; on arrival it took {duration(median(arrival.times[path]))}"
            found.append(Observation("slower", path, Weight.DOUBT, text, path))
    if only is None and not found and medians:
        # Not more than twice the arrival's, or what creeps would never be told.
        most = {p: min(m, SLOWER * median(arrival.times[p])) for p, m in medians.items()}
        slowest = {p: max(m, arrival.slowest.get(p, 0.0)) for p, m in most.items()}
        save_arrival_look(site.work, replace(arrival, slowest=slowest))
    return found


# -- logs, files, rows ----------------------------------------------------------------------------------------


def _of_logs(site: SiteView, arrival: Arrival) -> Iterator[Observation]:
    """Errors of a kind that no log had until the arrival, and far more of one that it had."""
    since = errors_in_logs(site, arrival.log_ends)
    for kind, count in since.counts.items():
        before = arrival.errors.get(kind, 0)
        if before and count < max(MANY_ERRORS, MORE_ERRORS * before):
            continue
        often = f", {count:,} times" if count > 1 else ""
        new = f"; {before:,} until the arrival" if before else ""
        text = f"new in {since.logs[kind]}{often}{new}: {since.lines[kind][:160]}"
        yield Observation("log", kind, Weight.DOUBT, text, after=since.lines[kind][:300])


def _of_state(way: WayBack, snapshot: Snapshot, known: Sequence[Snapshot]) -> Iterator[Observation]:
    """What is unusual in files and rows, against the arrival."""
    assert way.arrival is not None
    if snapshot.taken_at <= way.arrival.taken_at:
        return
    for item in unusual(way.arrival, snapshot, known):
        shown = ", ".join(item.examples[:5])
        text = f"{item.text}: {shown}" if shown else item.text
        yield Observation(item.kind, item.text, Weight(item.weight), text, after=shown)
