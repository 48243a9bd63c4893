"""Checking a plan against the site, before anything is tried: does it still fit what is there, and does it lead where it says?"""

from __future__ import annotations

import dataclasses

from keenharbor.base.errors import KeenHarborError
from keenharbor.base.text import plural
from keenharbor.clone.environment import environment_of
from keenharbor.site.checks import Check, Verdict
from keenharbor.site.components import normal_name
from keenharbor.site.edits import edits_of, installed_packages
from keenharbor.site.feed import Feed, Package, Release, allows, is_version, version_order
from keenharbor.site.view import SiteView
from keenharbor.tree.areas import fits
from keenharbor.trial import plan as kinds


@dataclasses.dataclass
class _State:
    """The versions that the steps so far lead to; ``asks`` what each extension wants of core and runtime."""

    core: str
    runtime: str
    versions: dict[str, str]
    asks: dict[str, tuple[str, str]]


def check_plan(site: SiteView, feed: Feed | None, plan: kinds.Plan) -> list[Check]:
    """What was found of the plan, worst first; reads only."""
    checks: list[Check] = []
    components = {c.name: c for c in site.components()}
    core, runtime = site.told_versions()
    state = _State(
        core, runtime, {n: c.version for n, c in components.items()},
        {n: (c.requires_core, c.requires_runtime) for n, c in components.items()},
    )  # fmt: skip
    if plan.plan.site != site.name:
        checks.append(Check("plan", Verdict.CAUTION, f"it was drafted for the site '{plan.plan.site}', and this is '{site.name}'",
                            "look at each point below: it is what does not fit"))  # fmt: skip
    for step in plan.step:
        checks += _step(site, feed, step, state)
    if version_order_of(state.core) != version_order_of(plan.plan.core):
        checks.append(Check("target", Verdict.BLOCKED, f"the steps lead to core {state.core}, the plan says {plan.plan.core}",
                            "add the step that is missing, or correct 'core' under [plan]"))  # fmt: skip
    if state.runtime != plan.plan.runtime:
        reason = f"the steps lead to runtime {state.runtime}, the plan says {plan.plan.runtime}"
        checks.append(Check("target", Verdict.BLOCKED, reason,
                            "add a step of the kind 'runtime', or correct 'runtime' under [plan]"))  # fmt: skip
    for name, version in state.versions.items():
        wants_core, wants_runtime = state.asks[name]
        if not (allows(wants_core, state.core) and allows(wants_runtime, state.runtime)):
            reason = f"{version} would stay, and wants core {wants_core or 'any'} on runtime {wants_runtime or 'any'}"
            checks.append(
                Check(f"at the end: {name}", Verdict.BLOCKED, reason, "update, replace or remove it in the plan")
            )
    if not checks:
        checks.append(
            Check(
                "plan",
                Verdict.CLEAR,
                f"all {plural(len(plan.step), 'step')} fit the site, and lead to core {state.core}",
            )
        )
    return sorted(checks, key=lambda c: c.verdict.rank)


def version_order_of(text: str) -> object:
    """A version for comparing; what is none is compared as a text."""
    return version_order(text) if is_version(text) else text


def _step(site: SiteView, feed: Feed | None, step: kinds.Step, state: _State) -> list[Check]:
    def blocked(reason: str, remedy: str) -> list[Check]:
        return [Check(f"step {step.name}", Verdict.BLOCKED, reason, remedy)]

    if step.carries:
        with site.reading_database() as state_now:
            known = {t.name: t.columns for t in state_now.schema.tables}
        for part in step.carries:
            if part.table not in known:
                return blocked(f"the database has no table '{part.table}' that could be carried", "correct the name")
            if strange := sorted(set(part.columns.values()) - set(known[part.table])):
                return blocked(
                    f"table '{part.table}' has no column '{strange[0]}'",
                    "say under 'columns': its new name = \"its present one\"",
                )
    if isinstance(step, kinds.PackageStep):
        return _package(site, feed, step, state)
    if isinstance(step, kinds.RemoveStep):
        if step.uninstall is not None:
            if step.uninstall not in state.versions:
                return blocked(f"the site has no '{step.uninstall}' at that point", "take the step out")
            del state.versions[step.uninstall]
        entries = site.scan().entries
        unmet = [p for p in step.paths if not any(fits(path, (p,)) for path in entries)]
        if unmet:
            return [
                Check(
                    f"step {step.name}",
                    Verdict.CAUTION,
                    f"no path fits {', '.join(unmet)}",
                    "correct the pattern, or take it out",
                )
            ]
    elif isinstance(step, kinds.ExtensionStep):
        if step.extension not in state.versions:
            return blocked(
                f"the site has no '{step.extension}' at that point", "correct the name, or take the step out"
            )
    elif isinstance(step, kinds.DistributionsStep):
        return _distributions(site, feed, step, state)
    elif isinstance(step, kinds.CheckStep) and (strange := sorted(set(step.only) - {c.name for c in site.model.check})):
        return blocked(f"the site file has no check '{strange[0]}'", "correct the name, or add the check")
    elif isinstance(step, kinds.RuntimeStep):
        state.runtime = step.version
        try:
            site.launcher(step.version)
        except KeenHarborError as error:
            return blocked(error.what, error.advice or "install it")
    elif isinstance(step, kinds.SettingStep) and step.file is not None and step.file not in site.settings():
        return blocked(
            f"the settings file has no '{step.file}'",
            "correct the key; 'keenharbor survey --why settings' tells the file",
        )
    elif (
        isinstance(step, kinds.PurgeStep)
        and site.model.commands.purge_cache is None
        and not site.model.areas.get("cache")
    ):
        return blocked(
            "the site file says of no cache and of no command to purge it", "name them under [areas] or [commands]"
        )
    return []


def _distributions(site: SiteView, feed: Feed | None, step: kinds.DistributionsStep, state: _State) -> list[Check]:
    subject, found = f"step {step.name}", []
    if environment_of(site) is None:
        found.append(Check(subject, Verdict.BLOCKED, "the site has no virtual environment of its own",
                           "name the folder of its packages: 'packages' under [runtime]"))  # fmt: skip
    core = normal_name(site.model.core.distribution or "")
    by_name = {normal_name(n): n for n in state.versions}
    for word in step.wants:
        name, _, version = word.partition("==")
        if version and feed is not None and feed.of(name) and feed.find(name, version) is None:
            there = ", ".join(r.version for r in feed.of(name)[-5:])
            found.append(Check(subject, Verdict.BLOCKED, f"the index has no {name} {version} (of late: {there})",
                               "name another version"))  # fmt: skip
        if normal_name(name) == core and version:
            state.core = version
        elif normal_name(name) in by_name and version:
            state.versions[by_name[normal_name(name)]] = version
            release = feed.find(name, version) if feed is not None else None
            state.asks[by_name[normal_name(name)]] = (
                (release.requires.core, release.requires.runtime) if release else ("", "")
            )
    for name in step.removes:
        if normal_name(name) not in by_name:
            found.append(Check(subject, Verdict.CAUTION, f"'{name}' is not installed at that point", "take it out"))
        else:
            del state.versions[by_name[normal_name(name)]]
    return found


def _package(site: SiteView, feed: Feed | None, step: kinds.PackageStep, state: _State) -> list[Check]:
    subject = f"step {step.name}"
    if feed is None:
        return [Check(subject, Verdict.BLOCKED, "no feed of releases is named", "add [feed] to the site file")]
    release = feed.find(step.package, step.version)
    if release is None:
        there = ", ".join(r.version for r in feed.of(step.package)) or "none"
        return [
            Check(
                subject,
                Verdict.BLOCKED,
                f"the feed has no {step.package} {step.version} (it has: {there})",
                "name another version",
            )
        ]
    found: list[Check] = []
    try:
        package: Package | None = feed.package(release)
    except KeenHarborError as error:
        package = None
        found.append(Check(subject, Verdict.BLOCKED, error.what, error.advice or "complete the feed"))
    found += _fit(site, step, release, state, subject)
    if package is not None and not step.carry_local_edits:
        installed = next((p for p in installed_packages(site) if p.name == step.package), None)
        old = feed.find(step.package, installed.version) if installed is not None else None
        if installed is not None and old is not None:
            edits = edits_of(site.root, installed, feed.package(old))
            if edits:
                listed = ", ".join(e.path for e in edits[:3])
                found.append(Check(subject, Verdict.CAUTION, f"it would wipe {plural(len(edits), 'local edit')}: {listed}",
                                   "set carry_local_edits = true, or let it go"))  # fmt: skip
    if release.notes and step.retries == 0 and "again" in release.notes.lower():
        found.append(
            Check(subject, Verdict.CAUTION, f"its notes speak of a second try: {release.notes}", "set 'retries'")
        )
    return found


def _fit(site: SiteView, step: kinds.PackageStep, release: Release, state: _State, subject: str) -> list[Check]:
    found = []
    is_core = step.package == site.model.core.package
    if is_core:
        if is_version(state.core) and not allows(release.upgrades_from, state.core):
            reason = f"{step.version} cannot be put over {state.core} (it wants {release.upgrades_from})"
            found.append(Check(subject, Verdict.BLOCKED, reason,
                               "add a step for an intermediate release: keenharbor ready tells the route"))  # fmt: skip
        state.core = step.version
    elif not (allows(release.requires.core, state.core) and allows(release.requires.runtime, state.runtime)):
        wants = f"core {release.requires.core or 'any'} on runtime {release.requires.runtime or 'any'}"
        reason = f"{step.package} {step.version} wants {wants}; "
        reason += f"at that point there is core {state.core} on {state.runtime}"
        found.append(Check(subject, Verdict.CAUTION, reason, "put it behind the core's or the runtime's step"))
    if is_core and not allows(release.requires.runtime, state.runtime):
        reason = f"core {step.version} wants runtime {release.requires.runtime}; at that point there is {state.runtime}"
        found.append(Check(subject, Verdict.BLOCKED, reason, "put the runtime's step before it"))
    if step.replaces is not None:
        if step.replaces not in state.versions:
            found.append(
                Check(
                    subject,
                    Verdict.BLOCKED,
                    f"the site has no '{step.replaces}' to replace at that point",
                    "take 'replaces' out",
                )
            )
        state.versions.pop(step.replaces, None)
    if not is_core:
        state.versions[step.package] = step.version
        state.asks[step.package] = (release.requires.core, release.requires.runtime)
    return found
