"""What is unusual between two snapshots: damage that creeps in, which no page shows.

Between two snapshots with no upgrade the core's files and those of extensions stand still; there is no code in folders
of uploads; rights do not widen; and a table does not lose or gain in a day what it never did before. How much a table
changes is measured from the site's own earlier snapshots."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from itertools import pairwise
from pathlib import PurePosixPath

from keenharbor.base.errors import DamagedError
from keenharbor.base.text import plural
from keenharbor.snapshot.manifest import Snapshot
from keenharbor.tree import Entry

_CODE_AREAS = {"core": "the core", "extensions": "extensions", "themes": "themes"}
_CODE_NAMES = re.compile(
    r".*\.(php\d?|phtml|phar|phps|py|pyc|pl|cgi|rb|jsp|jspx|asp|aspx|sh|exe|so)(\.[a-z0-9]{1,5})?|\.htaccess|"
    r"\.user\.ini",
    re.IGNORECASE,
)
_CODE_STARTS = (b"<?php", b"<?=", b"#!", b"\x7fELF", b"MZ\x90")
_LOOKED_AT = 64 * 1024 * 1024
"""Bytes of new files in folders of uploads whose beginning is read."""
_SHOWN = 20
_MOST_EARLIER = 30
_LEAST_ROWS, _LEAST_SHARE = 20, 0.1
_TIMES_BEFORE = 3.0
_SHORTEST_GAP = 6 * 3600
_OTHERS_DOING = frozenset(("after a cutover", "before a rollback"))
"""What changed up to such a snapshot an upgrade did, or may have done."""
_LEAST_EXPECTED, _LEAST_DAYS, _LEAST_GAPS = 7.0, 7.0, 5
"""A table that got rows in each of so many times between snapshots, over so many days, and would have got so many by
now: where rows come one by one the chance of none is e to the power of minus that (Poisson), one in a thousand."""


@dataclass(frozen=True)
class Unusual:
    """A thing that is out of the ordinary: its kind, whether it is ``damage`` or ``doubt``, in words, examples, how
    many."""

    kind: str
    weight: str
    text: str
    examples: tuple[str, ...]
    count: int

    def as_json(self) -> dict[str, object]:
        return {
            "kind": self.kind, "weight": self.weight, "text": self.text, "examples": list(self.examples),
            "count": self.count,
        }  # fmt: skip


def unusual(before: Snapshot, after: Snapshot, earlier: Sequence[Snapshot] = ()) -> list[Unusual]:
    """What is unusual in ``after``, worst first; ``earlier`` are snapshots of the site from before it, in any order."""
    a, b = before.entries, after.entries
    found = [*_code_that_changed(before, after), *_code_among_uploads(after, a, b), *_rights(a, b)]
    found += _rows(before, after, [s for s in earlier if s.taken_at <= before.taken_at])
    return sorted(found, key=lambda u: (u.weight != "damage", u.kind))


def _told(kind: str, weight: str, text: str, paths: Sequence[str]) -> Unusual:
    return Unusual(kind, weight, text, tuple(paths[:_SHOWN]), len(paths))


# -- files ----------------------------------------------------------------------------------------------------


def _versions(snapshot: Snapshot) -> dict[str, str]:
    """By folder of the site ("" is the core's), which version stands there."""
    facts = snapshot.manifest.facts
    found = {"": facts.core}
    for component in facts.components:
        name = str(component.get("folder") or component.get("name") or "")
        found[name] = str(component.get("version") or "")
    return found


def _code_that_changed(before: Snapshot, after: Snapshot) -> Iterator[Unusual]:
    """Files of code that differ although nothing was upgraded, by what they belong to."""
    old, new = _versions(before), _versions(after)
    moved = {name for name in old.keys() | new.keys() if old.get(name) != new.get(name)}
    a, b = before.entries, after.entries
    for area, words in _CODE_AREAS.items():
        if area == "core" and "" in moved:
            continue
        changed = [
            path
            for path in sorted(a.keys() | b.keys())
            if _is_of(area, a.get(path), b.get(path))
            and not _same(a.get(path), b.get(path))
            and "__pycache__/" not in path
            and not any(_belongs(path, name) for name in moved if name)
        ]
        if changed:
            what = plural(len(changed), "file")
            yield _told(
                f"code-changed-{area}", "damage", f"{what} of {words} changed, came or went, and nothing was upgraded",
                changed,
            )  # fmt: skip


def _is_of(area: str, left: Entry | None, right: Entry | None) -> bool:
    entry = right or left
    return entry is not None and entry.area == area and entry.kind == "file"


def _same(left: Entry | None, right: Entry | None) -> bool:
    return left is not None and right is not None and left.same_content(right)


def _belongs(path: str, name: str) -> bool:
    """Whether a path lies in a component's folder, or in one of its name."""
    return path.startswith(f"{name}/") or name in PurePosixPath(path).parts


def _code_among_uploads(after: Snapshot, a: Mapping[str, Entry], b: Mapping[str, Entry]) -> Iterator[Unusual]:
    """Files in folders of uploads that a server could run, and that were not there before."""
    found: list[str] = []
    left = _LOOKED_AT
    for path, entry in b.items():
        if entry.area != "media" or entry.kind != "file" or _same(a.get(path), entry):
            continue
        named = bool(_CODE_NAMES.fullmatch(PurePosixPath(path).name))
        if not named and entry.objects and left > 0:
            left -= entry.size
            try:
                start = after.store.read(entry.objects[0])[:4096].lstrip()
            except DamagedError:
                continue
            named = start.startswith(_CODE_STARTS) or b"<?php" in start
        if named:
            found.append(path)
    if found:
        text = f"{plural(len(found), 'new file')} of code in folders of uploads"
        yield _told("code-in-uploads", "damage", text, sorted(found))


def _rights(a: Mapping[str, Entry], b: Mapping[str, Entry]) -> Iterator[Unusual]:
    """Paths that anybody may write now, or that run with the rights of their owner."""
    wider = sorted(
        path
        for path, entry in b.items()
        if entry.kind != "link"
        and (((entry.mode & 0o002) and not entry.mode & 0o1000) or (entry.kind == "file" and entry.mode & 0o6000))
        and (path not in a or (a[path].mode ^ entry.mode) & entry.mode & 0o6002)
    )
    if wider:
        text = (
            f"{plural(len(wider), 'path')} may be written by anybody now, or {'run' if len(wider) > 1 else 'runs'} as "
            f"its owner"
        )
        yield _told("rights-wider", "damage", text, wider)


# -- rows -----------------------------------------------------------------------------------------------------


def _counts(snapshot: Snapshot) -> dict[str, int]:
    left_empty = set(snapshot.manifest.left_empty)
    return {t.stored.name: t.rows for t in snapshot.manifest.database.tables if t.stored.name not in left_empty}


def _at_least(name: str, counts: Sequence[tuple[datetime, dict[str, int], bool]]) -> float:
    """How many rows a day a table got at least, between any two snapshots; 0 where it did not always get some, or too
    little is known."""
    gaps = [
        ((later - at).total_seconds() / 86400, two[name] - one[name])
        for (at, one, _), (later, two, theirs) in pairwise(counts)
        if not theirs and name in one and name in two and (later - at).total_seconds() >= _SHORTEST_GAP
    ]
    if len(gaps) < _LEAST_GAPS or sum(days for days, _ in gaps) < _LEAST_DAYS:
        return 0.0
    return max(0.0, min(change / days for days, change in gaps))


def _rows(before: Snapshot, after: Snapshot, earlier: Sequence[Snapshot]) -> Iterator[Unusual]:
    """Tables that lost or gained far more than between any two snapshots before, for the time in between."""
    known = sorted({s.id: s for s in (*earlier, before)}.values(), key=lambda s: s.taken_at)[-_MOST_EARLIER:]
    counts = [(s.taken_at, _counts(s), s.reason in _OTHERS_DOING) for s in known]
    now, then = _counts(after), _counts(before)
    days = max((after.taken_at - before.taken_at).total_seconds() / 86400, 1 / 24)
    for name in sorted(then.keys() - now.keys()):
        if then[name]:
            yield Unusual(
                "table-gone", "damage", f"the table {name} is gone, with {plural(then[name], 'row')}", (), then[name]
            )
    for name in sorted(now.keys() & then.keys()):
        change = now[name] - then[name]
        if not change and (expected := _at_least(name, counts) * days) >= _LEAST_EXPECTED:
            text = (
                f"the table {name} got no row in {days:.1f} days; before it got {expected / days:,.0f} a day at least"
            )
            yield Unusual("rows-still", "doubt", text, (), round(expected))
        if abs(change) < _LEAST_ROWS or abs(change) < _LEAST_SHARE * max(then[name], 1):
            continue
        most = 0.0
        for (at, one, _), (later, two, theirs) in pairwise(counts):
            if not theirs and name in one and name in two and (two[name] - one[name]) * change > 0:
                gap = max((later - at).total_seconds() / 86400, 1 / 24)
                most = max(most, abs(two[name] - one[name]) / max(gap, 1.0))
        if abs(change) <= _TIMES_BEFORE * most * max(days, 1.0):
            continue
        usual = f"; {most:,.0f} a day at most before" if most else "; never before"
        if change < 0:
            text = f"the table {name} lost {-change:,} of {then[name]:,} rows{usual}"
            yield Unusual("rows-lost", "damage", text, (), -change)
        elif len(counts) > 3:
            text = f"the table {name} grew by {change:,} to {now[name]:,} rows{usual}"
            yield Unusual("rows-grown", "doubt", text, (), change)
