"""What could be seen behind a step: a page that does not load, or a site that does not start, shows nothing of the
other differences on it, and heals none of them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from keenharbor.compare import Look, Observation
from keenharbor.compare.look import LOGGED_IN
from keenharbor.compare.markup import Markup
from keenharbor.compare.pages import bare
from keenharbor.trial.record import SeenStep

AWAY = ("page-fails", "page-gone", "page-moved", "redirect", "redirect-loop")
"""Differences of a page behind which nothing else of it shows."""
BY_LINK = ("link-broken", "page-new")
"""Differences of a page that was not there before: they show on those that lead to it."""


def in_sight(look: Look | None, page: str, before: Look) -> bool | None:
    """Whether a look shows what a page says: not where it fails, is gone, or sends visitors elsewhere; not where
    nothing started (no look), nor on pages of members where nobody can log in. None where the look was not at that
    page, or it was not there before."""
    if look is None:
        return False
    if page not in before.pages:
        return None
    seen, earlier = look.pages.get(page), before.pages[page]
    if seen is not None:
        sent_as_before = seen.redirect is None or seen.redirect == earlier.redirect
        return seen.loads and sent_as_before
    if page.endswith(LOGGED_IN) and look.log_in_problem is not None:
        return False
    return None if look.cut else False


def pages_showing(seen: Observation, before: Look, look: Look | None) -> Iterator[str]:
    """The pages of ``before`` on which a difference shows: its own; those that ask for its file; those that lead to it
    in ``look``, where it was found."""
    if seen.page and seen.kind not in BY_LINK:
        yield seen.page
        return
    for path, page in before.pages.items():
        now = look.pages.get(path) if look is not None else None
        markups = [p.markup for p in (page, now) if p is not None and p.markup is not None]
        if seen.page:
            if now is not None and now.markup is not None and seen.page in now.markup.links():
                yield path
        elif any(_asks_for(markup, seen.place) for markup in markups):
            yield path


def _asks_for(markup: Markup, file: str) -> bool:
    return any(bare(a) == bare(file) for a in (*markup.assets, *markup.images()))


def out_of_sight_since(steps: Sequence[SeenStep], page: str, before: Look, start: int) -> int | None:
    """The number of the first step from ``start`` on that hides a page; None where one of them, or the end, shows it.
    At pages that were not looked at behind a step, what was found out about them counts (see
    `keenharbor.trial.halving`)."""
    if start >= len(steps) or in_sight(steps[-1].look, page, before) is not False:
        return None
    since = None
    for number in range(len(steps) - 1, start - 1, -1):
        sight = in_sight(steps[number].look, page, before)
        if sight:
            return None
        if sight is False or any(o.page == page and o.kind in AWAY for o in steps[number].observations):
            since = number
    return since
