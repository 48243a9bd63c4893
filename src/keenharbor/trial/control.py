"""The control: a second clone of the same snapshot on which no step is carried out.

It is served as long as the trial's own clone and visited at the same moments. What differs on it at the end from what
was there at the beginning the clock has done (ages, dates, expired caches), and visits; what differs on both alike is
no step's doing. The principle is that of a controlled experiment (R. A. Fisher, The Design of Experiments, 1935)."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Collection, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

from keenharbor.clone.clone import Clone
from keenharbor.clone.facts import TRIAL_PURPOSE
from keenharbor.clone.mailbox import Mailbox
from keenharbor.clone.making import make_clone
from keenharbor.compare import Look, Noise, Observation, Weight, compare_pages
from keenharbor.compare.look import LOGGED_IN, TIMED_PAGES, Far, PageSeen
from keenharbor.compare.route import Kinds
from keenharbor.site.feed import Feed
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot
from keenharbor.trial.stage import Stage

CONTROL_PURPOSE = f"{TRIAL_PURPOSE}control"
FINAL_SAMPLES = 8
MOST_ADDED = 60
"""So many pages are looked at beside, where others of their kind differ."""
_LOOKED_AT_OFTEN, _OFTEN = 40, 4
"""Of pages that are not what they were so many are visited so often on the control: what differs by itself shows."""


class Control:
    """The second clone. Raises `KeenHarborError` where it cannot be made."""

    def __init__(
        self, live: SiteView, snapshot: Snapshot, feed: Feed, twin: Clone | None = None, like: str | None = None
    ) -> None:
        """``twin``: the first one, as long as it was not started; ``like``: the environment that it gets one of its own
        of, where live's is another one (see `make_clone`)."""
        with contextlib.ExitStack() as made:
            mailbox = made.enter_context(Mailbox())
            clone = make_clone(
                live,
                snapshot,
                CONTROL_PURPOSE,
                mail_port=mailbox.port,
                twin=twin,
                environment=like is not None,
                like=like,
            )
            made.callback(clone.drop)
            self._made = made.pop_all()
        self.stage = Stage(live, clone, mailbox, feed)

    def start(self) -> None:
        """Serve it. Raises `KeenHarborError` when it does not start."""
        self.stage.clone.start()

    def drop(self) -> None:
        """Stop and remove it."""
        self._made.close()


def look_at_both(stage: Stage, control: Control | None, look: Callable[[Stage], Look]) -> tuple[Look, Look | None]:
    """The same look at the trial's clone and, at the same time, at the control."""
    if control is None:
        return look(stage), None
    with ThreadPoolExecutor(1) as beside:
        theirs = beside.submit(look, control.stage)
        return look(stage), theirs.result()


def look_at_the_end(
    stage: Stage, control: Control | None, before: Look, noise: Noise
) -> tuple[Look, Look | None]:  # fmt: skip
    """The last look, at every page; and one at the control: at the same time at the pages that are timed, and right
    behind it at those others that are not what they were. A page that says what it said needs no second opinion."""
    far, pages = Far(1, as_before=before), tuple(before.pages)
    if control is None:
        return stage.look(pages, samples=FINAL_SAMPLES, noise=noise, far=far), None
    near = pages[:TIMED_PAGES]
    with ThreadPoolExecutor(1) as beside:
        theirs = beside.submit(
            lambda: control.stage.look(
                samples=FINAL_SAMPLES,
                noise=noise,
                only=near if len(pages) > len(near) else None,
                also=pages if len(pages) <= len(near) else (),
            )
        )
        after = stage.look(pages, samples=FINAL_SAMPLES, noise=noise, far=far)
        end = theirs.result()
    if len(pages) <= len(near):
        return after, end
    end.cut = True
    others = [p for p in pages[TIMED_PAGES:] if p in after.pages and not _is_as_before(before.pages[p], after.pages[p])]
    for some, often in ((others[:_LOOKED_AT_OFTEN], _OFTEN), (others[_LOOKED_AT_OFTEN:], 1)):
        if some:
            more = control.stage.look(
                samples=often, learn=True, noise=noise, only=some, checks=False, timed=False,
                far=Far(often, served=False),
            )  # fmt: skip
            end.pages |= {p: s for p, s in more.pages.items() if p in some}
            end.assets, end.files = more.assets | end.assets, more.files | end.files
    return after, end


def _is_as_before(before: PageSeen, after: PageSeen) -> bool:
    return (before.status, before.redirect, before.markup) == (after.status, after.redirect, after.markup)


def not_by_the_clock(
    observations: Sequence[Observation], control: Look, after: Look, noise: Noise, versions: Mapping[str, str],
    live: Sequence[str],
    earlier: Collection[tuple[str, str, str]] = (), secrets: Collection[str] = (), before: Collection[str] = (),
) -> list[Observation]:  # fmt: skip
    """Those of ``observations`` (of the last look against the first) that also show when the last look is held against
    that at the ``control`` of the same moment: all others are on both sides.

    Where both show in one place, but are of another kind (the clock has moved a part of it), what the steps did is
    told; under the kind that it had in an ``earlier`` look, by whose identity it is laid to its step. Pages that were
    not there ``before`` are new on both sides when pages of the control lead to them, too."""
    linked = {link for page in control.pages.values() if page.markup is not None for link in page.markup.links()}
    now = compare_pages(control, after, noise, versions, live, secrets)
    same = {o.identity for o in now}
    by_place: dict[tuple[str, str], Observation] = {}
    for seen in now:
        known = by_place.get((seen.place, seen.page))
        if known is None or seen.weight.rank < known.weight.rank:
            by_place[seen.place, seen.page] = seen
    kept = []
    for seen in observations:
        unseen = control.cut and seen.page and seen.page not in control.pages
        if (unseen and (seen.page in before or seen.page not in linked)) or seen.identity in same:
            kept.append(seen)
        elif (other := by_place.get((seen.place, seen.page))) is not None:
            kept.append(replace(other, kind=seen.kind) if seen.identity in earlier else other)
    return kept


def by_the_clock(before: Look, control: Look, noise: Noise) -> set[tuple[str, str, str]]:
    """Identities of what differs on the control from what was there at the beginning."""
    return {o.identity for o in compare_pages(before, control, noise)}


def pages_to_add(before: Look, observations: Sequence[Observation]) -> list[str]:
    """Pages that no look was at, of the kinds of address on which there are differences that are more than notes."""
    kinds = Kinds()

    def kind_of(path: str) -> str:
        bare = path.removesuffix(LOGGED_IN)
        return kinds.of(bare) + path[len(bare) :]

    for path in (*before.pages, *before.left):
        kind_of(path)  # only then what varies is told
    differing = {kind_of(o.page) for o in observations if o.page in before.pages and o.weight is not Weight.NOTE}
    chosen: dict[str, list[str]] = {}
    for path in before.left:
        if (kind := kind_of(path)) in differing:
            chosen.setdefault(kind, []).append(path)
    return [p for pages in chosen.values() for p in pages[: max(1, MOST_ADDED // len(chosen))]][:MOST_ADDED]
