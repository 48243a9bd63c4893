"""What stands in the way of an upgrade in the site's files: edits, strays, files that go, code that cannot be parsed,
space, rights, the newest snapshot."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Mapping, Sequence
from datetime import timedelta

from keenharbor.base.durable import free_bytes
from keenharbor.base.errors import KeenHarborError
from keenharbor.base.text import age, now, plural, size
from keenharbor.host.lease import HeldError, held
from keenharbor.judge.syntax import SyntaxFault, can_parse, code_files, syntax_faults
from keenharbor.site.checks import Check, Decision, Verdict
from keenharbor.site.edits import LocalEdit, MergeConflict, installed_packages, local_edits, merge_three
from keenharbor.site.feed import Feed, Package, is_version
from keenharbor.site.strays import strays_in
from keenharbor.site.survey import NewestSnapshot
from keenharbor.site.view import JOURNAL_NAME, LEASE_NAME, Component, SiteView
from keenharbor.tree import Entry

SNAPSHOT_IS_OLD = timedelta(days=1)


def edit_checks(site: SiteView, feed: Feed, decisions: list[Decision], core_moves: bool, core: str) -> list[Check]:
    """What becomes of local edits when their packages move."""
    edits, unchecked = local_edits(site, feed)
    moving = {d.name for d in decisions if d.action != "keep"} | ({site.model.core.package} if core_moves else set())
    targets = {d.name: d.version for d in decisions if d.action == "update"} | {site.model.core.package: core}
    checks = []
    for name in sorted({e.package for e in edits}):
        paths = [e.path for e in edits if e.package == name]
        listed = ", ".join(paths[:3]) + (" …" if len(paths) > 3 else "")
        if name in moving:
            remedy = "set 'carry_local_edits = true' at its step in the plan, or let it go"
            reason = f"the new release would wipe {plural(len(paths), 'local edit')}: {listed}"
            reason += _how_they_merge(
                site, feed, [e for e in edits if e.package == name and not e.removed], name, targets.get(name)
            )
            checks.append(Check(f"local edits of {name}", Verdict.CAUTION, reason, remedy))
        else:
            checks.append(Check(f"local edits of {name}", Verdict.CLEAR, f"stay as they are: {listed}"))
    if unchecked:
        listed = "; ".join(unchecked[:4]) + (f"; and {len(unchecked) - 4} more" if len(unchecked) > 4 else "")
        remedy = "keenharbor survey --pristine COPY compares with an unpacked release; or complete the feed"
        checks.append(Check("local edits", Verdict.CAUTION, f"could not be checked: {listed}", remedy))
    return checks


def _packages(site: SiteView, feed: Feed, name: str, target: str | None) -> tuple[Package, Package] | None:
    """The installed release's package and the target's; None where the feed cannot give both."""
    installed = next((p for p in installed_packages(site) if p.name == name), None)
    old = feed.find(name, installed.version) if installed is not None and is_version(installed.version) else None
    new = feed.find(name, target) if target is not None and is_version(target) else None
    if old is None or new is None or not feed.has_packages:
        return None
    try:
        return feed.package(old), feed.package(new)
    except KeenHarborError:
        return None


def _how_they_merge(site: SiteView, feed: Feed, edits: Sequence[LocalEdit], name: str, target: str | None) -> str:
    """Whether each edit merges with what the new release made of its file (old package, new package, what is there)."""
    both = _packages(site, feed, name, target)
    if both is None or not edits:
        return ""
    folder = next(p.folder for p in installed_packages(site) if p.name == name)
    clean, untouched, told = 0, 0, []
    for edit in edits:
        file = edit.path.removeprefix(folder + "/") if folder else edit.path
        base, theirs = both[0].files.get(file), both[1].files.get(file)
        if base is None or theirs is None:
            told.append(f"{edit.path} is not in the new release")
            continue
        try:
            merge_three(base.decode("utf-8"), theirs.decode("utf-8"), site.path(edit.path).read_text())
            clean += 1
            untouched += base == theirs
        except MergeConflict as conflict:
            told.append(f"{edit.path} conflicts from line {conflict.line} on: the new release changed it there, too")
        except (UnicodeDecodeError, OSError):
            told.append(f"{edit.path} is no text")
    if clean:
        told.insert(
            0,
            f"{clean} of them can be carried over as they are"
            + (f", {untouched} because their file stays the same" if untouched else ""),
        )
    return ". " + "; ".join(told) if told else ""


def dropped_checks(site: SiteView, feed: Feed, decisions: Sequence[Decision], core_now: str, core: str) -> list[Check]:
    """Files that the new releases do not have any more: they stay, and may still be loaded."""
    targets = {d.name: d.version for d in decisions if d.action == "update"}
    if core != core_now:
        targets[site.model.core.package] = core
    checks = []
    for name, target in targets.items():
        both = _packages(site, feed, name, target)
        dropped = sorted(both[0].files.keys() - both[1].files.keys()) if both is not None else []
        if dropped:
            listed = ", ".join(dropped[:3]) + (" …" if len(dropped) > 3 else "")
            reason = f"{target} has {plural(len(dropped), 'file')} less: {listed}"
            checks.append(Check(f"dropped files of {name}", Verdict.CAUTION, reason,
                                "set 'remove_dropped = true' at its step in the plan"))  # fmt: skip
    return checks


def standing_checks(site: SiteView, entries: Mapping[str, Entry]) -> list[Check]:
    """What would stop an upgrade however well it fits: paths that may not be written, a change that is still open."""
    checks = _open_change(site)
    closed = [p for p, e in entries.items() if e.kind == "folder" and e.area in ("core", "extensions", "themes")
              and not site.files.may_write(p)]  # fmt: skip
    if closed:
        listed = ", ".join(closed[:3]) + (" …" if len(closed) > 3 else "")
        reason = f"this user may not write to {plural(len(closed), 'folder')}: {listed}"
        checks.append(Check("permissions", Verdict.BLOCKED, reason,
                            "run the cutover as the owner of the files"))  # fmt: skip
    return checks


def _open_change(site: SiteView) -> list[Check]:
    """Whether a change of live is under way, or was interrupted."""
    if not os.path.lexists(site.journal_file) and site.host.noted(JOURNAL_NAME) is None:
        return []
    try:
        with held(site.work / LEASE_NAME, "the site"), contextlib.ExitStack() as stack:
            if not site.host.is_here:
                stack.enter_context(site.host.lease(LEASE_NAME, "the site"))
            reason, remedy = "an earlier change of the live site was interrupted", "keenharbor settle"
    except HeldError as running:
        reason, remedy = f"a change of the live site is under way: {running.what}", "wait until it has ended"
    return [Check("open change", Verdict.BLOCKED, reason, remedy)]


def syntax_checks(
    site: SiteView, entries: Mapping[str, Entry], runtime: str, components: Mapping[str, Component]
) -> list[Check]:
    """Code that the target runtime cannot parse, by extension."""
    name = site.model.runtime.name
    program = site.model.runtime.launchers.get(runtime)
    if not can_parse(name):
        return []
    if program is None or not site.host.programs.exists(program):
        reason = f"{name} {runtime} is not installed here: no file was parsed by it"
        return [Check("syntax", Verdict.CAUTION, reason, "install it and name its launcher under [runtime.launchers]")]
    files = code_files(name, (p for p, e in entries.items() if e.kind == "file"))
    try:
        faults = syntax_faults(name, program, site.place, files, site.host.programs)
    except KeenHarborError as error:
        return [Check("syntax", Verdict.CAUTION, error.what, "see to it that the launcher works")]
    if not faults:
        return [Check("syntax", Verdict.CLEAR, f"{name} {runtime} can parse all {plural(len(files), 'code file')}")]
    by_owner: dict[str, list[SyntaxFault]] = {}
    for fault in faults:
        owner = next((n for n, c in components.items() if c.owns(fault.path)), "the site")
        by_owner.setdefault(owner, []).append(fault)
    unused = {n for n, c in components.items() if c.on is False}
    return [
        Check(
            f"syntax of {owner}", Verdict.CAUTION if owner in unused else Verdict.BLOCKED,
            f"{name} {runtime} cannot parse {plural(len(found), 'file')}: {found[0].path}:{found[0].line}, "
            f"{found[0].message}",
            "update it, or correct the file and carry the edit over",
        )
        for owner, found in sorted(by_owner.items())
    ]  # fmt: skip


def stray_checks(
    site: SiteView, feed: Feed, entries: Mapping[str, Entry], decisions: Sequence[Decision],
    components: Mapping[str, Component], core_moves: bool, core: str,
) -> list[Check]:  # fmt: skip
    """Strays among what is to move, and extensions that are off: whether to take them along at all."""
    moving = {d.name for d in decisions if d.action != "keep"} | ({site.model.core.package} if core_moves else set())
    # When the core moves, what takes the place of its files hides what it changed, wherever it stands.
    strays = [s for s in strays_in(site, feed, entries) if core_moves or s.package in moving]
    checks = []
    if strays:
        overrides = [s for s in strays if s.instead_of]
        for stray in overrides:
            reason = f"{stray.path} takes the place of {stray.instead_of}"
            reason += _changed_underneath(site, feed, stray.instead_of, core if core_moves else None)
            checks.append(Check("override", Verdict.CAUTION, reason,
                                "it hides what the new release changed: look at it in the trial"))  # fmt: skip
        others = [s for s in strays if not s.instead_of]
        if others:
            listed = ", ".join(s.path for s in others[:3]) + (" …" if len(others) > 3 else "")
            reason = f"{plural(len(others), 'file belongs', 'files belong')} to no package: {listed}"
            checks.append(Check("strays", Verdict.CAUTION, reason, "left over, or somebody's: look at each"))
    off = sorted(c.name for c in components.values() if c.on is False)
    if off:
        checks.append(Check("switched off", Verdict.CAUTION, f"nobody uses {', '.join(off[:6])}",
                            f"remove first what is not needed: --extension {off[0]}=remove"))  # fmt: skip
    return checks


def _changed_underneath(site: SiteView, feed: Feed, path: str, core: str | None) -> str:
    """Whether the new release of the core changed the file that an override takes the place of."""
    both = _packages(site, feed, site.model.core.package, core)
    if both is None or path not in both[0].files:
        return ""
    if path not in both[1].files:
        return f", which {core} does not have any more"
    return (
        f", which is another one in {core}"
        if both[0].files[path] != both[1].files[path]
        else f", which {core} leaves as it is"
    )


def space_check(site: SiteView, entries: Mapping[str, Entry]) -> Check:
    """Room for a snapshot, a clone and what is made on the way."""
    files = sum(e.size for e in entries.values())
    kept = site.database
    database = kept.size() if kept.exists() else 0
    wanted = 3 * (files + database)
    place = next(p for p in (site.work, *site.work.parents) if p.exists())
    free = free_bytes(place)
    reason = f"{size(free)} free at {place}; snapshot, clone and room to work take about {size(wanted)}"
    if free < wanted:
        return Check(
            "disk space", Verdict.BLOCKED, reason, "free some space, or set 'work' under [site] to another disk"
        )
    return Check("disk space", Verdict.CLEAR, reason)


def snapshot_check(snapshot: NewestSnapshot | None) -> Check:
    """Whether there is a snapshot to fall back on, how old, and proven."""
    if snapshot is None:
        return Check("snapshot", Verdict.CAUTION, "there is none", "keenharbor snapshot take")
    told = f"the newest is {snapshot.id}, {age(snapshot.taken_at)}"
    if snapshot.proven_at is None:
        return Check(
            "snapshot", Verdict.CAUTION, f"{told}, never restored", "a trial proves the snapshot it starts from"
        )
    if now() - snapshot.taken_at > SNAPSHOT_IS_OLD:
        return Check(
            "snapshot", Verdict.CAUTION, f"{told}, proven {age(snapshot.proven_at)}", "keenharbor snapshot take"
        )
    return Check("snapshot", Verdict.CLEAR, f"{told}, proven {age(snapshot.proven_at)}")
