"""Readiness: can the site go to the target, and what becomes of each extension?"""

from __future__ import annotations

import dataclasses
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta

from keenharbor.base.errors import UsageError
from keenharbor.base.text import plural, today
from keenharbor.judge.choices import REPLACE, Choice
from keenharbor.judge.inquiry import CHECKS, Inquiry
from keenharbor.judge.solving import RUNTIME, FeedUniverse, Offer, Solved, Unsolved, Wish, least_change, route, solve
from keenharbor.site.checks import Check, Decision, Verdict
from keenharbor.site.components import distributions, normal_name
from keenharbor.site.feed import Feed, NoFeed, Release, allows, is_version, version_order
from keenharbor.site.indexfeed import IndexFeed, required
from keenharbor.site.survey import NewestSnapshot
from keenharbor.site.view import Component, SiteView

_MOST_TRIED = 3
ABANDONED_AFTER = timedelta(days=2 * 365)


@dataclass(frozen=True)
class Readiness:
    """The whole judgement, checks worst first."""

    core: str
    runtime: str
    core_now: str
    runtime_now: str
    checks: tuple[Check, ...]
    decisions: tuple[Decision, ...]
    route: tuple[str, ...] = ()
    also: tuple[str, ...] = ()
    """What else is to be there, as options of the command line."""

    @property
    def suggested_runtime(self) -> str:
        """The runtime that what is open asks for; else the one that was judged."""
        wanted = [d.proposed_runtime for d in self.decisions if d.proposed_runtime]
        return max(wanted, default=self.runtime)

    @property
    def proposals(self) -> tuple[str, ...]:
        """What could be decided of what is open, as options of the command line."""
        return tuple(d.proposal for d in self.decisions if d.proposal and not d.proposed_runtime)

    @property
    def verdict(self) -> Verdict:
        return min((c.verdict for c in self.checks), key=lambda v: v.rank, default=Verdict.CLEAR)

    def as_json(self) -> dict[str, object]:
        return {
            "verdict": self.verdict.value,
            "target": {"core": self.core, "runtime": self.runtime},
            "now": {"core": self.core_now, "runtime": self.runtime_now},
            "route": list(self.route),
            "checks": [dataclasses.asdict(c) for c in self.checks],
            "decisions": [dataclasses.asdict(d) for d in self.decisions],
        }


def judge(
    site: SiteView,
    feed: Feed,
    core: str | None,
    runtime: str | None,
    chosen: Mapping[str, Choice],
    snapshot: NewestSnapshot | None,
    latest: Latest | None = None,
    database: str | None = None,
    also: Mapping[str, str] | None = None,
) -> Readiness:
    """Judge whether ``site`` can go to ``core`` on ``runtime`` (None: as they are now).

    ``latest`` is what `latest_core` found, when that was asked for. ``database`` is the engine or version of it to go
    to (``11.4``, ``postgres``, ``postgres 16``).

    ``chosen`` is what a person wants to become of an extension; ``also`` are the versions of further distributions
    (such as the framework) that are to be there. Reads only. Raises `UsageError` for a core, runtime, extension,
    distribution or version that does not exist.
    """
    core_now, runtime_now = site.core_version(), site.runtime_version()
    core, runtime = core or core_now, runtime or runtime_now
    components = {c.name: _with_facts(site, feed, c, runtime) for c in site.components()}
    for name in chosen:
        if name not in components:
            raise UsageError(f"the site has no extension or theme '{name}'", advice="'keenharbor survey' lists them")
    _refuse_unknown(feed, also or {})
    release = _release_of(site, feed, core, core_now)
    checks = [*_core_checks(site, release, runtime, in_feed=not isinstance(feed, NoFeed))]
    moves_up = version_order(core) > version_order(core_now)
    known = not isinstance(feed, NoFeed)
    way = route(feed, site.model.core.package, core_now, core) if moves_up and known else [core] if moves_up else []
    checks += _route_checks(way, core_now, core, site)
    decisions, told = _decisions(site, feed, components, core, runtime, chosen)
    checks += told
    if known:
        decisions, together = _together(site, feed, decisions, components, core, runtime, chosen, also or {})
        checks += together
    elif core != core_now:
        reason = f"what {core} asks for, and whether each extension fits it, nobody says: no feed is named"
        checks.append(Check("feed", Verdict.CAUTION, reason, "read its notes; the trial shows the rest"))
    checks += latest.check() if latest is not None else []
    asked = Inquiry(site, feed, release, core, core_now, runtime, components, decisions, snapshot, database)
    for check in CHECKS:
        checks += check(asked)
    checks.sort(key=lambda c: c.verdict.rank)
    return Readiness(
        core,
        runtime,
        core_now,
        runtime_now,
        tuple(checks),
        tuple(decisions),
        tuple(way or ()),
        tuple(f"--also {n}={v}" for n, v in (also or {}).items()),
    )


def _decisions(
    site: SiteView, feed: Feed, components: Mapping[str, Component], core: str, runtime: str,
    chosen: Mapping[str, Choice],
) -> tuple[list[Decision], list[Check]]:  # fmt: skip
    """What becomes of each extension by itself, and what is told of it."""
    checks: list[Check] = []
    decisions: list[Decision] = []
    unversioned = 0
    others = sorted(v for v in site.model.runtime.launchers if v != runtime)
    for component in components.values():
        decision = _decide(component, feed, core, runtime, chosen.get(component.name), others)
        if component.name in site.model.upgrade.switch_off and component.on and decision.action in ("keep", "update"):
            decision = dataclasses.replace(decision, off=decision.off or "meanwhile")
        decisions.append(decision)
        told = _component_check(component, decision, core, runtime, feed)
        if component.version or told.verdict is not Verdict.CLEAR:
            checks.append(told)
        else:
            unversioned += 1
    if unversioned:
        stay = f"{plural(unversioned, 'stays', 'stay')} as {'it is' if unversioned == 1 else 'they are'}"
        checks.append(Check("extensions", Verdict.CLEAR, f"{stay}: nothing tells a version"))
    return decisions, checks


def _refuse_unknown(feed: Feed, also: Mapping[str, str]) -> None:
    """Refuse distributions that the index does not have."""
    for name, version in also.items():
        if not isinstance(feed, IndexFeed):
            raise UsageError(
                f"--also {name}: there is no index of distributions", advice="name it: 'index' under [feed]"
            )
        if feed.find(name, version) is None:
            there = ", ".join(r.version for r in feed.of(name)[-5:])
            raise UsageError(
                f"the index has no {name} {version}", where=feed.folder, advice=f"it has {there}" if there else None
            )


def _release_of(site: SiteView, feed: Feed, core: str, core_now: str) -> Release:
    """The core's release; one that is installed and that the feed does not have (any more) asks for nothing."""
    package = site.model.core.package
    if core == core_now and feed.find(package, core) is None:
        return NoFeed(site.site_file).need(package, core)
    return feed.need(package, core)


def _with_facts(site: SiteView, feed: Feed, component: Component, runtime: str) -> Component:
    """A component that does not say itself what it asks for, with what its distribution or the feed says of its
    release."""
    if component.requires_core or component.requires_runtime or not is_version(component.version):
        return component
    if isinstance(feed, IndexFeed):
        own = distributions(site.packages()).get(normal_name(component.name))
        if own is not None:
            asked = required(own.requires, runtime).get(normal_name(site.model.core.package), "")
            return dataclasses.replace(component, requires_core=asked, requires_runtime=own.requires_python)
    there = feed.find(component.name, component.version)
    if there is None:
        return component
    return dataclasses.replace(component, requires_core=there.requires.core, requires_runtime=there.requires.runtime)


@dataclass(frozen=True)
class Latest:
    """The newest core that all that stays can go to; the newer one that it cannot go to, and why."""

    core: str
    beyond: str | None = None
    reasons: tuple[str, ...] = ()

    def check(self) -> list[Check]:
        """What is told of the newer one."""
        if self.beyond is None:
            return []
        remedy = f"keenharbor ready --core {self.beyond} tells what to decide"
        return [Check("newer core", Verdict.CAUTION, f"{self.beyond} is out, but: {'; '.join(self.reasons)}", remedy)]


def latest_core(site: SiteView, feed: Feed, runtime: str | None, chosen: Mapping[str, Choice]) -> Latest:
    """The newest core to which all that stays can go, on ``runtime`` (or the one that the site has); the newest of all
    when there is none, so that what stands in the way is told."""
    releases = feed.of(site.model.core.package)
    if isinstance(feed, NoFeed):
        raise UsageError(
            "which release is the newest is not known: no feed is named", where=site.site_file,
            advice="name the version with --core, or add [feed]",
        )  # fmt: skip
    if not releases:
        raise UsageError(f"the feed has no {site.model.core.package}", where=feed.folder)
    now_version = version_order(site.core_version())
    beyond: tuple[str, tuple[str, ...]] | tuple[()] = ()
    components = {c.name: c for c in site.components()}
    for release in reversed(releases):
        if release.order < now_version or release.order.is_prerelease:
            continue
        wishes, universe = _wishes(
            site, feed, components, release.version, runtime or site.runtime_version(), chosen, set(components)
        )
        found = solve(universe, wishes)
        if isinstance(found, Solved):
            return Latest(release.version, *beyond)
        if not beyond:
            beyond = (release.version, found.reasons)
    return Latest(releases[-1].version)


def _wishes(
    site: SiteView, feed: Feed, components: Mapping[str, Component], core: str, runtime: str,
    chosen: Mapping[str, Choice],
    staying: set[str],
) -> tuple[list[Wish], FeedUniverse]:  # fmt: skip
    """What is asked of the versions (names as the feed has them), and what there is to choose from."""
    package = feed.key(site.model.core.package)
    runtimes = {*(v for v in site.model.runtime.launchers if is_version(v)), runtime}
    moving = {package, *(feed.key(n) for n in components)}
    universe = FeedUniverse(feed, package, runtimes, _installed(site, feed, components, package, runtime), moving)
    wishes = [Wish(package, f"=={core}"), Wish(RUNTIME, f"=={runtime}")]
    for name in sorted(staying):
        said, here = chosen.get(name), components[name].version
        if said is not None and said.action == "replace":
            wishes.append(Wish(feed.key(said.other), ""))
        elif is_version(here) and (said is None or said.action != "remove"):
            fixed = {"keep": here, "update": said.version}.get(said.action) if said is not None else None
            wishes.append(Wish(feed.key(name), f"=={fixed}" if fixed else f">={here}"))
    return wishes, universe


def _installed(
    site: SiteView, feed: Feed, components: Mapping[str, Component], package: str, runtime: str
) -> list[Offer]:  # fmt: skip
    """What is installed, with what it asks of others."""
    if isinstance(feed, IndexFeed):
        there = distributions(site.packages()).items()
        return [
            Offer(
                n,
                d.version,
                {**required(d.requires, runtime), **({RUNTIME: d.requires_python} if d.requires_python else {})},
            )
            for n, d in there
            if is_version(d.version)
        ]
    return [
        Offer(c.name, c.version, {k: v for k, v in ((package, c.requires_core), (RUNTIME, c.requires_runtime)) if v})
        for c in components.values()
        if is_version(c.version)
    ]


def _together(
    site: SiteView, feed: Feed, decisions: list[Decision], components: Mapping[str, Component], core: str, runtime: str,
    chosen: Mapping[str, Choice], also: Mapping[str, str],
) -> tuple[list[Decision], list[Check]]:  # fmt: skip
    """Whether there is one set of versions for all that stays; updates take its versions."""
    staying = {d.name for d in decisions if not d.open and d.action != "remove" and d.off != "for good"}
    wishes, universe = _wishes(site, feed, components, core, runtime, chosen, staying)
    wishes += [Wish(feed.key(n), f"=={v}") for n, v in also.items()]
    package = feed.key(site.model.core.package)
    found = solve(universe, wishes)
    if isinstance(found, Unsolved):
        droppable = [feed.key(n) for n in sorted(staying) if chosen.get(n) is None]
        now_core = version_order(site.core_version())
        others = {
            RUNTIME: [v for v in sorted(site.model.runtime.launchers, reverse=True) if v != runtime and is_version(v)],
            package: [r.version for r in reversed(feed.of(package)) if r.version != core and r.order >= now_core],
        }
        change = least_change(universe, wishes, others, droppable)
        remedy = (
            f"the least change that would do: {change.told()}" if change else "no small change would do; decide by hand"
        )
        return decisions, [Check("versions together", Verdict.BLOCKED, "; ".join(found.reasons), remedy)]
    settled = []
    for decision in decisions:
        version = found.versions.get(feed.key(decision.name))
        if (
            decision.action == "update"
            and version is not None
            and version != decision.version
            and chosen.get(decision.name) is None
        ):
            same = version == components[decision.name].version
            decision = dataclasses.replace(
                decision,
                action="keep" if same else "update",
                version=version,
                reason="the newest release that goes with all others",
            )
        settled.append(decision)
    checks = [Check("versions together", Verdict.CLEAR, f"there is a set of versions for all {len(staying)} that stay")]
    if isinstance(feed, IndexFeed):
        checks += _moving_along(
            site,
            found.versions,
            {package, RUNTIME, *(feed.key(n) for n in components)},
            universe,
            {feed.key(n) for n in also},
        )
        checks += _could_move(site, feed, package, core, found.versions, wishes, universe)
    return settled, checks


def _moving_along(
    site: SiteView, versions: Mapping[str, str], known: set[str], universe: FeedUniverse, also: Collection[str]
) -> list[Check]:  # fmt: skip
    """The installed distributions that must move although nobody asked for it, and those that come new."""
    there = distributions(site.packages())
    checks = []
    for name in sorted(versions.keys() - known):
        new, old = versions[name], there.get(name)
        if old is not None and version_order(old.version) == version_order(new):
            continue
        asking = [
            o for n, v in sorted(versions.items()) for o in universe.offers(n) if o.version == v and name in o.requires
        ]
        # Those whom the present version does not suit are the reason.
        asking.sort(key=lambda o: old is not None and allows(o.requires[name], old.version))
        asked = [f"{o.name} {o.version} wants {name} {o.requires[name] or '(any)'}" for o in asking]
        asked = ["as you said"] if name in also else asked
        moves = f"{old.version} → {new}" if old is not None else f"{new} comes new"
        checks.append(
            Check(
                f"moves along: {name}",
                Verdict.CAUTION,
                f"{moves}: {'; '.join(asked[:2])}",
                "pin it beside the core's version",
                (name, new),
            )
        )
    return checks


def _could_move(
    site: SiteView, feed: Feed, package: str, core: str, versions: Mapping[str, str], wishes: Sequence[Wish],
    universe: FeedUniverse,
) -> list[Check]:  # fmt: skip
    """What the core stands on and need not move, but could go to a later series with all others: the framework."""
    there = distributions(site.packages())
    release = feed.find(package, core)
    told = []
    for name, spec in sorted(release.requires.packages.items() if release is not None else ()):
        now = there.get(feed.key(name))
        if now is None or not is_version(now.version) or versions.get(feed.key(name)) != now.version:
            continue
        later = [
            o for o in universe.offers(feed.key(name))
            if o.order.release[:1] > version_order(now.version).release[:1] and allows(spec, o.version)
        ]  # fmt: skip
        for offer in sorted(later, key=lambda o: o.order, reverse=True)[:_MOST_TRIED]:
            if isinstance(solve(universe, [*wishes, Wish(offer.name, f"=={offer.version}")]), Solved):
                told.append(f"--also {now.name}={offer.version} (now {now.version})")
                break
    if not told:
        return []
    return [Check("could move along", Verdict.CLEAR, f"it stands on these, which may stay or go: {', '.join(told)}")]


def _route_checks(way: list[str] | None, now_version: str, core: str, site: SiteView) -> list[Check]:
    title = site.model.platform.title or site.model.platform.name
    if way is None:
        reason = f"no release of {title} up to {core} may be put over {now_version}, by what the feed says"
        return [Check("route", Verdict.BLOCKED, reason, "look for an intermediate release, or complete the feed")]
    if len(way) > 1:
        stops = " → ".join([now_version, *way])
        reason = f"{title} {core} cannot be put over {now_version} directly: {stops}"
        return [
            Check("route", Verdict.CAUTION, reason, "the plan has a step for each stop; each is looked at in the trial")
        ]
    return []


def _core_checks(site: SiteView, release: Release, runtime: str, *, in_feed: bool) -> list[Check]:
    name, title = site.model.runtime.name, site.model.platform.title or site.model.platform.name
    now_core, now_runtime = site.core_version(), site.runtime_version()
    checks = []
    if version_order(release.version) < version_order(now_core):
        checks.append(
            Check("core", Verdict.BLOCKED, f"{title} {release.version} is older than {now_core}", "name a newer one")
        )
    elif release.version == now_core:
        checks.append(Check("core", Verdict.CLEAR, f"{title} stays at {now_core}"))
    else:
        checks.append(
            Check(
                "core",
                Verdict.CLEAR,
                f"{title} {now_core} → {release.version}" + (" is in the feed" if in_feed else ""),
            )
        )
    known = site.model.runtime.launchers
    if not allows(release.requires.runtime, runtime):
        fit = [v for v in sorted(known) if allows(release.requires.runtime, v)]
        remedy = (
            f"plan for it too: --runtime {fit[-1]}" if fit else f"install a {name} that fits {release.requires.runtime}"
        )
        reason = f"{title} {release.version} wants {name} {release.requires.runtime}; the site runs {name} {runtime}"
        checks.append(Check("runtime", Verdict.BLOCKED, reason, remedy))
    elif runtime not in known:
        remedy = "install it and name its launcher under [runtime.launchers] in the site file"
        checks.append(Check("runtime", Verdict.BLOCKED, f"{name} {runtime} is not installed here", remedy))
    elif runtime != now_runtime:
        reason = f"{name} {now_runtime} → {runtime}: it may break code that nobody has updated"
        checks.append(
            Check("runtime", Verdict.CAUTION, reason, "the trial shows it; the plan gives it a step of its own")
        )
    else:
        checks.append(Check("runtime", Verdict.CLEAR, f"{name} {runtime} fits"))
    if site.maintenance_on:
        checks.append(
            Check(
                "maintenance",
                Verdict.CAUTION,
                "the site is in maintenance now",
                "see 'keenharbor log'; a cutover may be open",
            )
        )
    return checks


def _decide(
    component: Component, feed: Feed, core: str, runtime: str, chosen: Choice | None, other_runtimes: Sequence[str]
) -> Decision:
    name, kind = component.name, component.kind
    match chosen.action if chosen is not None else None:
        case "switch-off":
            found = _decide(component, feed, core, runtime, None, ())
            if found.open:
                reason = f"nothing fits; it stays, switched off ({found.reason})"
                return Decision(name, kind, "keep", component.version, reason=reason, off="for good")
            return dataclasses.replace(found, reason=f"{found.reason}; off meanwhile, as you decided", off="meanwhile")
        case "remove":
            return Decision(name, kind, "remove", reason="you decided so")
        case "keep":
            return Decision(name, kind, "keep", component.version, reason="you decided so")
    if chosen is not None and chosen.action == "replace":
        best = feed.newest_for(chosen.other, core, runtime)
        if best is None:
            raise UsageError(f"no release of '{chosen.other}' fits core {core} on runtime {runtime}")
        return Decision(name, kind, "replace", best.version, chosen.other, "you decided so")
    if chosen is not None:
        feed.need(name, chosen.version)
        return Decision(name, kind, "update", chosen.version, reason="you decided so")
    fits_now = allows(component.requires_core, core) and allows(component.requires_runtime, runtime)
    best = feed.newest_for(name, core, runtime)
    if best is not None and is_version(component.version) and best.order > version_order(component.version):
        return Decision(name, kind, "update", best.version, reason="the newest release that fits the target")
    if fits_now:
        asks = component.requires_core or component.requires_runtime or not isinstance(feed, NoFeed)
        reason = "fits the target as it is" if asks else "nobody says whether it fits: no feed is named"
        return Decision(name, kind, "keep", component.version, reason=reason)
    elsewhere = next((v for v in other_runtimes if feed.newest_for(name, core, v) is not None), None)
    if elsewhere is not None:
        reason = f"no release fits core {core} on runtime {runtime}; one does on runtime {elsewhere}"
        return Decision(
            name,
            kind,
            "keep",
            component.version,
            reason=reason,
            open=True,
            proposal=f"--runtime {elsewhere}",
            proposed_runtime=elsewhere,
        )
    releases = feed.of(name)
    other = releases[-1].replaced_by if releases else ""
    if other and feed.newest_for(other, core, runtime) is not None:
        proposal = f"--extension {name}={REPLACE}{other}"
    else:
        proposal = f"--extension {name}=remove"
    reason = f"no release of {name} fits"
    return Decision(name, kind, "keep", component.version, reason=reason, open=True, proposal=proposal)


def _last_word(feed: Feed, name: str) -> str:
    """What the newest release says of itself: what core it claims to fit, and whether it looks abandoned."""
    releases = feed.of(name)
    if not releases:
        return ". The feed does not have it"
    last = releases[-1]
    told = f". The last release is {last.version}"
    told += f", for core {last.requires.core}" if last.requires.core else ", which never said for which core"
    if last.released is not None:
        told += f", of {last.released}"
        if today() - last.released > ABANDONED_AFTER:
            told += ": it looks abandoned"
    return told


def _component_check(component: Component, decision: Decision, core: str, runtime: str, feed: Feed) -> Check:
    subject = f"{component.kind} {component.name}"
    state = "" if component.on is not False else " (switched off)"
    if decision.off == "for good":
        return Check(subject, Verdict.CAUTION, "stays, switched off: no release fits", "look for what takes its place")
    if decision.off:
        state += "; switched off meanwhile"
    if decision.open:
        other = next((r.replaced_by for r in reversed(feed.of(component.name))), "")
        reason = f"no release runs on core {core} with runtime {runtime}; {component.version} wants core "
        reason += (component.requires_core or "any") + _last_word(feed, component.name)
        reason += f". Its makers point to {other}" if other else ""
        if decision.proposed_runtime:
            return Check(subject, Verdict.BLOCKED, decision.reason + state, f"plan for it too: {decision.proposal}")
        return Check(subject, Verdict.BLOCKED, reason + state, f"decide: {decision.proposal}")
    if decision.action == "remove":
        return Check(subject, Verdict.CAUTION, "will be removed; its tables stay" + state, "look at what depends on it")
    if decision.action == "replace":
        reason = f"will be replaced by {decision.other} {decision.version}" + state
        return Check(subject, Verdict.CAUTION, reason, "look at its pages in the trial")
    fits = allows(component.requires_core, core) and allows(component.requires_runtime, runtime)
    if decision.action == "update":
        reason = f"update {component.version} → {decision.version}" + state
        release = feed.find(component.name, decision.version or "")
        wrong = release and not (allows(release.requires.core, core) and allows(release.requires.runtime, runtime))
        if wrong and release is not None:
            return Check(
                subject, Verdict.BLOCKED, f"{reason}: it wants core {release.requires.core}", "choose another version"
            )
        if release is not None and release.notes:
            return Check(subject, Verdict.CAUTION, f"{reason}. Its notes: {release.notes}", "see it in the trial")
        return Check(subject, Verdict.CLEAR, reason)
    if not fits:
        return Check(
            subject, Verdict.BLOCKED, f"{component.version} does not say that it fits" + state, "remove or replace it"
        )
    release = feed.find(component.name, component.version) if is_version(component.version) else None
    if release is not None and release.released is not None and today() - release.released > ABANDONED_AFTER:
        newest = feed.of(component.name)[-1]
        if newest.version == release.version:
            reason = (
                f"stays at {component.version}, the last release, of {release.released}: it looks abandoned" + state
            )
            return Check(subject, Verdict.CAUTION, reason, "look for what takes its place")
    if component.tested_up_to and version_order(component.tested_up_to) < version_order(core):
        reason = f"stays at {component.version}, tested up to core {component.tested_up_to} only" + state
        return Check(subject, Verdict.CAUTION, reason, "look at its pages in the trial")
    return Check(
        subject, Verdict.CLEAR, f"stays {f'at {component.version}' if component.version else 'as it is'}" + state
    )
