"""What a person changed while they visited a clone, and the steps that would do it again."""

from __future__ import annotations

import contextlib
import json
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from keenharbor.base.progress import Progress, Silent
from keenharbor.base.text import plural
from keenharbor.clone.clone import Clone
from keenharbor.clone.mailbox import Mailbox, kept_in
from keenharbor.database import TableDelta, row_delta
from keenharbor.site.passing import Passing
from keenharbor.snapshot import TakeOptions, take_snapshot
from keenharbor.store import Store
from keenharbor.tree import compare_trees

MOST_STEPS = 20


@dataclass(frozen=True)
class Changed:
    """What was changed, in words; and steps for a plan, as TOML, for the cells among it."""

    told: tuple[str, ...]
    steps: str


def wait_for_visitor(clone: Clone, box: Mailbox, until: float | None, progress: Progress) -> int:
    """Tell of each mail that is caught, until the time ``until`` or Ctrl-C; returns how many there were."""
    seen = 0
    with contextlib.suppress(KeyboardInterrupt):
        while until is None or time.time() < until:
            time.sleep(0.2)
            mails = [*box.messages, *kept_in(clone.outbox)]
            for message in mails[seen:]:
                progress.note(f"mail caught: to {', '.join(message.to)}: {message.subject}")
            seen = len(mails)
    return seen


class VisitRecord:
    """A clone as it was when the visit began."""

    def __init__(self, clone: Clone, folder: Path) -> None:
        self._clone, self._store = clone, Store.create(folder)
        self._options = TakeOptions(reason="checkpoint", every_row=True)
        self._before = take_snapshot(clone.site, self._store, self._options, Silent(), None)

    def changed(self) -> Changed:
        """What differs now; sessions, counters, caches and logs apart."""
        after = take_snapshot(self._clone.site, self._store, self._options, Silent(), self._before)
        told: list[str] = []
        files = compare_trees(self._before.entries, after.entries)
        for what, paths in (("added", files.added), ("removed", files.removed), ("changed", files.changed)):
            side = self._before.entries if what == "removed" else after.entries
            shown = [p for p in paths if side[p].area not in ("cache", "logs") and side[p].kind != "folder"]
            told += [f"file {p} {what}" for p in shown]
        steps: list[str] = []
        delta = Passing(self._clone.site.model.volatile).without(row_delta(self._before.state, after.state))
        for name, table in delta.tables.items():
            counts = ((len(table.changed), "changed"), (len(table.added), "added"), (len(table.removed), "removed"))
            told += [f"table {name}: {plural(n, 'row')} {what}" for n, what in counts if n]
            steps += _cell_steps(name, table)
        return Changed(tuple(told), "\n".join(steps[:MOST_STEPS]))


def _cell_steps(name: str, table: TableDelta) -> Iterator[str]:
    for before, after in table.changed:
        was = dict(zip(table.columns_left, before, strict=True))
        now = dict(zip(table.columns_right, after, strict=True))
        where = {k: was[k] for k in table.key}
        if not all(isinstance(v, str | int) for v in where.values()):
            continue
        for column in (c for c in table.columns_left if c in now and was[c] != now[c] and c not in table.key):
            value = now[column]
            if not isinstance(value, str | int | float):
                continue
            rows = ", ".join(f"{json.dumps(k)} = {json.dumps(v, ensure_ascii=False)}" for k, v in where.items())
            label = "-".join(str(v) for v in where.values())
            step = "".join(c if c.isalnum() else "-" for c in f"{name}-{column}-{label}".lower()).strip("-")[:80]
            yield (
                f'[[step]]\nname = "{step}"\nkind = "cell"\ntable = {json.dumps(name)}\nwhere = {{ {rows} }}\n'
                f"column = {json.dumps(column)}\nvalue = {json.dumps(value, ensure_ascii=False)}\n"
            )
