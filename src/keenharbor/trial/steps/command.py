"""The step ``command``: run a command."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from keenharbor.site.part import Text
from keenharbor.trial.steps.base import Outcome, StepBase, Workplace, output_of


class CommandStep(StepBase):
    """Run a command in the site's folder; good when it ends with one of ``success`` and prints ``text``."""

    kind: Literal["command"]
    command: Annotated[list[Text], Field(min_length=1)]
    success: list[int] = [0]
    text: str | None = None

    def told(self) -> str:
        return "run " + " ".join(self.command)

    def perform(self, place: Workplace, outcome: Outcome) -> str:
        return output_of(place.run(self.command, self.time_limit), self.time_limit, self.success, self.text)
