"""How files, tables and settings of two states differ, as observations."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping, Sequence

from keenharbor.base.text import plural, shorten
from keenharbor.compare.exposed import SHORTEST_SECRET
from keenharbor.compare.findings import Observation, Weight
from keenharbor.database import DatabaseState, Row, RowDelta, TableDelta
from keenharbor.database.cells import cell_value, flat
from keenharbor.host.areas import fits
from keenharbor.site.model import SiteFile
from keenharbor.site.passing import Passing
from keenharbor.site.view import SiteView
from keenharbor.tree import Entry, compare_trees

HIDDEN = "(hidden)"
_SECRET = re.compile(r"pass(?!ed)|secret|token|salt|api.?key|credential|private", re.IGNORECASE)
EVERY_CHANGE = ("cache", "logs")
"""Areas whose files change by themselves."""


def compare_files(
    before: Mapping[str, Entry], after: Mapping[str, Entry], expected: Collection[str] = ()
) -> list[Observation]:
    """Files that came, went or changed, but for caches, logs and the paths that fit ``expected``; one an area and way.
    Rights that others than the owner have gained are damage."""
    difference = compare_trees(before, after)
    found: list[Observation] = []
    for what, paths, side in (
        ("added", difference.added, after),
        ("removed", difference.removed, before),
        ("changed", difference.changed, after),
        ("given other rights", difference.modes, after),
    ):
        by_area: dict[str, list[str]] = {}
        for path in paths:
            entry = side[path]
            if entry.area not in EVERY_CHANGE and entry.kind != "folder" and not fits(path, tuple(expected)):
                by_area.setdefault(entry.area, []).append(path)
        for area, names in sorted(by_area.items()):
            text = (
                f"{plural(len(names), 'file')} of {area} {'was' if len(names) == 1 else 'were'} {what}: "
                + ", ".join(names[:4])
            )
            place = f"{area} {what}"
            wider = what == "given other rights" and any(side[p].mode & ~before[p].mode & 0o077 for p in names)
            weight = Weight.DAMAGE if wider else Weight.DOUBT
            found.append(Observation("files", place, weight, text + (" …" if len(names) > 4 else "")))
    return found


def compare_tables(delta: RowDelta, model: SiteFile) -> list[Observation]:
    """Rows lost or changed, and definitions that differ; of tables that were carried elsewhere, that all is there.
    Settings are told of by `compare_settings`."""
    delta, apart = Passing(model.volatile).without(delta), set[str]()
    if model.settings is not None and model.settings.table is not None:
        apart.add(model.settings.table.table)
    if model.extensions is not None and model.extensions.switch is not None and model.extensions.switch.table:
        apart.add(model.extensions.switch.table)
    found: list[Observation] = []
    for name, table in delta.tables.items():
        if name not in apart:
            found += _table(name, table, name in model.visitor_data.tables)
    went = {name: to for name, (to, _) in delta.kept.items() if to != name}
    for name, (_, rows) in delta.kept.items():
        lost = delta.tables.get(name)
        if lost is None or not (lost.removed or lost.changed):
            where = f"in table {went[name]}" if name in went else "there, under the new names of its columns"
            found.append(
                Observation("rows-kept", name, Weight.NOTE, f"{plural(rows, 'row')} of table {name}: all are {where}")
            )
    for kind, what, names in (
        ("schema-new", "is new", delta.definitions_added),
        ("schema-gone", "is gone", delta.definitions_removed),
        ("schema-changed", "was redefined", delta.definitions_changed),
    ):
        for thing in names:
            planned = kind == "schema-gone" and thing.removeprefix("table ") in went
            weight = Weight.DOUBT if kind == "schema-gone" and not planned else Weight.NOTE
            found.append(Observation(kind, thing, weight, f"{thing} {what}" + (", as planned" if planned else "")))
    return found


def _table(name: str, table: TableDelta, visitors: bool) -> Iterator[Observation]:
    # Rows are told of by key, and by what changed in them: whole rows may hold what is nobody's business.
    if table.removed:
        text = f"{plural(len(table.removed), 'row')} of table {name} {'is' if len(table.removed) == 1 else 'are'} gone"
        before = _keys(table, table.columns_left, table.removed)
        yield Observation("rows-lost", name, Weight.DAMAGE, text, before=before)
    if table.changed:
        left, right = table.changed[0]
        both = [c for c in table.columns_left if c in table.columns_right]
        a = dict(zip(table.columns_left, left, strict=True))
        b = dict(zip(table.columns_right, right, strict=True))
        differing = [c for c in both if a[c] != b[c]]
        text = f"{plural(len(table.changed), 'row')} of table {name} changed"
        key = _keys(table, table.columns_left, [left])
        before, after = (
            shorten(f"{key}: " + ", ".join(f"{c} = {shown(c, side[c])}" for c in differing), 120) for side in (a, b)
        )
        yield Observation("rows-changed", name, Weight.DOUBT, text, before=before, after=after)
    if table.added:
        text = f"{plural(len(table.added), 'row')} came into table {name}" + (" (visitors' data)" if visitors else "")
        yield Observation("rows-new", name, Weight.NOTE, text, after=_keys(table, table.columns_right, table.added))


def _keys(table: TableDelta, columns: Sequence[str], rows: Sequence[Row], most: int = 4) -> str:
    """The keys of the first rows: ``id 421, 422``."""
    at = [columns.index(k) for k in table.key if k in columns]
    names = ", ".join(k for k in table.key if k in columns)
    keys = [" ".join(str(row[i]) for i in at) for row in rows[:most]]
    return shorten(f"{names} {', '.join(keys)}" + (" …" if len(rows) > most else ""), 120)


def shown(name: str, value: object) -> str:
    """A value for people; what is named like a secret is hidden."""
    return HIDDEN if _SECRET.search(name) else shorten(str(value), 40)


def settings_of(state: DatabaseState, model: SiteFile) -> dict[str, str]:
    """The settings table's cells by name; empty where the site has none."""
    part = model.settings.table if model.settings is not None else None
    table = state.schema.table(part.table) if part is not None else None
    if part is None or table is None:
        return {}
    at_name, at_value = table.columns.index(part.name), table.columns.index(part.value)
    rows = Passing(model.volatile).standing(table, state.rows(part.table))
    return {str(row[at_name]): str(row[at_value]) for row in rows}


def secret_values(site: SiteView) -> set[str]:
    """The values of the site's settings that are called like secrets."""
    values = {v.strip() for k, v in site.settings().items() if _SECRET.search(k.rpartition(".")[2])}
    return {v for v in values if len(v) >= SHORTEST_SECRET}


def compare_settings(before: Mapping[str, object], after: Mapping[str, object], prefix: str = "") -> list[Observation]:
    """Settings lost, changed, or new, down to the keys within a cell."""
    found: list[Observation] = []
    for name in sorted(before.keys() | after.keys()):
        left = flat(cell_value(str(before[name]))) if name in before else {}
        right = flat(cell_value(str(after[name]))) if name in after else {}
        for key in sorted(left.keys() | right.keys()):
            place = prefix + (f"{name}.{key}" if key else name)
            a, b = left.get(key), right.get(key)
            if key not in right:
                text = f"the setting {place} is gone"
                found.append(Observation("setting-lost", place, Weight.DAMAGE, text, before=shown(place, a)))
            elif key not in left:
                text = f"the setting {place} is new"
                found.append(Observation("setting-new", place, Weight.NOTE, text, after=shown(place, b)))
            elif a != b:
                text = f"the setting {place} was changed from {shown(place, a)} to {shown(place, b)}"
                found.append(
                    Observation(
                        "setting-changed", place, Weight.DAMAGE, text, before=shown(place, a), after=shown(place, b)
                    )
                )
    return found
