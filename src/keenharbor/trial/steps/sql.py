"""The step ``sql``: run SQL."""

from __future__ import annotations

from typing import Literal

from keenharbor.site.part import Text
from keenharbor.trial.steps.base import Outcome, StepBase, Workplace


class SqlStep(StepBase):
    """Run SQL in one transaction."""

    kind: Literal["sql"]
    sql: Text

    def told(self) -> str:
        return "run SQL: " + " ".join(self.sql.split())[:60]

    def perform(self, place: Workplace, outcome: Outcome) -> str:
        with place.site.writing_database() as writer:
            return f"{writer.script(self.sql)} rows changed"
