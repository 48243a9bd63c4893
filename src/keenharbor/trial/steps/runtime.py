"""The step ``runtime``: the site runs with another version of its runtime."""

from __future__ import annotations

from typing import Literal

from keenharbor.base.errors import KeenHarborError
from keenharbor.site.checks import Check
from keenharbor.site.part import Text
from keenharbor.trial.steps.base import Outcome, PlanState, StepBase, StepFailed, Workplace


class RuntimeStep(StepBase):
    """Let the site run with another version of its runtime."""

    kind: Literal["runtime"]
    version: Text

    def told(self) -> str:
        return f"switch the runtime to {self.version}"

    def check(self, state: PlanState) -> list[Check]:
        state.runtime = self.version
        try:
            state.site.launcher(self.version)
        except KeenHarborError as error:
            return self.blocked(error.what, error.advice or "install it")
        return []

    def perform(self, place: Workplace, outcome: Outcome) -> str:
        site = place.site
        site.launcher(self.version)
        file = site.model.runtime.version_file
        if file is None:
            raise StepFailed("the site file names no file that selects the runtime ('version_file' under [runtime])")
        outcome.versions[site.runtime_version()] = self.version
        site.tree.write(file, (self.version + "\n").encode())
        outcome.touches = (*outcome.touches, file)
        return f"{site.model.runtime.name} {self.version} is selected"
