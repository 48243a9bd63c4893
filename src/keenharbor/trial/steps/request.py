"""The step ``request``: ask for a page, or submit a form."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from keenharbor.trial.steps.base import Outcome, StepBase, StepFailed, Workplace


class RequestStep(StepBase):
    """Ask for a page, or submit ``form`` fields to it; good with that status and text."""

    kind: Literal["request"]
    path: Annotated[str, Field(pattern="^/")]
    form: dict[str, str] | None = None
    status: int = 200
    text: str | None = None

    def told(self) -> str:
        return f"{'submit' if self.form is not None else 'ask for'} {self.path}"

    def perform(self, place: Workplace, outcome: Outcome) -> str:
        from keenharbor.compare.visitor import VisitError, Visitor  # late: a plan is shown without what visits

        # A host that still runs the code of before would answer for it.
        place.restart()
        try:
            with Visitor(place.address, place.headers, timeout=self.time_limit) as visitor:
                answer = visitor.post(self.path, self.form) if self.form is not None else visitor.get(self.path)
        except VisitError as error:
            raise StepFailed(f"VisitError: {error}") from None
        if answer.status != self.status:
            raise StepFailed(f"{self.path} answered with status {answer.status}, expected {self.status}")
        if self.text is not None and self.text not in answer.text:
            raise StepFailed(f"'{self.text}' is not on {self.path}")
        return f"{self.path}: status {answer.status}"
