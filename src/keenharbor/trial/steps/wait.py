"""The step ``wait``: a person does something."""

from __future__ import annotations

from typing import ClassVar, Literal

from keenharbor.site.part import Text
from keenharbor.trial.steps.base import Outcome, StepBase, StepFailed, Workplace


class WaitStep(StepBase):
    """Wait for a person: ``say`` tells what to do. It counts as done when they say so; without a terminal it fails.
    How long they take is not limited."""

    by_a_person: ClassVar[bool] = True

    kind: Literal["wait"]
    say: Text

    def told(self) -> str:
        return f"by hand: {self.say}"

    def perform(self, place: Workplace, outcome: Outcome) -> str:
        if place.ask is None:
            raise StepFailed(f"a person is wanted, and there is no terminal to ask on: {self.say}")
        place.restart()
        place.ask(self.say)
        return "a person said that it is done"
