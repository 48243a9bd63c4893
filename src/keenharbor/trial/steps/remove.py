"""The step ``remove``: paths, or an extension, go."""

from __future__ import annotations

from typing import Literal

from keenharbor.host.areas import fits
from keenharbor.site.checks import Check, Verdict
from keenharbor.site.part import Text
from keenharbor.trial.steps.base import Outcome, PlanState, StepBase, StepFailed, Workplace
from keenharbor.trial.steps.common import uninstall


class RemoveStep(StepBase):
    """Remove paths (patterns) from the site's folder; ``uninstall`` also switches an extension off and removes it."""

    kind: Literal["remove"]
    paths: list[Text] = []
    uninstall: str | None = None

    def told(self) -> str:
        return "remove " + ", ".join([*([self.uninstall] if self.uninstall else []), *self.paths])

    def check(self, state: PlanState) -> list[Check]:
        if self.uninstall is not None:
            if self.uninstall not in state.versions:
                return self.blocked(f"the site has no '{self.uninstall}' at that point", "take the step out")
            del state.versions[self.uninstall]
        entries = state.site.scan().entries if self.paths else {}
        unmet = [p for p in self.paths if not any(fits(path, (p,)) for path in entries)]
        if not unmet:
            return []
        reason = f"no path fits {', '.join(unmet)}"
        return [self.found(Verdict.CAUTION, reason, "correct the pattern, or take it out")]

    def perform(self, place: Workplace, outcome: Outcome) -> str:
        output = uninstall(place, self.uninstall, outcome, self.time_limit) if self.uninstall else ""
        entries = place.site.scan().entries
        gone = [p for p in entries if fits(p, self.paths)]
        if self.paths and not gone:
            raise StepFailed("no path fits " + ", ".join(self.paths))
        for path in sorted(gone, key=lambda p: p.count("/"), reverse=True):
            if entries[path].kind == "folder":
                place.site.tree.clear(path, keep=False)
            else:
                place.site.tree.remove(path)
        outcome.touches = (*outcome.touches, *self.paths)
        return output + "".join(f"removed {p}\n" for p in gone)
