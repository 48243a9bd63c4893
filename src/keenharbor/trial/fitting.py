"""A plan of one site, fitted to a sibling: what the sibling does not have it need not upgrade.

Sites of one kind differ in a few extensions. A step for what only the other site has is taken out; what the plan
installs anew is installed here, too. All else stays as it was written, comments included."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from pathlib import Path

import tomlkit
from tomlkit.items import AoT

from keenharbor.base.errors import UsageError
from keenharbor.site.view import SiteView
from keenharbor.trial.plan import Plan, read_plan
from keenharbor.trial.steps import ExtensionStep, PackageStep, RemoveStep
from keenharbor.trial.steps.base import StepBase


@dataclass(frozen=True)
class Fitted:
    """A plan's text for a site; the steps that were taken out, each with the reason."""

    text: str
    left_out: dict[str, str]


def fit_plan(plan_file: Path, site: SiteView, others: Collection[str] | None = None) -> Fitted:
    """The plan of another site for this one; ``others`` are the names of what that one has (None: it is not known, and
    what this one lacks is taken to be new). Raises `UsageError` where nothing is left of it."""
    plan = read_plan(plan_file)
    here = {c.name: c.version or "" for c in site.components()}
    left_out = _left_out(plan, site, here, others)
    document = tomlkit.parse(plan_file.read_text(encoding="utf-8"))
    head, steps = document["plan"], document["step"]
    assert isinstance(head, dict) and isinstance(steps, AoT)
    head["site"] = site.name
    for number in reversed([n for n, s in enumerate(plan.step) if s.name in left_out]):
        del steps[number]
    if not len(steps):
        raise UsageError(f"nothing of the plan is for '{site.name}': {'; '.join(left_out.values())}", where=plan_file)
    return Fitted(tomlkit.dumps(document), left_out)


def _left_out(plan: Plan, site: SiteView, here: dict[str, str], others: Collection[str] | None) -> dict[str, str]:
    """Steps by name that are for what the site does not have, or has already."""
    found: dict[str, str] = {}
    present = set(here)
    for step in plan.step:
        if (why := _why_not(step, site, here, present, others)) is not None:
            found[step.name] = why
        elif isinstance(step, PackageStep):
            present.add(step.package)
        elif isinstance(step, RemoveStep) and step.uninstall is not None:
            present.discard(step.uninstall)
    return found


def _why_not(
    step: StepBase, site: SiteView, here: dict[str, str], present: Collection[str], others: Collection[str] | None
) -> str | None:
    if isinstance(step, PackageStep) and step.package != site.model.core.package:
        if step.replaces is not None and step.replaces not in present:
            return f"{site.name} has no {step.replaces} that could be replaced"
        if others is not None and step.package in others and step.package not in present:
            return f"{site.name} has no {step.package}"
        if here.get(step.package) == step.version and step.replaces is None:
            return f"{step.package} is at {step.version} already"
    if isinstance(step, ExtensionStep) and step.extension not in present:
        return f"{site.name} has no {step.extension}"
    if isinstance(step, RemoveStep) and step.uninstall is not None and step.uninstall not in present:
        return f"{site.name} has no {step.uninstall}"
    return None
