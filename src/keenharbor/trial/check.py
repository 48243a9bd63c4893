"""Checking a plan against the site, before anything is tried: does it still fit what is there, and does it lead where
it says?"""

from __future__ import annotations

from keenharbor.base.text import plural
from keenharbor.site.checks import Check, Verdict
from keenharbor.site.feed import Feed, allows, is_version, version_order
from keenharbor.site.view import SiteView
from keenharbor.trial.plan import Plan
from keenharbor.trial.steps import PlanState, StepBase


def check_plan(site: SiteView, feed: Feed | None, plan: Plan) -> list[Check]:
    """What was found of the plan, worst first; reads only."""
    components = {c.name: c for c in site.components()}
    core, runtime = site.told_versions()
    state = PlanState(
        site, feed, core, runtime, {n: c.version for n, c in components.items()},
        {n: (c.requires_core, c.requires_runtime) for n, c in components.items()},
    )  # fmt: skip
    checks = _for_another_site(site, plan)
    for step in plan.step:
        carried = _carries(step, state)
        checks += carried or step.check(state)
    checks += _where_it_leads(plan, state)
    if not checks:
        reason = f"all {plural(len(plan.step), 'step')} fit the site, and lead to core {state.core}"
        checks.append(Check("plan", Verdict.CLEAR, reason))
    return sorted(checks, key=lambda c: c.verdict.rank)


def _for_another_site(site: SiteView, plan: Plan) -> list[Check]:
    if plan.plan.site == site.name:
        return []
    reason = f"it was drafted for the site '{plan.plan.site}', and this is '{site.name}'"
    return [Check("plan", Verdict.CAUTION, reason, "look at each point below: it is what does not fit")]


def _where_it_leads(plan: Plan, state: PlanState) -> list[Check]:
    checks = []
    if _version_order_of(state.core) != _version_order_of(plan.plan.core):
        reason = f"the steps lead to core {state.core}, the plan says {plan.plan.core}"
        checks.append(
            Check("target", Verdict.BLOCKED, reason, "add the step that is missing, or correct 'core' under [plan]")
        )
    if state.runtime != plan.plan.runtime:
        reason = f"the steps lead to runtime {state.runtime}, the plan says {plan.plan.runtime}"
        remedy = "add a step of the kind 'runtime', or correct 'runtime' under [plan]"
        checks.append(Check("target", Verdict.BLOCKED, reason, remedy))
    for name, version in state.versions.items():
        wants_core, wants_runtime = state.asks[name]
        if not (allows(wants_core, state.core) and allows(wants_runtime, state.runtime)):
            reason = f"{version} would stay, and wants core {wants_core or 'any'} on runtime {wants_runtime or 'any'}"
            remedy = "update, replace or remove it in the plan"
            checks.append(Check(f"at the end: {name}", Verdict.BLOCKED, reason, remedy))
    return checks


def _version_order_of(text: str) -> object:
    """A version for comparing; what is none is compared as a text."""
    return version_order(text) if is_version(text) else text


def _carries(step: StepBase, state: PlanState) -> list[Check]:
    """Whether the tables that a step moves are there."""
    if not step.carries:
        return []
    with state.site.reading_database() as now:
        known = {t.name: t.columns for t in now.schema.tables}
    for part in step.carries:
        if part.table not in known:
            return step.blocked(f"the database has no table '{part.table}' that could be carried", "correct the name")
        if strange := sorted(set(part.columns.values()) - set(known[part.table])):
            return step.blocked(
                f"table '{part.table}' has no column '{strange[0]}'",
                "say under 'columns': its new name = \"its present one\"",
            )
    return []
