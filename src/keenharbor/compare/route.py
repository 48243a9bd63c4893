"""Which pages a look visits, and in which order, where there are more than it may.

First where it starts and what is linked from there (the menus), then some pages of each kind of address: those of one
kind come from one template (stratified sampling; Cochran, "Sampling Techniques", 1977, 5.1). What is left goes to the
rest, kind by kind in turn, those first that the site's own lists say changed last."""

from __future__ import annotations

import re
import time
from collections import Counter, deque
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

from keenharbor.compare.markup import Markup
from keenharbor.compare.visitor import Visitor
from keenharbor.site.model import LookPart

EACH = 20
"""So many pages of a kind are visited before any more of it."""
QUERY_VARIANTS = 2
"""Pages that differ only in their query: no more of them than this."""
MOST_LEFT = 20_000
_MENUS = 100
NUMBERED = 20
"""Pages that differ only in one number that is asked for (``/?p=12``) may be all of a site's content, or a calendar
without end: no more of them than this."""
_ENDS_A_VISIT = re.compile(r"(?i)(log|sign)[-_]?(out|off)|delete|remove|unsubscribe|cancel")
_DOES_SOMETHING = re.compile(
    r"(?i)[?&;][^=&;]*(?:nonce|token|csrf|xsrf|sesskey)[^=&;]*=|"
    r"[?&;](?:action|act|do|op|task|cmd)=[^&;]*(?:trash|approv|spam|install|updat|upgrad|activ|enabl|disabl|publish|purg|"
    r"clear|reset|empty|block|ban|restor|revert|sync|send)"
)
"""Links of members that change the site by being visited: what can be done once carries a word that is made for it, or
is named."""
_ONE_NUMBER = re.compile(r"[^?]*\?[\w.-]+=\d+")


def plain_parts(path: str) -> list[str]:
    """The parts of an address, ``#`` for numbers."""
    return ["#" if part.isdigit() else part for part in path.partition("?")[0].strip("/").split("/")]


class Kinds:
    """Tells kinds of addresses apart, by where they stand and the names of what is asked for: where many names stand
    below one address, each counts as any."""

    def __init__(self) -> None:
        self._below: dict[tuple[str, ...], set[str]] = {}

    def of(self, path: str) -> str:
        """The kind of an address, as far as it can be told by those that were asked for before."""
        told: tuple[str, ...] = ()
        for part in plain_parts(path)[:-1]:
            names = self._below.setdefault(told, set())
            if len(names) <= EACH:
                names.add(part)
            told = (*told, "*" if len(names) > EACH else part)
        names = {q.partition("=")[0] for q in path.partition("?")[2].split("&") if q}
        return "/".join((*told, "*")) + ("?" + "&".join(sorted(names)) if names else "")


class Route:
    """The way through one walk. ``listed`` are pages of the site's own lists, each with the day of its last change
    (empty where that is not said); ``known`` ones are not followed to; as a ``member`` nothing that may end the
    visit."""

    def __init__(
        self, part: LookPart, starts: Sequence[str], listed: Mapping[str, str], known: Collection[str] = (), *,
        member: bool = False,
    ) -> None:  # fmt: skip
        self._part, self._listed, self._member = part, listed, member
        self._next = deque(dict.fromkeys(starts))
        self._seen = {*self._next, *known}
        self._first = set(part.starts)
        self._menus = 0
        self._variants = Counter(path.partition("?")[0] for path in self._next if "?" in path)
        self._kinds = Kinds()
        self._of_kind: Counter[str] = Counter()
        self._later: dict[str, deque[str]] = {}
        self._sorted = False

    def coming(self, most: int) -> list[str]:
        """The next pages, so many at most."""
        if not self._next:
            self._take_listed()
        if not self._next:
            self._take_later(most)
        return [self._next.popleft() for _ in range(min(most, len(self._next)))]

    def follow(self, path: str, redirect: str | None, markup: Markup | None) -> None:
        """Go on from a page that was visited."""
        found = [redirect] if redirect and redirect.startswith("/") else []
        if markup is not None:
            found += markup.links()
        for link in found:
            if link in self._seen or not self._part.follows(link):
                continue
            if self._member and (_ENDS_A_VISIT.search(link) or _DOES_SOMETHING.search(link)):
                continue
            if "?" in link:
                numbered = _ONE_NUMBER.fullmatch(link) is not None
                base = link.rpartition("=")[0] if numbered else link.partition("?")[0]
                self._variants[base] += 1
                if self._variants[base] > (NUMBERED if numbered else QUERY_VARIANTS):
                    continue
            self._seen.add(link)
            in_menu = path in self._first and self._menus < _MENUS
            self._menus += in_menu
            self._put(link, at_once=in_menu)

    @property
    def waiting(self) -> int:
        """How many pages are known and to come."""
        return len(self._next) + sum(map(len, self._later.values()))

    def left(self) -> list[str]:
        """The pages that are known of and were not visited."""
        listed = (p for p in self._listed if p not in self._seen and self._part.follows(p))
        return [*self._next, *(p for pages in self._later.values() for p in pages), *listed][:MOST_LEFT]

    def _put(self, link: str, *, at_once: bool = False) -> None:
        kind = self._kinds.of(link)
        self._of_kind[kind] += 1
        if at_once or self._of_kind[kind] <= EACH:
            self._next.append(link)
        else:
            self._later.setdefault(kind, deque()).append(link)
            self._sorted = False

    def _take_listed(self) -> None:
        for path in self._listed:
            if path not in self._seen and self._part.follows(path):
                self._seen.add(path)
                self._put(path)

    def _take_later(self, most: int) -> None:
        """Some of those that were put off: of each kind in turn, newest first."""
        if not self._sorted:
            for kind, pages in self._later.items():
                self._later[kind] = deque(sorted(pages, key=lambda p: self._listed.get(p, ""), reverse=True))
            self._sorted = True
        while self._later and len(self._next) < most:
            for kind in list(self._later):
                self._next.append(self._later[kind].popleft())
                if not self._later[kind]:
                    del self._later[kind]


@dataclass
class Budget:
    """How long one look may take (seconds on the monotonic clock) and how many requests it may send; None: as it
    wants. ``spent`` says in words what has ended it."""

    until: float | None
    requests: int | None
    said: str
    spent: str = ""
    _whole: Budget | None = None

    @classmethod
    def of(cls, part: LookPart) -> Budget:
        """What the site file allows, from now on."""
        until = None if part.minutes is None else time.monotonic() + part.minutes * 60
        said = [f"{part.minutes:g} minutes" if part.minutes is not None else "",
                f"{part.requests} requests" if part.requests is not None else ""]  # fmt: skip
        return cls(until, part.requests, " or ".join(s for s in said if s))

    def share(self, part: float) -> Budget:
        """One for a part of what is left."""
        now = time.monotonic()
        until = None if self.until is None else now + (self.until - now) * part
        return Budget(until, None if self.requests is None else int(self.requests * part), self.said, "", self)

    @property
    def is_open(self) -> bool:
        """Whether there is none."""
        return self.until is None and self.requests is None

    def is_spent(self, visitor: Visitor) -> bool:
        """Whether the look is to end now."""
        over = (self.until is not None and time.monotonic() >= self.until) or (
            self.requests is not None and visitor.sent >= self.requests
        )
        if over:
            self.spent = self.said
            if self._whole is not None:
                self._whole.spent = self.said
        return over
