"""What says which extensions are on, and which theme is active: a list, a table of yes and no, a setting."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from keenharbor.database import DatabaseState
from keenharbor.site.components import FoundComponent, is_true, says_yes_or_no, words_of_cell
from keenharbor.site.inference.evidence import Sureness
from keenharbor.site.inference.packages import Home
from keenharbor.site.inference.sources import Source
from keenharbor.site.model import SwitchPart
from keenharbor.site.settings import key_parts


@dataclass(frozen=True)
class SwitchFound:
    """What says which components are on, the names that it has on, and why."""

    switch: SwitchPart
    on: frozenset[str]
    evidence: str
    sure: Sureness
    source: Source | None = None
    names: frozenset[str] = field(default_factory=frozenset)


_ON_COLUMN = re.compile(r"(?i)^(is_?)?(on|enabled?|active|activated|status|state|installed|published)$")
_MOST_ROWS = 20_000


def switch_in_settings(sources: Sequence[Source], components: Sequence[FoundComponent]) -> SwitchFound | None:
    """A list, or a table of yes and no, in a settings file that names at least two (or the only one) of the
    components."""
    names = {n for c in components for n in c.known_as}
    best: SwitchFound | None = None
    for source in sources:
        lists: dict[str, set[str]] = defaultdict(set)
        for setting in source.settings:
            *above, last = key_parts(setting.key)
            listed = words_of_cell(setting.value) & names if re.search(r"[,;|\s]", setting.value) else set()
            if len(listed) >= 2 and not setting.inside and (source.is_own or source.score > 0):
                lists[setting.key] = listed
            if not above:
                continue
            way = ".".join(above)
            if last.isdigit() and setting.value in names:
                lists[way].add(setting.value)
            elif last in names and says_yes_or_no(setting.value) and is_true(setting.value):
                lists[way].add(last)
        for way, on in lists.items():
            if len(on) < min(2, len(components)) or (best is not None and len(on) <= len(best.on)):
                continue
            first = next(s for s in source.settings if s.key == way or s.key.startswith(way + "."))
            told = f"{source.evidence(first)}: it names {len(on)} of them"
            best = SwitchFound(SwitchPart(setting=way), frozenset(on), told, Sureness.READ, source)
    return best


_THEME_KEY = re.compile(r"(?i)(theme|template|skin|stylesheet|style|layout|design)(?![a-z]*(dir|path|folder|url))")


def active_theme_in_settings(sources: Sequence[Source], themes: Sequence[FoundComponent]) -> SwitchFound | None:
    """A setting of the site's own that is called after themes and names one of them."""
    names = {n for t in themes for n in t.known_as}
    for source in sources:
        for setting in source.own_settings if source.is_own or source.score > 0 else ():
            last = key_parts(setting.key)[-1]
            if setting.value in names and _THEME_KEY.search(last) and not setting.inside:
                told = source.evidence(setting)
                return SwitchFound(
                    SwitchPart(setting=setting.key), frozenset({setting.value}), told, Sureness.READ, source
                )
    return None


def active_theme_in_database(
    state: DatabaseState, place: tuple[str, str, str], themes: Sequence[FoundComponent]
) -> SwitchFound | None:
    """A row of the table of settings (its name, the columns of names and values) that is called after themes and names
    one of them."""
    names = {n for t in themes for n in t.known_as}
    table = state.schema.table(place[0])
    if table is None or not names:
        return None
    name, value = table.columns.index(place[1]), table.columns.index(place[2])
    for row in state.rows(table.name):
        called, said = str(row[name]), str(row[value])
        if said in names and _THEME_KEY.search(called):
            switch = SwitchPart(table=table.name, name=place[1], on=place[2], row=called)
            return SwitchFound(switch, frozenset({said}), f"table {table.name}, '{called}' says {said}", Sureness.READ)
    return None


def switch_in_database(state: DatabaseState, components: Sequence[FoundComponent]) -> SwitchFound | None:
    """A table with a row for each component and a column of yes and no; else a cell that lists them."""
    names = {n for c in components for n in c.known_as}
    wanted = min(2, len(components))
    listing: tuple[int, SwitchFound] | None = None
    for table in state.schema.tables:
        if table.kind != "table":
            continue
        rows = []
        for row in state.rows(table.name):
            rows.append(row)
            if len(rows) > _MOST_ROWS:
                break
        if not rows or len(rows) > _MOST_ROWS:
            continue
        columns = list(zip(*rows, strict=True))
        for at, column in enumerate(columns):
            met = {str(v) for v in column if str(v) in names}
            on_at = next((i for i, c in enumerate(table.columns) if _ON_COLUMN.match(c) and i != at), None)
            if len(met) >= wanted and on_at is not None:
                on = frozenset(
                    str(v) for v, yes in zip(column, columns[on_at], strict=True) if str(v) in names and is_true(yes)
                )
                where = f"columns {table.columns[at]} and {table.columns[on_at]}"
                told = f"table {table.name}, {where}: it names {len(met)} of them"
                switch = SwitchPart(table=table.name, name=table.columns[at], on=table.columns[on_at])
                return SwitchFound(switch, on, told, Sureness.READ, names=frozenset(str(v) for v in column))
        found = _listed(table.name, table.columns, rows, names, wanted)
        if found is not None and (listing is None or found[0] > listing[0]):
            listing = found
    return listing[1] if listing is not None else None


def _listed(
    table: str, columns: Sequence[str], rows: Sequence[Sequence[object]], names: set[str], wanted: int
) -> tuple[int, SwitchFound] | None:  # fmt: skip
    best: tuple[int, SwitchFound] | None = None
    for row in rows:
        for at, cell in enumerate(row):
            if (
                not isinstance(cell, (str, bytes))
                or len(cell) < 3
                or len(cell) > 1_000_000
                or not _has_some(cell, names)
            ):
                continue
            met = words_of_cell(cell) & names
            if len(met) < wanted:
                continue
            name_at = next((i for i, v in enumerate(row) if i != at and isinstance(v, str) and 0 < len(v) < 200), None)
            if name_at is None:
                continue
            sameness = sum(1 for r in rows if r[name_at] == row[name_at])
            score = (
                10 * len(met)
                - len(str(cell)) // 200
                - 5 * (sameness - 1)
                + (5 if _ON_WORD.search(str(row[name_at])) else 0)
            )
            told = f"table {table}, the cell {columns[at]} of '{row[name_at]}' lists {len(met)}"
            switch = SwitchPart(table=table, name=columns[name_at], on=columns[at], row=str(row[name_at]))
            if best is None or score > best[0]:
                best = (score, SwitchFound(switch, frozenset(met), told, Sureness.LIKELY))
    return best


_ON_WORD = re.compile(r"(?i)(active|enabled?|plugins?|extensions?|modules?|installed)")


def _has_some(cell: str | bytes, names: set[str]) -> bool:
    text = cell.decode("utf-8", "replace") if isinstance(cell, bytes) else cell
    return any(n in text for n in names)


def orphans(homes: Sequence[Home], switch: SwitchFound | None) -> Iterator[str]:
    """Names that the database has and no folder."""
    if switch is not None:
        there = {n for h in homes for c in h.components for n in c.known_as}
        yield from sorted(switch.names - there)
