"""Which pages stand for all others between the steps of a trial.

All pages are looked at before the first step and behind the last. In between it is one page of each kind of address
(`/growers/*`), the starts, what pictures are taken of, and pages of what a step changes: stratified sampling with one
unit a stratum (Cochran, "Sampling Techniques", 1977, 5A.12), since pages of one kind come from one template. What only
the last look shows is laid to its step by halving the steps before it (`keenharbor.trial.halving`)."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Sequence

from keenharbor.compare import Look
from keenharbor.compare.look import LOGGED_IN, PageSeen
from keenharbor.compare.route import plain_parts
from keenharbor.trial.record import as_plain
from keenharbor.trial.steps import StepBase

FROM_PAGES = 60
"""Sites of fewer pages are looked at as a whole behind each step."""
MOST = 60
_FEW_AT_THE_TOP = 15
_SHORTEST_WORD = 4
_OF_A_WORD = 3


def stands_for_all(
    look: Look, starts: Sequence[str], steps: Sequence[StepBase], pictured: Collection[str] = ()
) -> list[str]:
    """The pages to be looked at behind ``steps``, in the order of the look; all of them where they are few."""
    if len(look.pages) <= FROM_PAGES:
        return list(look.pages)
    first: dict[tuple[object, ...], str] = {}
    parents = parents_of(look.pages)
    for path, page in look.pages.items():
        first.setdefault((shape(path, parents), _forms(page), page.status), path)
    meant = [
        path for word in dict.fromkeys(w for s in steps for w in _words(s))
        for path in [p for p in look.pages if word in p.lower()][:_OF_A_WORD]
    ]  # fmt: skip
    wanted = list(dict.fromkeys([*starts, *meant, *first.values()]))[:MOST]
    chosen = {*wanted, *pictured}
    return [p for p in look.pages if p in chosen]


def _words(step: StepBase) -> list[str]:
    """What a step names: its extension, its package, its table."""
    said = [str(v).lower() for k, v in as_plain(step).items() if k in ("extension", "package", "name", "table")]
    return [w for w in said if len(w) >= _SHORTEST_WORD]


def _forms(page: PageSeen) -> tuple[str, ...]:
    return tuple(sorted(page.markup.forms)) if page.markup is not None else ()


def parents_of(paths: Collection[str]) -> set[tuple[str, ...]]:
    """Beginnings of addresses below which several pages stand, and the names at the top where these are few: there each
    page is one of its own."""
    below: Counter[tuple[str, ...]] = Counter()
    for bare in {p.removesuffix(LOGGED_IN).split("?", 1)[0] for p in paths}:
        parts = tuple(plain_parts(bare))
        below.update(parts[:end] for end in range(1, len(parts)))
    top = {tuple(plain_parts(p.removesuffix(LOGGED_IN))[:1]) for p in paths}
    return {begin for begin, count in below.items() if count > 1} | (top if len(top) <= _FEW_AT_THE_TOP else set())


def shape(path: str, parents: Collection[tuple[str, ...]]) -> str:
    """The kind of an address: ``#`` for numbers, ``*`` for names below which nothing stands, the names of what is asked
    for without what it is."""
    bare = path.removesuffix(LOGGED_IN)
    parts = plain_parts(bare)
    told = [p if p in ("", "#") or tuple(parts[: n + 1]) in parents else "*" for n, p in enumerate(parts)]
    query = sorted(q.split("=", 1)[0] for q in bare.partition("?")[2].split("&") if q)
    return "/".join(told) + ("?" + "&".join(query) if query else "") + (LOGGED_IN if bare != path else "")
