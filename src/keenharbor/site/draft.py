"""Drafting a site file from a platform file and what the site itself says."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from keenharbor.base.errors import UsageError
from keenharbor.site.inference.evidence import Entry, Sureness
from keenharbor.site.load import SITE_FILE_NAME, read_platform
from keenharbor.site.settings import read_settings


@dataclass(frozen=True)
class Draft:
    """The site file's text and how each entry was come by."""

    text: str
    entries: tuple[Entry, ...]


def draft_site_file(
    root: Path,
    platform_file: Path,
    site_file: Path,
    *,
    name: str | None = None,
    address: str | None = None,
    launchers: Mapping[str, str] | None = None,
    feed: Path | None = None,
    reload: str | None = None,
) -> Draft:
    """The site file for the site in ``root``. Reads only; raises `UsageError` when the site is not of that platform."""
    root = root.resolve()
    if not root.is_dir():
        raise UsageError("the site's folder is not there", where=root)
    home = site_file.resolve().parent
    refuse_inside(root, site_file)
    model = read_platform(platform_file)
    title = model.platform.title or model.platform.name
    absent = [f for f in model.platform.recognised_by if not (root / f).exists()]
    if absent:
        raise UsageError(f"this is no site on {title}: it has no {', '.join(absent)}", where=root)
    general = model.settings
    if general is None or model.core.version_file is None or model.runtime.version_file is None:
        raise UsageError("the platform file does not say where settings and versions stand", where=platform_file)
    settings_file = root / general.file
    settings = read_settings(settings_file, general.format)
    entries: list[Entry] = []

    def read(key: str, setting: str | None, given: str | None) -> str | None:
        if given is not None:
            entries.append(Entry(key, given, Sureness.READ, "as you said"))
            return given
        value = settings.get(setting or "")
        if value:
            line = _line_of(settings_file, setting or "")
            entries.append(Entry(key, value, Sureness.READ, f"{general.file}:{line}, {setting}"))
        return value

    found_address = read("site.address", model.address.get("setting"), address)
    if not found_address:
        raise UsageError("the site's address cannot be found", where=settings_file, advice="name it with --address URL")
    site_title = next((v for k, v in settings.items() if k.endswith((".name", ".title"))), "")
    chosen = name or re.sub(r"[^a-z0-9]+", "-", (site_title or root.name).lower()).strip("-") or "site"
    evidence = "as you said" if name else f"guessed from {'the title' if site_title else 'the folder'}"
    entries.append(Entry("site.name", chosen, Sureness.READ if name else Sureness.GUESSED, evidence))
    keys = model.database.settings
    named = (keys.url, keys.path, keys.name) if keys is not None else ()
    where_kept = model.database.setting or next((k for k in named if settings.get(k or "")), None)
    if where_kept:
        read("database", where_kept, None)
    version = root / model.core.version_file
    if version.is_file():
        entries.append(Entry("core", f"{title} {version.read_text().strip()}", Sureness.READ, model.core.version_file))
    runtime = root / model.runtime.version_file
    if runtime.is_file():
        entries.append(
            Entry(
                "runtime",
                f"{model.runtime.name} {runtime.read_text().strip()}",
                Sureness.READ,
                model.runtime.version_file,
            )
        )
    tables = ", ".join(model.visitor_data.tables) or "none"
    entries.append(
        Entry(
            "visitor data", tables, Sureness.GUESSED, "from the platform file; name every table that visitors write to"
        )
    )
    if not launchers:
        entries.append(
            Entry(
                "runtime.launchers", "none", Sureness.MISSING, "not found; clones need them: --launcher VERSION=PROGRAM"
            )
        )
    lines = [
        "# Describes one site. What is not said here is taken from the platform file.",
        "format = 1",
        f'extends = "{_relative(platform_file, home)}"',
        "",
        "[site]",
        f'name = "{chosen}"',
        *([f'title = "{site_title}"'] if site_title else []),
        f'root = "{_relative(root, home)}"',
        f'address = "{found_address.rstrip("/")}"',
        'work = "harbor"          # trials, clones and the log; outside the site\'s folder',
        "",
        "[store]",
        'path = "harbor/store"    # snapshots; may be shared by many sites',
    ]
    lines += lines_said(launchers or {}, feed, reload, home)
    lines += ["", "[visitor_data]", f"tables = {model.visitor_data.tables!r}".replace("'", '"')]
    return Draft("\n".join(lines) + "\n", tuple(entries))


def refuse_inside(root: Path, site_file: Path) -> None:
    """Raise `UsageError` when the site file would lie in the site's folder."""
    home = site_file.resolve().parent
    if root == home or root in home.parents:
        raise UsageError(
            "the site file would lie inside the site's folder, from where it could be fetched by anybody", where=site_file,
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


def _line_of(file: Path, key: str) -> int:
    name = key.rpartition(".")[2]
    for number, line in enumerate(file.read_text(encoding="utf-8").splitlines(), 1):
        if re.match(rf"\s*{re.escape(name)}\s*[=:]", line):
            return number
    return 0


def _relative(path: Path, home: Path) -> str:
    path = path.resolve()
    return str(path.relative_to(home)) if home in path.parents else str(path)


__all__ = ["SITE_FILE_NAME", "Draft", "draft_site_file"]
