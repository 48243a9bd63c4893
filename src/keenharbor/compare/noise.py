"""Noise: what differs between looks at a site that nobody has changed. Learnt, not asked about."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from keenharbor.compare.look import LOGGED_IN, Look, PageSeen
from keenharbor.compare.markup import Markup


@dataclass(frozen=True)
class Noise:
    """Blocks that differ by themselves: on one page (path, block), or on every page (block alone); pages whose status,
    checks whose outcome, and files whose content is not the same twice. What is of a whole page stands among the blocks
    with an @ before its name; a block of whose text only numbers, with the word behind each, differ by themselves
    (``3 minutes ago``) with a %: all else of it counts."""

    on_page: frozenset[tuple[str, str]] = frozenset()
    everywhere: frozenset[str] = frozenset()
    pages: frozenset[str] = frozenset()
    checks: frozenset[str] = frozenset()
    files: frozenset[str] = frozenset()

    def __or__(self, other: Noise) -> Noise:
        """What either has learnt."""
        return Noise(
            self.on_page | other.on_page,
            self.everywhere | other.everywhere,
            self.pages | other.pages,
            self.checks | other.checks,
            self.files | other.files,
        )

    def covers(self, path: str, block: str) -> bool:
        """Whether a difference in that block of that page means nothing."""
        return block in self.everywhere or (_base(path), block) in self.on_page

    def moves(self, path: str, block: str) -> bool:
        """Whether anything of that block differs by itself: so it does in a picture."""
        return self.covers(path, block) or self.covers(path, f"%{block}")

    def text(self, path: str, block: str, text: str) -> str:
        """The text of a block as far as it means something."""
        return without_numbers(text) if self.covers(path, f"%{block}") else text

    def covers_aspect(self, path: str, aspect: str) -> bool:
        """Whether the page's title, headers or another thing of the whole page differ by themselves."""
        return (_base(path), f"@{aspect}") in self.on_page

    def listing(self) -> list[str]:
        """What was learnt, in words."""
        return [
            *(f"{_told(b)} on every page" for b in sorted(self.everywhere)),
            *(f"{_told(b)} on {p}" for p, b in sorted(self.on_page) if b not in self.everywhere and b[0] != "@"),
            *(f"{b[1:]} of {p}" for p, b in sorted(self.on_page) if b[0] == "@"),
            *(f"file {f}" for f in sorted(self.files)),
            *(f"page {p}: its status" for p in sorted(self.pages)),
            *(f"check '{c}'" for c in sorted(self.checks)),
        ]


def _told(block: str) -> str:
    return f"numbers in block {block[1:]}" if block[0] == "%" else f"block {block}"


def without_numbers(text: str) -> str:
    """A text without its numbers and the word behind each: what a page says of ages and counts."""
    return _NUMBER.sub("#", text)


_NUMBER = re.compile(r"\d[\d.,:]*(?:\s?[^\W\d]+)?")

ASPECTS = ("title", "description", "canonical", "robots", "structured")
"""What of a whole page is compared."""

SAME_EVERYWHERE = 3
"""A block that is noisy on so many pages is taken for noisy on all: a random pick may fall alike twice on some."""


def learn_noise(looks: Sequence[Look]) -> Noise:
    """What differs among ``looks`` (and among the visits within each) of an unchanged site."""
    on_page: set[tuple[str, str]] = set()
    pages: set[str] = set()
    for path in {p for look in looks for p in look.pages}:
        seen = [look.pages[path] for look in looks if path in look.pages]
        if len({(s.status, s.leads or s.redirect) for s in seen}) > 1:
            pages.add(path)
        variants = [m for s in seen for m in _markups(s)]
        for block in {b for m in variants for b in m.blocks}:
            if len({_content(m, block) for m in variants}) > 1:
                numbers = len({_content(m, block, without_numbers) for m in variants}) == 1
                on_page.add((_base(path), f"%{block}" if numbers else block))
        on_page |= {
            (_base(path), f"@form {f}") for m in variants for f in m.forms if any(f not in o.forms for o in variants)
        }
        on_page |= {(_base(path), f"@{a}") for a in ASPECTS if len({repr(getattr(m, a)) for m in variants}) > 1}
        if len({m.styles() for m in variants}) > 1:
            on_page.add((_base(path), "@styles"))
        if len({repr(s.headers) for s in seen if s.loads}) > 1:
            on_page.add((_base(path), "@headers"))
    counts = Counter(block for _, block in on_page if block[0] != "@")
    contents = [look.files for look in looks]
    files = frozenset(f for c in contents for f in c if len({d.get(f) for d in contents if f in d}) > 1)
    names = {name for look in looks for name in look.checks}
    unsure = {n for n in names if len({look.checks[n].problem for look in looks if n in look.checks}) > 1}
    everywhere = frozenset(b for b, n in counts.items() if n >= SAME_EVERYWHERE)
    return Noise(frozenset(on_page), everywhere, frozenset(pages), frozenset(unsure), files)


def _base(path: str) -> str:
    """A path without its query: the same page, asked in another way, makes the same noise."""
    bare = path.removesuffix(LOGGED_IN)
    return bare.split("?", 1)[0] + path[len(bare) :]


def _markups(page: PageSeen) -> Iterator[Markup]:
    if page.markup is not None:
        yield page.markup
    yield from page.samples


def _content(markup: Markup, block: str, of: Callable[[str], str] = str) -> tuple[object, ...] | None:
    found = markup.blocks.get(block)
    return None if found is None else (of(found.text), tuple(found.links), tuple(found.images), tuple(found.headings))
