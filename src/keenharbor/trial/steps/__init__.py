"""The kinds of steps: one module each, and one row here. A plan's union, its check, how steps are told and the table in
docs/site-file.md come from `KINDS`."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TYPE_CHECKING, Annotated, Union

from pydantic import Field

from keenharbor.base.errors import KeenHarborError
from keenharbor.trial.steps.base import (
    CarriesPart,
    Outcome,
    PlanState,
    StepBase,
    StepFailed,
    Workplace,
    words_of,
)
from keenharbor.trial.steps.cell import CellStep
from keenharbor.trial.steps.check import CheckStep
from keenharbor.trial.steps.command import CommandStep
from keenharbor.trial.steps.distributions import DistributionsStep
from keenharbor.trial.steps.extension import ExtensionStep
from keenharbor.trial.steps.package import PackageStep
from keenharbor.trial.steps.pins import PinsStep
from keenharbor.trial.steps.purge import PurgeStep
from keenharbor.trial.steps.release import ReleaseStep
from keenharbor.trial.steps.remove import RemoveStep
from keenharbor.trial.steps.request import RequestStep
from keenharbor.trial.steps.restart import RestartStep
from keenharbor.trial.steps.runtime import RuntimeStep
from keenharbor.trial.steps.setting import SettingStep
from keenharbor.trial.steps.sql import SqlStep
from keenharbor.trial.steps.wait import WaitStep

KINDS: tuple[type[StepBase], ...] = (
    PackageStep,
    ReleaseStep,
    RemoveStep,
    CommandStep,
    RequestStep,
    SqlStep,
    SettingStep,
    CellStep,
    DistributionsStep,
    PinsStep,
    WaitStep,
    RestartStep,
    CheckStep,
    ExtensionStep,
    RuntimeStep,
    PurgeStep,
)

if TYPE_CHECKING:
    Step = StepBase
else:
    Step = Annotated[Union[KINDS], Field(discriminator="kind")]  # noqa: UP007 - made of the registry


def perform(step: StepBase, place: Workplace, sleep: Callable[[float], None] = time.sleep) -> Outcome:
    """Carry out a step, trying again as the plan says. Never raises for what the step does wrong."""
    began = time.monotonic()
    outcome = Outcome()
    outputs: list[str] = []
    for attempt in range(step.retries + 1):
        outcome.tries = attempt + 1
        outcome.problem = None
        try:
            outputs.append(step.perform(place, outcome))
            break
        except StepFailed as failed:
            outcome.problem = failed.problem
            outputs.append(failed.output)
        except (KeenHarborError, OSError) as error:
            outcome.problem = words_of(error)
        if attempt < step.retries:
            sleep(step.retry_pause)
    outcome.output = "\n".join(o.strip() for o in outputs if o.strip())
    outcome.seconds = time.monotonic() - began
    outcome.touches = (*outcome.touches, *step.expects)
    return outcome


__all__ = [
    "KINDS", "CarriesPart", "CellStep", "CheckStep", "CommandStep", "DistributionsStep", "ExtensionStep", "Outcome",
    "PackageStep", "PlanState", "PurgeStep", "ReleaseStep", "RemoveStep", "RequestStep", "RestartStep", "RuntimeStep",
    "SettingStep",
    "SqlStep", "Step", "StepBase", "WaitStep", "Workplace", "perform",
]  # fmt: skip
