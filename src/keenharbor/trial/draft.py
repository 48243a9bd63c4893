"""From decisions to a plan that a person can read and change."""

from __future__ import annotations

from keenharbor.base.text import now
from keenharbor.site.checks import Decision
from keenharbor.site.edits import edits_of, installed_packages
from keenharbor.site.feed import Feed, allows
from keenharbor.site.readiness import Readiness
from keenharbor.site.view import SiteView

HEAD = """\
# The plan of an upgrade: the steps in the order in which they are carried out.
# Read it, change it, rehearse it:   keenharbor trial run
# A step that fails is tried again 'retries' times; the trial goes on after a failed step, to show as much as it
# can in one go; the cutover never does: it puts everything back.
format = 1

[plan]
site = "{site}"
core = "{core}"
runtime = "{runtime}"
drafted = "{drafted}"
"""


def draft_plan(site: SiteView, feed: Feed, readiness: Readiness) -> str:
    """``upgrade.toml`` for what `keenharbor.site.readiness.judge` decided, with comments that say why each step
    stands where it does."""
    parts = [
        HEAD.format(
            site=site.name, core=readiness.core, runtime=readiness.runtime, drafted=f"{now():%Y-%m-%d %H:%M} UTC"
        )
    ]
    for decision in readiness.decisions:
        if decision.open:
            parts.append(
                f"# STILL OPEN: {decision.name}. {decision.reason.capitalize()}; without a decision it stays and is likely to\n"
                f"# break. Draft again with {decision.proposal}, or add a step here.\n"
            )
    if not feed.has_packages:
        parts.append(
            "# The packages are distributions, which the runtime's own installer puts in place: let steps of the kind 'command'\n"
            "# run it, instead of those of the kind 'package' below.\n"
        )
    early: list[Decision] = []
    late: list[Decision] = []
    for decision in readiness.decisions:
        if decision.action in ("update", "replace"):
            release = feed.need(decision.other or decision.name, decision.version or "")
            runs_now = allows(release.requires.core, readiness.core_now) and allows(
                release.requires.runtime, readiness.runtime_now
            )
            (early if runs_now else late).append(decision)
    removals = [d for d in readiness.decisions if d.action == "remove"]
    if removals:
        parts.append("# -- First what cannot come along: the old core still runs, so a surprise shows at once.\n")
        parts += [_table(name=f"remove-{d.name}", kind="remove", uninstall=d.name) for d in removals]
    if early:
        parts.append("# -- Updates that run on the core and runtime of today as well as on the new ones.\n")
        parts += [_package(site, feed, d) for d in early]
    if readiness.runtime != readiness.runtime_now:
        parts.append("# -- The runtime by itself, so that what breaks now is the runtime's doing.\n")
        parts.append(_table(name="runtime", kind="runtime", version=readiness.runtime))
    if readiness.core != readiness.core_now:
        parts.append(
            "# -- The core. Files that the new release does not have any more stay, unless you set remove_dropped = true.\n"
        )
        stops = readiness.route[:-1]
        if stops:
            parts.append(
                "# -- It cannot be put over the present one directly: each release on the way is a step of its own.\n"
            )
        for version in (*stops, readiness.core):
            parts.append(
                _table(
                    name="core" if version == readiness.core else f"core-{version}", kind="package",
                    package=site.model.core.package, version=version, carry_local_edits=False, remove_dropped=False,
                )
            )  # fmt: skip
    if late:
        parts.append("# -- Updates that want the new core or runtime.\n")
        parts += [_package(site, feed, d) for d in late]
    return "\n".join(parts)


def _package(site: SiteView, feed: Feed, decision: Decision) -> str:
    name = decision.other or decision.name
    release = feed.need(name, decision.version or "")
    comments = [f"# Notes of {name} {release.version}: {release.notes}"] if release.notes else []
    if decision.action == "replace":
        return "\n".join(comments + [
            _table(name=f"replace-{decision.name}", kind="package", package=name, version=release.version,
                   replaces=decision.name)])  # fmt: skip
    installed = next(p for p in installed_packages(site) if p.name == name)
    old = feed.find(name, installed.version)
    edits = edits_of(site.root, installed, feed.package(old)) if old is not None and feed.has_packages else []
    if edits:
        listed = ", ".join(e.path for e in edits)
        comments.append(f"# Edited here by hand: {listed}. carry_local_edits = true takes the edit over.")
    return "\n".join(comments + [
        _table(name=f"update-{name}", kind="package", package=name, version=release.version)])  # fmt: skip


def _table(**values: str | bool) -> str:
    lines = ["[[step]]"]
    for key, value in values.items():
        lines.append(f"{key} = {str(value).lower()}" if isinstance(value, bool) else f'{key} = "{value}"')
    return "\n".join(lines) + "\n"
