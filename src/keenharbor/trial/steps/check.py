"""The step ``check``: make scripted visits."""

from __future__ import annotations

from typing import ClassVar, Literal

from keenharbor.site.checks import Check
from keenharbor.site.part import Text
from keenharbor.trial.steps.base import Outcome, PlanState, StepBase, Workplace, refuse


class CheckStep(StepBase):
    """Make scripted visits of the site file (``only`` these, or all); good when none fails that did not fail before. On
    live those that write are left out."""

    only_looks: ClassVar[bool] = True

    kind: Literal["check"]
    only: list[Text] = []

    def told(self) -> str:
        return "make the checks " + ", ".join(self.only) if self.only else "make the site file's checks"

    def check(self, state: PlanState) -> list[Check]:
        strange = sorted(set(self.only) - {c.name for c in state.site.model.check})
        if not strange:
            return []
        return self.blocked(f"the site file has no check '{strange[0]}'", "correct the name, or add the check")

    def perform(self, place: Workplace, outcome: Outcome) -> str:
        unknown = sorted(set(self.only) - {c.name for c in place.site.model.check})
        refuse(f"the site file has no check '{unknown[0]}'" if unknown else None)
        place.restart()
        refuse(place.check(self.only))
        return "every check is as before"
