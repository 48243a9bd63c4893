"""The step ``restart``: the host takes up changed files."""

from __future__ import annotations

from typing import Literal

from keenharbor.trial.steps.base import Outcome, StepBase, Workplace


class RestartStep(StepBase):
    """Let the site's host take up changed files."""

    kind: Literal["restart"]

    def told(self) -> str:
        return "let the host take up the change"

    def perform(self, place: Workplace, outcome: Outcome) -> str:
        place.restart()
        return "the host took up the change"
