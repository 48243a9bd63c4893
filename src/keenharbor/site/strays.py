"""Strays: files in a package's place that no package owns."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from keenharbor.base.errors import KeenHarborError
from keenharbor.site.edits import installed_packages
from keenharbor.site.feed import Feed
from keenharbor.site.view import SiteView
from keenharbor.tree import Entry


@dataclass(frozen=True)
class Stray:
    """A file that stands among those of ``package`` (by its folder) and did not come with it."""

    path: str
    package: str
    size: int


def strays_in(site: SiteView, feed: Feed, entries: Mapping[str, Entry]) -> list[Stray]:
    """Files of the areas of core, extensions and themes that no package of the feed owns. Packages that the feed does not have
    are passed over: nothing can be said of their files."""
    if not feed.has_packages:
        return []
    owned: set[str] = set()
    checked: list[tuple[str, str]] = []
    core_checked = False
    for installed in installed_packages(site):
        release = feed.find(installed.name, installed.version)
        try:
            package = feed.package(release) if release is not None else None
        except KeenHarborError:
            package = None
        if package is None:
            continue
        owned |= {installed.path(f) for f in package.files}
        if installed.folder:
            checked.append((installed.folder + "/", installed.name))
        else:
            core_checked = True
    found = []
    for path, entry in entries.items():
        if entry.kind != "file" or path in owned or entry.area not in ("core", "extensions", "themes"):
            continue
        within = next((name for folder, name in checked if path.startswith(folder)), None)
        if within is not None:
            found.append(Stray(path, within, entry.size))
        elif entry.area == "core" and core_checked:
            found.append(Stray(path, site.model.core.package, entry.size))
    return found
