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
from keenharbor.compare import Look, Noise, Observation, compare_pages
from keenharbor.site.feed import Feed
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot
from keenharbor.trial.stage import Stage

CONTROL_PURPOSE = f"{TRIAL_PURPOSE}control"


class Control:
    """The second clone. Raises `KeenHarborError` where it cannot be made."""

    def __init__(self, live: SiteView, snapshot: Snapshot, feed: Feed, twin: Clone | None = None) -> None:
        """``twin``: the first one, as long as it was not started (see `make_clone`)."""
        with contextlib.ExitStack() as made:
            mailbox = made.enter_context(Mailbox())
            clone = make_clone(live, snapshot, CONTROL_PURPOSE, mail_port=mailbox.port, twin=twin)
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


def not_by_the_clock(
    observations: Sequence[Observation], control: Look, after: Look, noise: Noise, versions: Mapping[str, str],
    live: Sequence[str],
    earlier: Collection[tuple[str, str, str]] = (), secrets: Collection[str] = (),
) -> list[Observation]:  # fmt: skip
    """Those of ``observations`` (of the last look against the first) that also show when the last look is held against
    that at the ``control`` of the same moment: all others are on both sides.

    Where both show in one place, but are of another kind (the clock has moved a part of it), what the steps did is
    told; under the kind that it had in an ``earlier`` look, by whose identity it is laid to its step."""
    now = compare_pages(control, after, noise, versions, live, secrets)
    same = {o.identity for o in now}
    by_place: dict[tuple[str, str], Observation] = {}
    for seen in now:
        known = by_place.get((seen.place, seen.page))
        if known is None or seen.weight.rank < known.weight.rank:
            by_place[seen.place, seen.page] = seen
    kept = []
    for seen in observations:
        if seen.identity in same:
            kept.append(seen)
        elif (other := by_place.get((seen.place, seen.page))) is not None:
            kept.append(replace(other, kind=seen.kind) if seen.identity in earlier else other)
    return kept


def by_the_clock(before: Look, control: Look, noise: Noise) -> set[tuple[str, str, str]]:
    """Identities of what differs on the control from what was there at the beginning."""
    return {o.identity for o in compare_pages(before, control, noise)}
