"""Where a site and what is kept of it are: all that is needed to list, without reading the rest of the site file."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from keenharbor.base.errors import UsageError
from keenharbor.host.addresses import Address, is_far
from keenharbor.site.toml import read_toml

SITE_FILE_NAME = "keenharbor.toml"
USUAL_WORK = "harbor"
USUAL_STORE = "harbor/store"


@dataclass(frozen=True)
class Whereabouts:
    """A site's name, its folder, the folder of what the tool keeps beside the store, and the store's. Of a site on
    another machine ``far`` says where its folder is, and ``root`` is its path there."""

    name: str
    site_file: Path
    root: Path
    work: Path
    store_folder: Path
    far: str = ""

    @classmethod
    def of(cls, site_file: Path, name: str, root: str, work: str, store: str) -> Whereabouts:
        """By what the site file says. Raises `UsageError` where the site's folder holds one of the others."""
        base = site_file.parent
        if is_far(root):
            folder = Path(Address.read(root).folder)
            return cls(name, site_file, folder, (base / work).resolve(), (base / store).resolve(), root)
        found = cls(name, site_file, (base / root).resolve(), (base / work).resolve(), (base / store).resolve())
        for folder, key in ((found.work, "[site] work"), (found.store_folder, "[store] path")):
            if folder == found.root or found.root in folder.parents:
                raise UsageError(
                    f"{key} lies inside the site's folder, from where it could be fetched by anybody",
                    where=folder,
                    advice=f"choose a folder outside {found.root}",
                )
        return found


def merged(below: dict[str, object], above: dict[str, object]) -> dict[str, object]:
    """``above`` laid over ``below``: tables are joined key by key, everything else is replaced."""
    result = dict(below)
    for key, value in above.items():
        old = result.get(key)
        result[key] = merged(old, value) if isinstance(old, dict) and isinstance(value, dict) else value
    return result


def read_said(file: Path) -> tuple[dict[str, object], Path | None]:
    """What a site file says, with what the platform file says that it extends, and where that one is. Raises
    `UsageError`."""
    if not file.exists():
        raise UsageError(
            "there is no site file here", where=file,
            advice="'keenharbor init' writes one; or name it with --site FILE",
        )  # fmt: skip
    said = read_toml(file, "site file")
    extends = said.get("extends")
    if extends is None:
        return said, None
    if not isinstance(extends, str):
        raise UsageError("site file, 'extends': a file's name is wanted", where=file)
    platform_file = (file.parent / extends).resolve()
    platform = read_toml(platform_file, "platform file")
    return merged({k: v for k, v in platform.items() if k != "extends"}, said), platform_file


def whereabouts_of(file: Path) -> Whereabouts:
    """Where things are by the site file. Its other keys may be wrong, and the site itself gone: who looks for a
    snapshot then is in a hurry. Raises `UsageError`."""
    file = file.resolve()
    said, _ = read_said(file)
    site, store = said.get("site"), said.get("store", {})
    if isinstance(site, dict) and isinstance(store, dict):
        name, root = site.get("name"), site.get("root")
        work, kept = site.get("work", USUAL_WORK), store.get("path", USUAL_STORE)
        if isinstance(name, str) and isinstance(root, str) and isinstance(work, str) and isinstance(kept, str):
            return Whereabouts.of(file, name, root, work, kept)
    # What is wrong with it is said as everywhere.
    from keenharbor.site.load import load_site_file

    load_site_file(file)
    raise UsageError("site file: [site] name and root are wanted", where=file)
