"""The plan: ordered steps in ``upgrade.toml``."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Literal

from blake3 import blake3
from pydantic import Field

from keenharbor.base.errors import UsageError
from keenharbor.database import Carried
from keenharbor.site.part import Part, Text
from keenharbor.site.toml import read_toml, validated
from keenharbor.trial.steps import Step

PLAN_FILE_NAME = "upgrade.toml"


def on_plan(command: str, plan_file: Path) -> str:
    """A command as it is to be typed for a plan: one that has the usual name and lies here need not be named."""
    return command if plan_file.absolute() == Path(PLAN_FILE_NAME).absolute() else f"{command} {plan_file}"


class PlanPart(Part):
    """What the plan is for."""

    site: Text
    core: Text
    runtime: Text
    drafted: str = ""


class Plan(Part):
    """The whole plan."""

    format: Literal[1]
    plan: PlanPart
    step: Annotated[list[Step], Field(min_length=1)]

    @property
    def digest(self) -> str:
        """Tells whether two plans are the same, whatever their comments say."""
        return blake3(json.dumps(self.model_dump(mode="json"), sort_keys=True).encode()).hexdigest()[:16]

    @property
    def carried(self) -> list[Carried]:
        """All tables that its steps move."""
        return [c.carried for s in self.step for c in s.carries]


def read_plan(file: Path) -> Plan:
    """The plan in ``file``. Raises `UsageError` with file and line."""
    if not file.exists():
        raise UsageError(
            "there is no plan here", where=file, advice="'keenharbor plan draft --core VERSION' writes one"
        )
    plan = validated(Plan, read_toml(file, "plan"), file, "plan")
    names: set[str] = set()
    for step in plan.step:
        if step.name in names:
            raise UsageError(f"two steps of the plan are named '{step.name}'", where=file)
        names.add(step.name)
    return plan
