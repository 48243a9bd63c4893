"""Live's virtual environment: changed beside and put in place by a rename, so that it can go back with code and
database.

The one that was in place stays beside it, as ``.NAME.before-TIME``. Which one belongs to a snapshot is told by the
versions that its manifest lists. Each function can be repeated after an interruption."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import PurePosixPath

from keenharbor.base.errors import KeenHarborError
from keenharbor.base.text import now
from keenharbor.host import ReadPath
from keenharbor.host.programs import Ran
from keenharbor.site.components import pins_of
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot

KEPT = 2


def install_beside(
    site: SiteView, wants: Sequence[str], removes: Sequence[str], wheelhouse: str | None, time_limit: float
) -> Ran:
    """Install into a copy of live's environment, and put that in place when all went well. Raises `KeenHarborError`
    where there is no environment."""
    home, environments = site.environment(), site.host.environments
    if home is None:
        raise KeenHarborError(
            "the site has no virtual environment of its own", where=site.site_file,
            advice="name the folder of its packages: 'packages' under [runtime]",
        )  # fmt: skip
    new = _beside(home, "next")
    environments.remove(new)
    try:
        environments.make(home, new)
        ran = environments.install(new, wants, removes, wheelhouse, time_limit)
        if ran.code == 0:
            environments.rename_inside(new, home)
            environments.put_in_place(new, home, _before(home))
        return ran
    finally:
        environments.remove(new)


def environment_back(site: SiteView, snapshot: Snapshot) -> None:
    """The environment that belongs to ``snapshot``, back in place; where it is not kept, the present one stays (see
    `environment_missing`)."""
    found = _kept(site, snapshot)
    if found is not None:
        folder, home = found
        site.host.environments.put_in_place(folder, home, _before(home))


def environment_missing(site: SiteView, snapshot: Snapshot) -> str:
    """In words, that the environment which belongs to ``snapshot`` is neither in place nor kept; empty when it is."""
    if environment_is_there(site, snapshot) or _kept(site, snapshot) is not None:
        return ""
    return (
        "the virtual environment is not the one that belongs to the snapshot, and that one is not kept: install the "
        "versions "
        f"that 'keenharbor snapshot show {snapshot.id} --json' lists under 'environment'"
    )


def environment_is_there(site: SiteView, snapshot: Snapshot) -> bool:
    """Whether the environment that is in place is the one that belongs to ``snapshot``, or the site has none."""
    wanted = snapshot.manifest.environment
    return not wanted or site.model.runtime.packages is None or pins_of(site.packages()) == wanted


def kept_environment(site: SiteView, snapshot: Snapshot) -> str | None:
    """The folder of the environment that belongs to ``snapshot`` and is kept beside live's; None where live's own is it
    (or the site has none, or that one is not kept)."""
    found = _kept(site, snapshot)
    return found[0] if found is not None else None


def _kept(site: SiteView, snapshot: Snapshot) -> tuple[str, str] | None:
    """The environment that is kept beside live's and belongs to ``snapshot``, and where it was."""
    if environment_is_there(site, snapshot):
        return None
    packages = PurePosixPath(site.packages_place())
    for home in packages.parents:
        for folder in site.host.environments.kept(str(home)):
            inside = ReadPath(site.host.reading(f"{folder}/{packages.relative_to(home)}", leads_out=True))
            if pins_of(inside) == snapshot.manifest.environment:
                return folder, str(home)
    return None


def _beside(home: str, what: str) -> str:
    place = PurePosixPath(home)
    return str(place.parent / f".{place.name}.{what}")


def _before(home: str) -> str:
    return _beside(home, f"before-{now():%Y%m%d%H%M%S%f}")


def thin_environments(site: SiteView) -> None:
    """Remove all but the newest of the environments that were in place before."""
    home = site.environment()
    if home is not None:
        for folder in site.host.environments.kept(home)[KEPT:]:
            site.host.environments.remove(folder)
