"""From a site file to a site."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from keenharbor.base.errors import UsageError
from keenharbor.database import DatabasePlace
from keenharbor.site.model import SiteFile
from keenharbor.site.settingsfile import read_settings
from keenharbor.site.toml import read_toml, validated
from keenharbor.site.view import SiteView

SITE_FILE_NAME = "keenharbor.toml"


def merged(below: dict[str, Any], above: dict[str, Any]) -> dict[str, Any]:
    """``above`` laid over ``below``: tables are joined key by key, everything else is replaced."""
    result = dict(below)
    for key, value in above.items():
        old = result.get(key)
        result[key] = merged(old, value) if isinstance(old, dict) and isinstance(value, dict) else value
    return result


def load_site_file(file: Path) -> SiteFile:
    """The site file with the platform file that it extends. Raises `UsageError` with file and line."""
    if not file.exists():
        raise UsageError(
            "there is no site file here", where=file,
            advice="'keenharbor init' writes one; or name it with --site FILE",
        )  # fmt: skip
    said = read_toml(file, "site file")
    if (extends := said.get("extends")) is not None:
        if not isinstance(extends, str):
            raise UsageError("site file, 'extends': a file's name is wanted", where=file)
        platform_file = (file.parent / extends).resolve()
        read_platform(platform_file)  # so that its errors name it and not the site file
        platform = read_toml(platform_file, "platform file")
        said = merged({k: v for k, v in platform.items() if k != "extends"}, said)
    return validated(SiteFile, said, file, "site file")


def read_platform(file: Path) -> SiteFile:
    """A platform file by itself: what only a site can say is filled with stand-ins. Raises `UsageError`."""
    stand_in = {"format": 1, "site": {"name": "x", "root": "x", "address": "http://x"}, "database": {"path": "x"}}
    return validated(SiteFile, merged(stand_in, read_toml(file, "platform file")), file, "platform file")


def open_site(file: Path) -> SiteView:
    """The live site that ``file`` describes: read-only."""
    file = file.resolve()
    model = load_site_file(file)
    base = file.parent
    root = (base / model.site.root).resolve()
    if not root.is_dir():
        raise UsageError(
            "the site's folder is not there", where=root, advice=f"correct 'root' under [site] in {file.name}"
        )
    work, store = (base / model.site.work).resolve(), (base / model.store.path).resolve()
    for folder, key in ((work, "[site] work"), (store, "[store] path")):
        if folder == root or root in folder.parents:
            raise UsageError(
                f"{key} lies inside the site's folder, from where it could be fetched by anybody",
                where=folder,
                advice=f"choose a folder outside {root}",
            )
    return SiteView(model, file, root, database_place(model, base, root), work, store)


def database_place(model: SiteFile, base: Path, root: Path) -> DatabasePlace:
    """Where the site's database is, by the site file or by the site's own settings."""
    said = model.database
    if said.path is not None:
        place = base / said.path
    elif said.setting is not None:
        file = root / model.settings.file
        value = read_settings(file).get(said.setting)
        if not value:
            raise UsageError(f"the setting '{said.setting}' for the database is not there", where=file)
        place = root / value
    else:
        raise UsageError("site file, 'database': either 'path' or 'setting' is wanted")
    return DatabasePlace(said.engine, Path(place))
