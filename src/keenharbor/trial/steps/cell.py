"""The step ``cell``: set cells of a table."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from keenharbor.base.text import plural
from keenharbor.database import Value
from keenharbor.database.cells import with_part
from keenharbor.site.part import Text
from keenharbor.trial.steps.base import Outcome, StepBase, StepFailed, Workplace
from keenharbor.trial.steps.common import settings_table


class CellStep(StepBase):
    """Set the ``column`` of the rows of a ``table`` whose cells are as in ``where``; ``key``: what stands within the
    cell."""

    kind: Literal["cell"]
    table: Text
    where: Annotated[dict[str, str | int], Field(min_length=1)]
    column: Text
    key: str | None = None
    value: str | int | float | bool

    def told(self) -> str:
        rows = ", ".join(f"{c} = {v}" for c, v in self.where.items())
        return f"set {self.table}.{self.column}{'.' + self.key if self.key else ''} to {self.value} where {rows}"

    def perform(self, place: Workplace, outcome: Outcome) -> str:
        with place.site.reading_database() as state:
            table = state.schema.table(self.table)
            lacking = [c for c in (*self.where, self.column) if table is None or c not in table.columns]
            if table is None or lacking:
                raise StepFailed(f"the database has no {', '.join(f'{self.table}.{c}' for c in lacking)}")
            at = {c: table.columns.index(c) for c in (*self.where, self.column)}
            rows = [r for r in state.rows(self.table) if all(str(r[at[c]]) == str(v) for c, v in self.where.items())]
        if not rows:
            raise StepFailed(f"no row of {self.table} is as 'where' says")
        keys = table.key or tuple(self.where)
        with place.site.writing_database() as writer:
            for row in rows:
                new = self._new_value(row[at[self.column]])
                writer.update(self.table, {k: row[table.columns.index(k)] for k in keys}, {self.column: new})
        general = settings_table(place.site)
        if general is not None and general.table == self.table and general.name in self.where:
            outcome.settings = (f"{self.where[general.name]}" + (f".{self.key}" if self.key else ""),)
        return f"{self.table}.{self.column} is set in {plural(len(rows), 'row')}"

    def _new_value(self, cell: Value) -> Value:
        if self.key is None:
            return self.value
        try:
            return with_part(str(cell), self.key.split("."), self.value)
        except (KeyError, ValueError):
            raise StepFailed(f"{self.table}.{self.column} has no '{self.key}'") from None
