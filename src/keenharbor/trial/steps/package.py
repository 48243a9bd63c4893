"""The step ``package``: install or update a package."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from keenharbor.base.errors import KeenHarborError
from keenharbor.base.text import plural
from keenharbor.database.cells import cell_value, flat, with_part
from keenharbor.site.checks import Check, Verdict
from keenharbor.site.edits import Installed, MergeConflict, edits_of, installed_packages, merge_three
from keenharbor.site.feed import Package, Release, allows, is_version
from keenharbor.site.part import Text
from keenharbor.trial.steps.base import Outcome, Placing, PlanState, StepBase, StepFailed, Workplace, output_of
from keenharbor.trial.steps.common import settings_in_database, switch, uninstall, write_setting


class PackageStep(StepBase):
    """Install or update a package. With ``replaces`` the other extension is switched off and its files removed.

    ``keep_settings`` are put back as they were (``name`` or ``name.key``); ``migrate`` runs the system's own
    migration for it.
    """

    kind: Literal["package"]
    package: Text
    version: Text
    replaces: str | None = None
    carry_local_edits: bool = False
    remove_dropped: bool = False
    keep_settings: list[Text] = []
    migrate: bool = True

    def told(self) -> str:
        extra = [
            *([f"in place of {self.replaces}"] if self.replaces else []),
            *(["carrying local edits"] if self.carry_local_edits else []),
            *(["removing dropped files"] if self.remove_dropped else []),
            *(["keeping " + ", ".join(self.keep_settings)] if self.keep_settings else []),
            *([f"up to {self.retries + 1} tries"] if self.retries else []),
        ]
        return f"install {self.package} {self.version}" + (f" ({'; '.join(extra)})" if extra else "")

    # -- carrying it out ---------------------------------------------------------------------------------------

    def perform(self, place: Workplace, outcome: Outcome) -> str:
        site = place.site
        release = place.feed.need(self.package, self.version)
        package = place.feed.package(release)
        if outcome.placing is None:
            outcome.placing = self._prepare(place, release.kind, package, outcome)
        placing = outcome.placing
        if not placing.done:
            for path, content in placing.content.items():
                site.put_code(path, content)
            for path in placing.remove:
                site.tree.remove(path)
                site.tree.prune(path)
            placing.done = True
        output = ""
        if self.migrate and site.model.commands.migrate is not None:
            owner = "core" if release.kind == "core" else self.package
            ran = place.run(site.model.commands.migrate, self.time_limit, owner=owner, name=self.package)
            output = output_of(ran, self.time_limit)
        if self.replaces is not None:
            output += switch(place, self.package, True, self.time_limit)
            output += uninstall(place, self.replaces, outcome, self.time_limit)
        for name in self.keep_settings:
            output += _put_setting_back(place, name, placing.settings)
        return output

    def _prepare(self, place: Workplace, kind: str, new: Package, outcome: Outcome) -> Placing:
        """Work out all that is to be written before anything is; raises `StepFailed` when an edit cannot be carried."""
        site = place.site
        installed = next((p for p in installed_packages(site) if p.name == self.package), None)
        if installed is None:
            themes = site.model.themes if kind == "theme" else None
            part = themes or site.needed(site.model.extensions, "extensions")
            installed = Installed(self.package, "", kind, f"{part.folder}/{self.package}")
        old_release = place.feed.find(installed.name, installed.version) if installed.version else None
        old = place.feed.package(old_release) if old_release is not None else None
        outcome.touches = tuple(installed.path(f) for p in (new, old) if p is not None for f in p.files)
        settings = settings_in_database(site) if self.keep_settings else {}
        if installed.version == self.version:  # it is there already: only its migration is to be run
            return Placing({}, (), settings, done=True)
        if installed.version:
            outcome.versions[installed.version] = self.version
        edits = {e.path: e for e in edits_of(site.path(), installed, old)} if old is not None else {}
        content = {installed.path(file): data for file, data in new.files.items()}
        wiped: list[tuple[str, str]] = []
        for file, data in new.files.items():
            path = installed.path(file)
            edit = edits.get(path)
            if edit is None or old is None or edit.removed:
                continue
            present = site.path(path).read_bytes()
            if self.carry_local_edits:
                content[path] = _merge(path, old.files[file], data, present)
            elif data != present:
                wiped.append((path, edit.diff))
        dropped = [installed.path(f) for f in (old.files if old is not None else ()) if f not in new.files]
        # A dropped file that somebody edited is somebody's work: it stays and is told of.
        remove = tuple(p for p in dropped if self.remove_dropped and p not in edits)
        outcome.wiped = tuple(wiped)
        outcome.left_over = tuple(p for p in dropped if p not in remove and site.path(p).exists())
        return Placing(content, remove, settings)

    # -- checking it against the site --------------------------------------------------------------------------

    def check(self, state: PlanState) -> list[Check]:
        if state.feed is None:
            return self.blocked("no feed of releases is named", "add [feed] to the site file")
        release = state.feed.find(self.package, self.version)
        if release is None:
            there = ", ".join(r.version for r in state.feed.of(self.package)) or "none"
            return self.blocked(
                f"the feed has no {self.package} {self.version} (it has: {there})", "name another version"
            )
        found: list[Check] = []
        package: Package | None = None
        try:
            package = state.feed.package(release)
        except KeenHarborError as error:
            found += self.blocked(error.what, error.advice or "complete the feed")
        found += self._fit(release, state)
        if package is not None and not self.carry_local_edits:
            found += self._would_wipe(state)
        if release.notes and self.retries == 0 and "again" in release.notes.lower():
            reason = f"its notes speak of a second try: {release.notes}"
            found.append(self.found(Verdict.CAUTION, reason, "set 'retries'"))
        return found

    def _would_wipe(self, state: PlanState) -> list[Check]:
        assert state.feed is not None
        installed = next((p for p in installed_packages(state.site) if p.name == self.package), None)
        old = state.feed.find(self.package, installed.version) if installed is not None else None
        edits = edits_of(state.site.path(), installed, state.feed.package(old)) if installed and old else []
        if not edits:
            return []
        listed = ", ".join(e.path for e in edits[:3])
        reason = f"it would wipe {plural(len(edits), 'local edit')}: {listed}"
        return [self.found(Verdict.CAUTION, reason, "set carry_local_edits = true, or let it go")]

    def _fit(self, release: Release, state: PlanState) -> list[Check]:
        found = []
        is_core = self.package == state.site.model.core.package
        asked = release.requires
        if is_core:
            if is_version(state.core) and not allows(release.upgrades_from, state.core):
                reason = f"{self.version} cannot be put over {state.core} (it wants {release.upgrades_from})"
                found += self.blocked(
                    reason, "add a step for an intermediate release: keenharbor ready tells the route"
                )
            state.core = self.version
        elif not (allows(asked.core, state.core) and allows(asked.runtime, state.runtime)):
            reason = (
                f"{self.package} {self.version} wants core {asked.core or 'any'} on runtime {asked.runtime or 'any'}; "
                f"at that point there is core {state.core} on {state.runtime}"
            )
            found.append(self.found(Verdict.CAUTION, reason, "put it behind the core's or the runtime's step"))
        if is_core and not allows(asked.runtime, state.runtime):
            reason = f"core {self.version} wants runtime {asked.runtime}; at that point there is {state.runtime}"
            found += self.blocked(reason, "put the runtime's step before it")
        if self.replaces is not None:
            if self.replaces not in state.versions:
                reason = f"the site has no '{self.replaces}' to replace at that point"
                found += self.blocked(reason, "take 'replaces' out")
            state.versions.pop(self.replaces, None)
        if not is_core:
            state.versions[self.package] = self.version
            state.asks[self.package] = (asked.core, asked.runtime)
        return found


def _merge(path: str, base: bytes, theirs: bytes, ours: bytes) -> bytes:
    try:
        texts = [x.decode("utf-8") for x in (base, theirs, ours)]
        return merge_three(texts[0], texts[1], texts[2]).encode("utf-8")
    except UnicodeDecodeError:
        raise StepFailed(f"the local edit of {path} cannot be carried over: it is not text") from None
    except MergeConflict as conflict:
        raise StepFailed(
            f"the local edit of {path} cannot be carried over: the release and the edit {conflict}"
        ) from None


def _put_setting_back(place: Workplace, wanted: str, before: Mapping[str, str]) -> str:
    """Put a setting (``name``, or a part of it, ``name.key``) back as it was in ``before``; what is new in it stays."""
    name = max((n for n in before if wanted == n or wanted.startswith(n + ".")), key=len, default=None)
    if name is None:
        raise StepFailed(f"there was no setting '{wanted}' to keep")
    inside = wanted.removeprefix(name).lstrip(".")
    after = settings_in_database(place.site).get(name)
    if after is None:
        raise StepFailed(f"the setting '{name}' is gone, and with it where '{wanted}' could be put back")
    text = after
    for path, value in flat(cell_value(before[name])).items():
        if (not inside or path == inside or path.startswith(inside + ".")) and path in flat(cell_value(text)):
            text = with_part(text, path.split(".") if path else [], value)
    if text == after:
        return ""
    write_setting(place, name, text)
    return f"the setting {wanted} was put back\n"
