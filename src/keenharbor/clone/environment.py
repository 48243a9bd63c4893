"""Which virtual environment is a site's."""

from __future__ import annotations

from pathlib import Path

from keenharbor.site.view import SiteView


def environment_of(site: SiteView) -> Path | None:
    """The folder of the virtual environment whose packages are the site's; None where it has none."""
    if site.model.runtime.packages is None:
        return None
    packages = site.packages_folder().resolve()
    found = next((p for p in packages.parents if (p / "pyvenv.cfg").is_file()), None)
    return found if found is not None and (found / "bin/python").exists() else None
