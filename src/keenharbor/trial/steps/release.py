"""The step ``release``: put the files of a release in place that somebody has unpacked, or fetched as an archive."""

from __future__ import annotations

from typing import Literal

from keenharbor.base.errors import KeenHarborError
from keenharbor.base.text import plural
from keenharbor.host.areas import fits
from keenharbor.site.checks import Check
from keenharbor.site.part import Text
from keenharbor.site.releasefiles import ReleaseFiles, release_files
from keenharbor.site.view import SiteView
from keenharbor.trial.steps.base import Outcome, PlanState, StepBase, Workplace, output_of

_OF_THE_SITE = ("settings", "media", "cache", "logs")


class ReleaseStep(StepBase):
    """Put all files of a release in place but those in the areas of settings, media, cache and logs, and those that
    ``keeps`` names. ``source`` is its folder or archive, beside the site file. With ``remove_dropped`` files of the
    core go that the release does not have. ``migrate`` runs the system's own migration behind it."""

    kind: Literal["release"]
    source: Text
    keeps: list[Text] = []
    remove_dropped: bool = False
    migrate: bool = True

    def told(self) -> str:
        extra = [
            *(["keeping " + ", ".join(self.keeps)] if self.keeps else []),
            *(["removing dropped files"] if self.remove_dropped else []),
        ]
        return f"put the release in {self.source} in place" + (f" ({'; '.join(extra)})" if extra else "")

    def perform(self, place: Workplace, outcome: Outcome) -> str:
        site, before = place.site, place.site.told_versions()[0]
        entries = site.scan().entries
        content = self._content(site)
        stale = {
            p for p, e in entries.items()
            if e.kind == "file" and e.area == "core" and p not in content and not fits(p, tuple(self.keeps))
        }  # fmt: skip
        outcome.touches = (*content, *stale)
        written = 0
        for path, (data, mode) in content.items():
            present = entries.get(path)
            if present is None or present.kind != "file" or site.path(path).read_bytes() != data:
                site.put_code(path, data, mode if present is None else None)
                written += 1
        for path in sorted(stale) if self.remove_dropped else ():
            site.tree.remove(path)
            site.tree.prune(path)
        outcome.left_over = () if self.remove_dropped else tuple(sorted(stale))
        after = site.told_versions()[0]
        if before != after:
            outcome.versions[before] = after
        told = f"{plural(written, 'file')} of {len(content)} written; core {before} → {after}\n"
        if self.migrate and site.model.commands.migrate is not None:
            ran = place.run(site.model.commands.migrate, self.time_limit, owner="core", name="core")
            told += output_of(ran, self.time_limit)
        return told

    def _content(self, site: SiteView) -> dict[str, tuple[bytes, int]]:
        return {
            path: found
            for path, found in self._files(site).files()
            if site.area_rules.area_of(path) not in _OF_THE_SITE and not fits(path, tuple(self.keeps))
        }

    def _files(self, site: SiteView) -> ReleaseFiles:
        return release_files(site.site_file.absolute().parent / self.source)

    def check(self, state: PlanState) -> list[Check]:
        try:
            count = len(self._content(state.site))
        except KeenHarborError as error:
            return self.blocked(error.what, error.advice or "correct 'source'")
        if not count:
            return self.blocked(f"there is no file in {self.source}", "name the folder of the unpacked release")
        version = self._files(state.site).version_of(state.site)
        state.core = version or state.core
        return []
