"""Causes: findings that have one reason are put together, and told as one entry with what follows from it.

Two findings of one step are taken for one cause when any of these holds; the relation is closed over (union-find, as in
R. E. Tarjan, Efficiency of a Good But Not Linear Set Union Algorithm, 1975):

1. They are in one region of the markup (the same block) on pages that both have.
2. Their change is the same: what went and what came, by content, wherever it stands (where that is short: on the same
   pages).
3. One is a page that moved, is gone or fails, and the other a link that led there, or a block gone that bears its name.
4. One is a value in the database that changed, and the other shows that value going or coming on a page.
5. Both are keys of one setting (caches and maps of it are derived), or both definitions, or files of one area.
6. Both are notes or doubts of one area of the administration (pages behind a log-in, by the first part of their path):
   wording, layout, order. What is damage there is joined by page.
7. One is a block that is new, and the other a block of a page of it that changed without losing anything.
8. One is that the step failed (or that the site does not start), and the other a page, a check or the log-in that
   fails.
9. One is a check, and the other pages, that fail with one status; or both are checks (or the log-in) that fail for one
   reason; or one is a check that misses a form, and the other that form.
10. One is a line of the log, and the other a page, a file or a table that it names; or it is an error, and all that
   fails since that step has one cause; or it is rows that changed, and all that shows since that step has one cause.
11. One is of a table, and the other of a block that bears its name; or of a setting, and such a block went or came; or
   a table's definition and its rows are gone.

What a cache still shows is one cause of its own, whatever the steps. No cause may be swallowed: damage joins other
damage by 1 to 6, 8, 9 and 11 alone."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum

from keenharbor.base.text import plural
from keenharbor.compare import Finding, Weight
from keenharbor.compare.findings import what_changed
from keenharbor.compare.look import LOGGED_IN

SHORTEST_VALUE = 6
"""Shorter values stand in pages by chance."""
_SHORTEST_NAME, _SHORTEST_SLUG = 5, 4
_PAGE_IS_AWAY = ("page-moved", "page-gone", "page-fails")
_TO_PAGES = ("link-gone", "link-broken", "text-changed", "page-new", "redirect")
_ERROR = re.compile(r"(?i)\w*(error|exception)\b|\b(fatal|uncaught|refused|failed|not sent)\b")
_FAILS = ("page-fails", "check-failed", "log-in-failed")
_DATA = ("rows-", "schema-", "setting-", "table-")
_OWN = ("files", "edit-wiped", "left-over", "log", "live-changed")
_INTERFACE = (
    "block-new", "block-gone", "text-moved", "text-changed", "headings-changed", "order-changed", "title-changed",
    "link-gone", "page-new", "file-changed", "structured-changed",
)  # fmt: skip


class Noticed(StrEnum):
    """Who would notice it: a visitor, an editor who logs in, or nobody but who looks into files and database."""

    VISITORS = "visitors"
    EDITORS = "editors"
    NOBODY = "nobody yet"


@dataclass(frozen=True)
class Entry:
    """A cause: the finding that says it best, and those that follow from it."""

    head: Finding
    others: tuple[Finding, ...] = ()
    noticed: Noticed = Noticed.VISITORS
    area: str = ""

    @property
    def id(self) -> str:
        return self.head.id

    @property
    def findings(self) -> tuple[Finding, ...]:
        return (self.head, *self.others)

    @property
    def weight(self) -> Weight:
        return self.head.weight

    @property
    def step(self) -> str | None:
        return self.head.step

    @property
    def pages(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys(p for f in self.findings for p in f.pages))

    @property
    def text(self) -> str:
        """What it is, in a sentence."""
        if self.area:
            return f"the administration looks otherwise: {self.area}, on {plural(len(self.pages), 'page')}"
        return self.head.text

    @property
    def follows(self) -> str:
        """What follows, in words with counts; empty where nothing does."""
        counts: dict[str, int] = defaultdict(int)
        for finding in self.findings if self.area else self.others:
            counts[_SAID.get(finding.kind, finding.kind.replace("-", " "))] += 1
        parts = [f"{n} × {what}" if n > 1 else what for what, n in sorted(counts.items(), key=lambda c: (-c[1], c[0]))]
        return ", ".join(parts[:5]) + (" …" if len(parts) > 5 else "")

    def as_json(self) -> dict[str, object]:
        return {
            "id": self.id, "text": self.text, "weight": self.weight.value, "step": self.step,
            "noticed": self.noticed.value,
            "pages": len(self.pages), "follows": self.follows, "findings": [f.id for f in self.findings],
        }  # fmt: skip


_SAID = {
    "text-changed": "another text", "text-lost": "text lost", "text-moved": "text moved", "block-new": "new block",
    "block-gone": "block gone", "link-gone": "link gone", "link-broken": "broken link", "image-gone": "picture gone",
    "page-new": "new page", "rows-changed": "rows changed", "rows-new": "new rows", "rows-lost": "rows lost",
    "setting-changed": "setting changed", "setting-new": "new setting", "setting-lost": "setting lost",
    "schema-new": "new definition", "schema-changed": "definition changed", "schema-gone": "definition gone",
    "schema-unlike": "made otherwise",
    "title-changed": "another title", "headings-changed": "other headings", "order-changed": "another order",
    "picture": "looks otherwise", "log": "line in the log", "check-failed": "check fails", "page-fails": "page fails",
}  # fmt: skip


def entries(findings: Sequence[Finding]) -> list[Entry]:
    """Every finding in one entry; first what a visitor would notice, then what an editor would, then the rest, each the
    worst first; what is only told comes last."""
    groups = _Groups(len(findings))
    by_step: dict[str | None, list[int]] = defaultdict(list)
    for number, finding in enumerate(findings):
        by_step[finding.step].append(number)
    cached = [n for n, f in enumerate(findings) if f.kind == "stale-cache"]
    for number in cached:
        groups.join(cached[0], number)
    for numbers in by_step.values():
        for a, b in _pairs(findings, [n for n in numbers if findings[n].kind != "stale-cache"]):
            groups.join(a, b)
        _join_to_the_only_one(groups, findings, numbers)
    made = [_entry([findings[n] for n in members]) for members in groups.all()]
    order = list(Noticed)
    made.sort(key=lambda e: (e.weight is Weight.NOTE, order.index(e.noticed), e.weight.rank, -len(e.pages), e.id))
    return made


def _join_to_the_only_one(groups: _Groups, findings: Sequence[Finding], numbers: Sequence[int]) -> None:
    """Errors in the log belong to what fails since their step, and rows that changed to what shows since then, where
    that is one cause."""
    failing = [n for n in numbers if findings[n].kind in _FAILS]
    shown = [n for n in numbers if findings[n].pages or findings[n].kind in _FAILS]
    for number in numbers:
        finding = findings[number]
        if finding.kind == "log" and _ERROR.search(finding.after):
            belong = failing
        elif finding.kind == "rows-changed" and finding.weight is not Weight.DAMAGE:
            belong = [n for n in shown if findings[n].weight is not Weight.NOTE]
        else:
            continue
        if len({groups.of(n) for n in belong}) == 1:
            groups.join(belong[0], number)


def entry_of(findings: Sequence[Finding], wanted: str) -> Entry | None:
    """The entry that holds a finding; None where none does."""
    return next((e for e in entries(findings) if any(f.id == wanted for f in e.findings)), None)


class _Groups:
    """Disjoint sets of numbers."""

    def __init__(self, count: int) -> None:
        self._above = list(range(count))

    def of(self, number: int) -> int:
        """A number that stands for the set of this one."""
        while self._above[number] != number:
            self._above[number] = self._above[self._above[number]]
            number = self._above[number]
        return number

    def join(self, a: int, b: int) -> None:
        self._above[self.of(b)] = self.of(a)

    def all(self) -> list[list[int]]:
        found: dict[int, list[int]] = defaultdict(list)
        for number in range(len(self._above)):
            found[self.of(number)].append(number)
        return list(found.values())


def _pairs(findings: Sequence[Finding], numbers: Sequence[int]) -> Iterator[tuple[int, int]]:
    """Numbers of findings of one step that have one cause."""
    keyed: dict[tuple[str, ...], int] = {}
    for number in numbers:
        for key in _keys(findings[number]):
            first = keyed.setdefault(key, number)
            if first != number:
                yield first, number
    yield from _same_region(findings, numbers)
    yield from _same_name(findings, numbers)
    away = [n for n in numbers if findings[n].kind in _PAGE_IS_AWAY]
    values = [
        (n, v) for n in numbers if findings[n].kind in ("rows-changed", "setting-changed") for v in _values(findings[n])
    ]
    fresh = [n for n in numbers if findings[n].kind == "block-new"]
    failed = [n for n in numbers if findings[n].kind in ("step-failed", "does-not-start")]
    named = [n for n in numbers if findings[n].kind in ("page-fails", "left-over", "schema-gone")]
    forms = [n for n in numbers if findings[n].kind in ("field-lost", "form-gone")]
    for number in numbers:
        finding = findings[number]
        if finding.kind in _TO_PAGES:
            yield from ((n, number) for n in away if n != number and _leads_to(finding, findings[n]))
        if finding.kind == "block-gone":
            yield from ((n, number) for n in away if _bears_name_of(finding, findings[n]))
        if finding.kind in _FAILS:
            yield from ((n, number) for n in failed)
        if finding.kind in ("check-failed", "log"):
            yield from ((n, number) for n in named if _speaks_of(finding, findings[n]))
        if finding.kind == "check-failed":
            yield from ((n, number) for n in forms if f"the form '{findings[n].place}'" in finding.after)
        if finding.pages:
            shown = f"{finding.before}\n{finding.after}"
            yield from ((n, number) for n, value in values if value in shown)
        if finding.kind in ("text-moved", "text-changed") and finding.weight is not Weight.DAMAGE:
            yield from ((n, number) for n in fresh if set(findings[n].pages) & set(finding.pages))


def _keys(finding: Finding) -> Iterator[tuple[str, ...]]:
    """Findings that share one of these have one cause."""
    before, after = what_changed(finding.before, finding.after)
    if finding.pages and len(before) + len(after) >= SHORTEST_VALUE:
        yield "change", before, after
    elif finding.pages and (before or after):
        yield ("short change", finding.kind, before, after, *finding.pages)
    if finding.kind.startswith("setting-"):
        yield "setting", finding.place.partition(".")[0]
    if finding.kind.startswith("schema-") and finding.weight is Weight.NOTE:
        yield ("definitions", str(finding.kind == "schema-unlike"))
    if finding.kind == "schema-unlike" and finding.before and finding.after:
        yield "unlike", finding.before, finding.after
    if finding.kind in ("check-failed", "log-in-failed") and finding.after:
        yield "failure", finding.after
    if finding.kind in ("rows-lost", "schema-gone"):
        # What stands on a table goes with it.
        yield "table", finding.place.removeprefix("table ").rpartition(" on ")[2].rpartition(".")[2]
    if finding.kind == "files":
        yield "files", finding.place.partition(" ")[0]
    area = area_of(finding)
    if area and finding.kind in _INTERFACE and finding.weight is not Weight.DAMAGE:
        yield "area", area
    if area and finding.weight is Weight.DAMAGE and finding.kind not in _PAGE_IS_AWAY:
        yield from (("page of editors", p.removesuffix(LOGGED_IN).partition("?")[0]) for p in finding.pages)


def _same_region(findings: Sequence[Finding], numbers: Sequence[int]) -> Iterator[tuple[int, int]]:
    by_place: dict[str, list[int]] = defaultdict(list)
    for number in numbers:
        if findings[number].pages:
            by_place[findings[number].place].append(number)
    for members in by_place.values():
        for at, number in enumerate(members):
            pages = set(findings[number].pages)
            yield from ((number, other) for other in members[at + 1 :] if pages & set(findings[other].pages))


def _same_name(findings: Sequence[Finding], numbers: Sequence[int]) -> Iterator[tuple[int, int]]:
    """Tables and settings, and blocks that are called after them."""
    tables: dict[str, int] = {}
    settings: dict[str, int] = {}
    for number in numbers:
        finding = findings[number]
        if finding.kind.startswith("rows-"):
            tables |= {name.replace("_", "-"): number for name in (finding.place, *finding.place.split("_"))}
        elif finding.kind.startswith("setting-"):
            settings |= {name.replace("_", "-"): number for name in finding.place.split(".")}
    for number in numbers:
        finding = findings[number]
        name = finding.place.lstrip("#").replace("_", "-")
        if finding.pages and len(name) >= _SHORTEST_NAME:
            if name in tables:
                yield tables[name], number
            # A setting places a block; what it says comes from elsewhere.
            if name in settings and finding.kind in ("block-gone", "block-new"):
                yield settings[name], number


def area_of(finding: Finding) -> str:
    """The part of the administration that a finding is of: the beginning of its pages' paths; empty where a visitor
    sees it, too."""
    if not finding.pages or not all(p.endswith(LOGGED_IN) for p in finding.pages):
        return ""
    tops = {p.removesuffix(LOGGED_IN).strip("/").partition("/")[0].partition("?")[0] for p in finding.pages}
    return min(tops) or "start"


def _values(finding: Finding) -> Iterator[str]:
    """The values of a change in the data that may be seen in pages."""
    for side in (finding.before, finding.after):
        text = side.partition(": ")[2] if finding.kind == "rows-changed" else side
        for part in re.split(r",\s(?=\w+ = )", text):
            value = part.partition(" = ")[2] if " = " in part else part
            for shown in {value, re.sub(r"<[^<>]*>?", " ", value)}:  # pages show it without its markup
                bare = shown.rstrip("…").strip()
                if len(bare) >= SHORTEST_VALUE:
                    yield bare


def _leads_to(finding: Finding, away: Finding) -> bool:
    """Whether what changed in a finding are links that led to pages which are away (or to where they are now)."""
    gone = {p.removesuffix(LOGGED_IN) for p in away.pages} | {away.place, away.after}
    linked = {w.strip(",") for w in f"{finding.before} {finding.after}".split()} | {finding.place}
    return bool({g for g in gone if g.startswith("/")} & linked)


def _bears_name_of(block: Finding, away: Finding) -> bool:
    """Whether a block is called after a page that is away (an entry of a menu)."""
    names = set(re.split(r"[-_#]", block.place.lower()))
    slugs = {p.removesuffix(LOGGED_IN).partition("?")[0].strip("/").rpartition("/")[2].lower() for p in away.pages}
    return any(len(s) >= _SHORTEST_SLUG and (s in names or block.place.lower().endswith(f"-{s}")) for s in slugs)


def _speaks_of(finding: Finding, other: Finding) -> bool:
    """Whether a failed check met what pages fail with, or a line of the log names a page or a file of ``other``."""
    said = f"{finding.text} {finding.after}"
    if finding.kind == "check-failed":
        return other.kind == "page-fails" and f"{other.place}," in f"{said},"
    names = other.pages or (other.place.removeprefix("table "), *other.after.split(", "))
    return any(re.search(rf"(?<![\w/.-]){re.escape(n)}(?![\w/-])", said) for n in names if len(n) > 2)


_BEST = (
    "does-not-start", "step-failed", "log-in-failed", "page-fails", "page-moved", "page-gone", "check-failed",
    "rows-lost",
    "setting-lost",
)  # fmt: skip
"""What says best what has happened, where several are as bad."""


def _entry(members: Sequence[Finding]) -> Entry:
    def best(finding: Finding) -> tuple[int, int, int, int, int]:
        known = _BEST.index(finding.kind) if finding.kind in _BEST else len(_BEST)
        part = finding.kind.startswith("schema-") and " on " in finding.place  # it went with its table
        return (finding.weight.rank, known, not finding.pages, -len(finding.pages), part)

    head, *others = sorted(members, key=best)
    area = area_of(head)
    together = bool(area) and len(members) > 1 and all(f.weight is not Weight.DAMAGE for f in members)
    return Entry(
        head, tuple(others), min((_noticed(f) for f in members), key=list(Noticed).index), area if together else ""
    )


def _noticed(finding: Finding) -> Noticed:
    if finding.kind.startswith(_DATA) or finding.kind in _OWN:
        return Noticed.NOBODY
    return Noticed.EDITORS if area_of(finding) else Noticed.VISITORS
