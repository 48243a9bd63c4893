"""Strays: files in a package's place that no package owns."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from keenharbor.base.errors import KeenHarborError
from keenharbor.site.edits import installed_packages
from keenharbor.site.feed import Feed
from keenharbor.site.view import SiteView
from keenharbor.tree import Entry

_EVERYWHERE = ("index", "main", "__init__", "README", "LICENSE", "CHANGELOG", "package", "composer")
"""Names that files have everywhere, so that they say nothing."""


@dataclass(frozen=True)
class Stray:
    """A file that stands among those of ``package`` (by its folder) and did not come with it. ``instead_of`` is the
    file of a package whose place it takes, as its name says: an override hides what that file becomes."""

    path: str
    package: str
    size: int
    instead_of: str = ""


def strays_in(site: SiteView, feed: Feed, entries: Mapping[str, Entry]) -> list[Stray]:
    """Files of the areas of core, extensions and themes that no package of the feed owns. Packages that the feed does
    not have are passed over: nothing can be said of their files."""
    if not feed.has_packages:
        return []
    owned: set[str] = set()
    checked: list[tuple[str, str]] = []
    core_checked = False
    for installed in installed_packages(site):
        release = feed.find(installed.name, installed.version)
        try:
            files = feed.sums(release) if release is not None else None
        except KeenHarborError:
            files = None
        if files is None:
            continue
        owned |= {installed.path(f) for f in files}
        if installed.files:
            owned |= set(installed.files)
        elif installed.folder:
            checked.append((installed.folder + "/", installed.name))
        else:
            core_checked = True
    found = []
    for path, entry in entries.items():
        if entry.kind != "file" or path in owned or entry.area not in ("core", "extensions", "themes"):
            continue
        within = next((name for folder, name in checked if path.startswith(folder)), None)
        if within is not None:
            found.append(Stray(path, within, entry.size, _instead_of(path, owned)))
        elif entry.area == "core" and core_checked:
            found.append(Stray(path, site.model.core.package, entry.size))
    return found


def _instead_of(path: str, owned: set[str]) -> str:
    """The file of a package whose name, with as many folders as agree, is that of ``path``; empty when there is none,
    or when several would do."""
    parts = path.split("/")
    alike = [o for o in owned if o.rsplit("/", 1)[-1] == parts[-1]]
    for depth in range(2, len(parts)):
        longer = [o for o in alike if o.split("/")[-depth:] == parts[-depth:]]
        if not longer:
            break
        alike = longer
    return alike[0] if len(alike) == 1 and "." in parts[-1] and parts[-1].split(".")[0] not in _EVERYWHERE else ""
