"""Live's virtual environment: changed beside and put in place by a rename, so that it can go back with code and
database.

The one that was in place stays beside it, as ``.NAME.before-TIME``. Which one belongs to a snapshot is told by the
versions that its manifest lists. Each function can be repeated after an interruption."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from keenharbor.base.durable import remove_folder
from keenharbor.base.errors import KeenHarborError
from keenharbor.base.text import now
from keenharbor.clone.environment import environment_of
from keenharbor.host.environment import install, make_environment, put_in_place, rename_inside
from keenharbor.host.programs import Ran
from keenharbor.site.components import pins_of
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot

KEPT = 2


def install_beside(
    site: SiteView, wants: Sequence[str], removes: Sequence[str], wheelhouse: Path | None, time_limit: float
) -> Ran:
    """Install into a copy of live's environment, and put that in place when all went well. Raises `KeenHarborError`
    where there is no environment."""
    home = environment_of(site)
    if home is None:
        raise KeenHarborError(
            "the site has no virtual environment of its own", where=site.site_file,
            advice="name the folder of its packages: 'packages' under [runtime]",
        )  # fmt: skip
    new = home.parent / f".{home.name}.next"
    remove_folder(new)
    try:
        make_environment(home, new)
        ran = install(new, wants, removes, wheelhouse, time_limit)
        if ran.code == 0:
            rename_inside(new, home)
            put_in_place(new, home, _before(home))
        return ran
    finally:
        remove_folder(new)


def environment_back(site: SiteView, snapshot: Snapshot) -> None:
    """The environment that belongs to ``snapshot``, back in place; where it is not kept, the present one stays (see
    `environment_missing`)."""
    found = _kept(site, snapshot)
    if found is not None:
        folder, home = found
        put_in_place(folder, home, _before(home))


def environment_missing(site: SiteView, snapshot: Snapshot) -> str:
    """In words, that the environment which belongs to ``snapshot`` is neither in place nor kept; empty when it is."""
    if _is_in_place(site, snapshot) or _kept(site, snapshot) is not None:
        return ""
    return (
        "the virtual environment is not the one that belongs to the snapshot, and that one is not kept: install the "
        "versions "
        f"that 'keenharbor snapshot show {snapshot.id} --json' lists under 'environment'"
    )


def _is_in_place(site: SiteView, snapshot: Snapshot) -> bool:
    wanted = snapshot.manifest.environment
    return not wanted or site.model.runtime.packages is None or pins_of(site.packages_folder()) == wanted


def _kept(site: SiteView, snapshot: Snapshot) -> tuple[Path, Path] | None:
    """The environment that is kept beside live's and belongs to ``snapshot``, and where it was."""
    if _is_in_place(site, snapshot):
        return None
    packages = site.packages_folder().absolute()
    for home in packages.parents:
        for folder in sorted(home.parent.glob(f".{home.name}.before-*"), reverse=True):
            if pins_of(folder / packages.relative_to(home)) == snapshot.manifest.environment:
                return folder, home
    return None


def _before(home: Path) -> Path:
    return home.parent / f".{home.name}.before-{now():%Y%m%d%H%M%S%f}"


def thin_environments(site: SiteView) -> None:
    """Remove all but the newest of the environments that were in place before."""
    home = environment_of(site)
    if home is not None:
        for folder in sorted(home.parent.glob(f".{home.name}.before-*"), reverse=True)[KEPT:]:
            remove_folder(folder)
