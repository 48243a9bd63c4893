"""The step ``purge-cache``: empty the site's caches."""

from __future__ import annotations

from typing import Literal

from keenharbor.site.checks import Check
from keenharbor.trial.steps.base import Outcome, PlanState, StepBase, Workplace, output_of


class PurgeStep(StepBase):
    """Empty the site's caches."""

    kind: Literal["purge-cache"]

    def told(self) -> str:
        return "purge the page cache"

    def check(self, state: PlanState) -> list[Check]:
        model = state.site.model
        if model.commands.purge_cache is not None or model.areas.get("cache"):
            return []
        return self.blocked(
            "the site file says of no cache and of no command to purge it", "name them under [areas] or [commands]"
        )

    def perform(self, place: Workplace, outcome: Outcome) -> str:
        command = place.site.model.commands.purge_cache
        output = ""
        if command is not None:
            output = output_of(place.run(command, self.time_limit), self.time_limit)
        for pattern in place.site.model.areas.get("cache", []):
            if "*" not in pattern:
                place.site.tree.clear(pattern)
        return output or "caches are empty"
