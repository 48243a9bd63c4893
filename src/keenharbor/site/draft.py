"""Drafting a site file from a platform file and what the site itself says."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from keenharbor.base.errors import UsageError
from keenharbor.database import DatabasePlace
from keenharbor.database.kinds import NO_ENGINE
from keenharbor.host import AnyPath
from keenharbor.site.inference.evidence import Entry, Sureness
from keenharbor.site.inference.ground import Ground
from keenharbor.site.load import database_place, database_settings_file, read_platform
from keenharbor.site.model import SettingsPart
from keenharbor.site.settings import Setting, read_settings, settings_in
from keenharbor.site.view import SiteView
from keenharbor.site.whereabouts import SITE_FILE_NAME


@dataclass(frozen=True)
class Draft:
    """The site file's text and how each entry was come by."""

    text: str
    entries: tuple[Entry, ...]


def draft_site_file(
    ground: Ground,
    platform_file: Path,
    site_file: Path,
    *,
    name: str | None = None,
    address: str | None = None,
    launchers: Mapping[str, str] | None = None,
    feed: Path | None = None,
    reload: str | None = None,
) -> Draft:
    """The site file for the site on ``ground``. Reads only; raises `UsageError` when the site is not of that
    platform."""
    home = site_file.resolve().parent
    refuse_inside(ground, site_file)
    model = read_platform(platform_file)
    title = model.platform.title or model.platform.name
    absent = [f for f in model.platform.recognised_by if not (ground.root / f).exists()]
    if absent:
        raise UsageError(f"this is no site on {title}: it has no {', '.join(absent)}", where=ground.far or ground.place)
    site = SiteView(model, site_file, ground.place, DatabasePlace(NO_ENGINE), home, home, ground.host)
    settings = _settings(site.named(site.settings_path), model.settings)
    found_address = _address(site, settings, address)
    site_title = next((v.value for k, v in settings.items() if k.endswith((".name", ".title"))), "")
    chosen = name or re.sub(r"[^a-z0-9]+", "-", (site_title or Path(ground.place).name).lower()).strip("-") or "site"
    why = "as you said" if name else f"guessed from {'the title' if site_title else 'the folder'}"
    entries = [
        found_address,
        Entry("site.name", chosen, Sureness.READ if name else Sureness.GUESSED, why),
        *_what_it_says(site, home),
    ]
    if not launchers:
        advice = "not found; clones need them: --launcher VERSION=PROGRAM"
        entries.append(Entry("runtime.launchers", "none", Sureness.MISSING, advice))
    lines = [
        "# Describes one site. What is not said here is taken from the platform file.",
        "format = 1",
        f'extends = "{_relative(platform_file, home)}"',
        "",
        "[site]",
        f'name = "{chosen}"',
        *([f'title = "{site_title}"'] if site_title else []),
        f'root = "{ground.written(home)}"',
        f'address = "{found_address.value.rstrip("/")}"',
        'work = "harbor"          # trials, clones and the log; outside the site\'s folder',
        "",
        "[store]",
        'path = "harbor/store"    # snapshots; may be shared by many sites',
    ]
    lines += lines_said(launchers or {}, feed, reload, home)
    lines += ["", "[visitor_data]", f"tables = {model.visitor_data.tables!r}".replace("'", '"')]
    return Draft("\n".join(lines) + "\n", tuple(entries))


def _address(site: SiteView, settings: Mapping[str, Setting], given: str | None) -> Entry:
    """The site's address, as given or as the settings have it. Raises `UsageError` where they do not."""
    if given:
        return Entry("site.address", given, Sureness.READ, "as you said")
    setting = site.model.address.get("setting") or ""
    found = settings.get(setting)
    if found is None or not found.value:
        raise UsageError(
            "the site's address cannot be found", where=site.named(site.settings_path),
            advice="name it with --address URL",
        )  # fmt: skip
    return Entry("site.address", found.value, Sureness.READ, f"{site.settings_path}:{found.line}, {setting}")


def _what_it_says(site: SiteView, home: Path) -> Iterator[Entry]:
    """Database, core, runtime, and what visitors write."""
    model = site.model
    if model.database.settings is not None or model.database.setting is not None:
        # A platform file by itself has a stand-in for the path.
        unsaid = model.model_copy(update={"database": model.database.model_copy(update={"path": None})})
        place = database_place(unsaid, home, site.named(""))
        kept = database_settings_file(model, site.named(""))[0].path
        yield Entry("database", str(place.path or place), Sureness.READ, f"what {kept} says")
    core, runtime = site.told_versions()
    for key, told, version, where in (
        (
            "core",
            model.platform.title or model.platform.name,
            core,
            model.core.version_file or f"distribution {model.core.distribution}",
        ),
        ("runtime", model.runtime.name, runtime, model.runtime.version_file or "the platform file"),
    ):
        sure = Sureness.MISSING if version == "unknown" else Sureness.READ
        yield Entry(key, f"{told} {version}", sure, str(where))
    tables = ", ".join(model.visitor_data.tables) or "none"
    why = "from the platform file; name every table that visitors write to"
    yield Entry("visitor data", tables, Sureness.GUESSED, why)


def refuse_inside(ground: Ground, site_file: Path) -> None:
    """Raise `UsageError` when the site file would lie in the site's folder."""
    home, root = site_file.resolve().parent, Path(ground.place)
    if ground.far:
        return
    if root == home or root in home.parents:
        raise UsageError(
            "the site file would lie inside the site's folder, from where it could be fetched by anybody",
            where=site_file,
            advice=f"go to a folder outside {root}, or name one with --out",
        )  # fmt: skip


def lines_said(launchers: Mapping[str, str], feed: Path | None, reload: str | None, home: Path) -> list[str]:
    """What the maintainer said on the command line, as lines of a site file."""
    lines: list[str] = []
    if feed is not None:
        lines += ["", "[feed]", f'path = "{_relative(feed, home)}"']
    if launchers:
        lines += ["", "[runtime.launchers]", *(f'"{v}" = "{Path(p).resolve()}"' for v, p in launchers.items())]
    if reload:
        words = ", ".join(f'"{w}"' for w in reload.split())
        lines += ["", "[live]", f"reload = [{words}]     # how the host takes up changed code"]
    return lines


def _settings(file: AnyPath, part: SettingsPart | None) -> dict[str, Setting]:
    """The settings file's values with their lines."""
    if part is None:
        return {}
    read_settings(file, part.format)  # for its errors
    return {s.key: s for s in settings_in(file.read_text(encoding="utf-8"), part.format, file)}


def _relative(path: Path, home: Path) -> str:
    path = path.resolve()
    return str(path.relative_to(home)) if home in path.parents else str(path)


__all__ = ["SITE_FILE_NAME", "Draft", "draft_site_file"]
