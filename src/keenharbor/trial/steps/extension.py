"""The step ``extension``: switch one on or off."""

from __future__ import annotations

from typing import Literal

from keenharbor.site.checks import Check
from keenharbor.site.part import Text
from keenharbor.trial.steps.base import Outcome, PlanState, StepBase, Workplace
from keenharbor.trial.steps.common import switch


class ExtensionStep(StepBase):
    """Switch an extension on or off."""

    kind: Literal["extension"]
    extension: Text
    on: bool

    def told(self) -> str:
        return f"switch {self.extension} {'on' if self.on else 'off'}"

    def check(self, state: PlanState) -> list[Check]:
        if self.extension in state.versions:
            return []
        return self.blocked(
            f"the site has no '{self.extension}' at that point", "correct the name, or take the step out"
        )

    def perform(self, place: Workplace, outcome: Outcome) -> str:
        return switch(place, self.extension, self.on, self.time_limit)
