"""Going on with an earlier trial: what stands of it is not done again."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from keenharbor.base.errors import UsageError
from keenharbor.trial.plan import Plan
from keenharbor.trial.record import TrialRecord, as_plain, read_record, steps_in_common


@dataclass(frozen=True)
class GoOn:
    """An earlier trial to go on with: its record, and how many of its steps stand."""

    record: TrialRecord
    kept: int


def go_on_from(work: Path, trial: str, plan: Plan, step: str | None = None) -> GoOn:
    """How a trial can be gone on with after the plan was corrected: behind the last step that stands as it was and went
    well; or before ``step``, when the steps before that one stand. Raises `UsageError` when there is nothing to go on
    with."""
    record = read_record(work / "trials" / trial)
    steps = [as_plain(s) for s in plan.step]
    common = steps_in_common(record, steps)
    if step is None:
        if common == len(steps):
            raise UsageError("every step of the plan was carried out in this trial", advice="keenharbor trial show")
        return GoOn(record, common)
    names = [s.name for s in plan.step]
    if step not in names:
        raise UsageError(f"the plan has no step '{step}'", advice="keenharbor plan show")
    if names.index(step) > common:
        first = names[common]
        raise UsageError(
            f"trial {trial} has not carried out '{first}' as the plan has it now, or it failed",
            advice=f"keenharbor trial run --from {first}",
        )
    return GoOn(record, names.index(step))
