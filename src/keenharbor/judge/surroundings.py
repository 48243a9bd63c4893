"""What stands in the way of an upgrade around the site: the runtime's modules and limits, snapshots on one disk
only."""

from __future__ import annotations

import json
import re
from pathlib import Path

from keenharbor.base.durable import disk_of
from keenharbor.host import AnyPath, ReadPath
from keenharbor.host.programs import ProgramError, Programs
from keenharbor.site.checks import Check, Verdict
from keenharbor.site.feed import Release
from keenharbor.site.log import read_log
from keenharbor.site.survey import NewestSnapshot
from keenharbor.site.view import SiteView

_SECONDS = 30
_UNITS = {"": 1, "k": 1024, "m": 1024**2, "g": 1024**3}
# What each runtime tells of itself; nothing of the site is run.
_ASKS = {
    "php": ["-r", "echo json_encode([array_map('strtolower', get_loaded_extensions()), ini_get_all(null, false)]);"],
    "python": [
        "-I", "-c",
        "import json, pkgutil, sys; print(json.dumps([sorted({m.name.lower() for m in pkgutil.iter_modules()} | "
        "{n.lower() for n in sys.builtin_module_names}), {}]))",
    ],
}  # fmt: skip


def runtime_checks(site: SiteView, release: Release, runtime: str, target: str) -> list[Check]:
    """Whether the target's runtime has the modules that the release asks for, and allows what it needs."""
    modules, limits = release.requires.modules, release.requires.limits
    if not modules and not limits:
        return []
    name = site.model.runtime.name
    program = site.model.runtime.launchers.get(runtime)
    told = _told(name, program, site.host.programs)
    if told is None:
        wanted = ", ".join([*modules, *(f"{k} {v}" for k, v in limits.items())])
        reason = f"{target} asks for {wanted}; {name} {runtime} cannot be asked for them"
        return [Check("runtime modules", Verdict.CAUTION, reason, "look yourself")]
    there, allowed = told
    served = limits_of_the_web_server(site) if limits else {}
    checks = []
    missing = sorted(m for m in modules if m.lower() not in there)
    if missing:
        reason = f"{name} {runtime} lacks {', '.join(missing)}, which {target} asks for"
        checks.append(Check("runtime modules", Verdict.BLOCKED, reason,
                            f"install {'it' if len(missing) == 1 else 'them'} for {name} {runtime}"))  # fmt: skip
    elif modules:
        checks.append(Check("runtime modules", Verdict.CLEAR, f"{name} {runtime} has {', '.join(modules)}"))
    for limit, least in limits.items():
        subject, asked = f"limit {limit}", f"{target} asks for {limit} {least}"
        if limit in served:
            present, where = served[limit]
            if not _is_enough(present, least):
                checks.append(Check(subject, Verdict.CAUTION, f"{asked}; {where} sets {present}", "raise it there"))
            continue
        own = allowed.get(limit)
        if own is None or not _is_enough(str(own), least):
            reason = f"{asked}; {name} {runtime} has {'none' if own is None else own} on the command line"
            checks.append(Check(subject, Verdict.CAUTION, reason, "raise it, and look at what the web server sets"))
    return checks


_SERVER_FILES = (".htaccess", ".user.ini")
_SETS_LIMIT = re.compile(
    r"^[ \t]*(?:php_(?:admin_)?(?:value|flag)(?:[ \t]+|\[))?([a-z][\w.-]*)\]?[ \t]*(?:=|[ \t])[ \t]*[\"']?([\w.-]+)",
    re.M | re.I,
)
_LARGEST_CONFIG = 1024 * 1024


def limits_of_the_web_server(site: SiteView) -> dict[str, tuple[str, str]]:
    """What files of the web server say by name, and which one: those in the site's own folders, and those that the site
    file names. What stands in the root counts most: a folder's own file holds for that folder alone."""
    home = site.site_file.absolute().parent
    folders = [*(p for p in site.path().iterdir() if p.is_dir() and not p.is_symlink()), site.path()]
    files: list[AnyPath] = [home / name for name in site.model.runtime.server_configs]
    files += [folder / name for folder in folders for name in _SERVER_FILES]
    found: dict[str, tuple[str, str]] = {}
    for file in files:
        try:
            text = file.read_text(encoding="utf-8", errors="replace")[:_LARGEST_CONFIG] if file.is_file() else ""
        except OSError:
            continue
        shown = file.path if isinstance(file, ReadPath) else str(file).removeprefix(f"{site.place}/")
        found |= {name: (value, shown) for name, value in _SETS_LIMIT.findall(text)}
    return found


def _told(name: str, program: str | None, programs: Programs) -> tuple[set[str], dict[str, object]] | None:
    if name not in _ASKS or program is None or not programs.exists(program):
        return None
    try:
        modules, limits = json.loads(programs.ask([program, *_ASKS[name]], seconds=_SECONDS))
        return set(modules), dict(limits)
    except (ProgramError, ValueError):
        return None


def _is_enough(present: str, least: str) -> bool:
    """Whether ``256M`` is at least ``128M``; zero or less means no limit. Texts that are no amounts must agree."""
    amounts = [re.fullmatch(r"\s*(-?\d+)\s*([kmg]?)b?\s*", t.lower()) for t in (present, least)]
    if amounts[0] is None or amounts[1] is None:
        return present.strip().lower() == least.strip().lower()
    sizes = [int(a[1]) * _UNITS[a[2]] for a in amounts if a is not None]
    return sizes[0] <= 0 or sizes[0] >= sizes[1]


def second_place_check(site: SiteView, snapshot: NewestSnapshot | None) -> list[Check]:
    """Whether one broken disk would take the site and its snapshot. An export of the newest snapshot onto another disk
    counts, as long as it is there."""
    if snapshot is None:
        return []
    if not site.host.is_here:
        return [Check("second place", Verdict.CLEAR, "the site is on another machine than the store")]
    disk = disk_of(site.place)
    if disk_of(site.store_folder) != disk:
        return [Check("second place", Verdict.CLEAR, "site and store are on different disks")]
    for entry in reversed(read_log(site.work).entries):
        if entry.command == "snapshot export" and entry.subject == snapshot.id:
            place = Path(entry.place) if entry.place else None
            if place is not None and place.exists() and disk_of(place) != disk:
                return [Check("second place", Verdict.CLEAR, f"the newest snapshot lies at {place}, too")]
    return [Check("second place", Verdict.CAUTION, "the site and its snapshots are on one disk: if it breaks, all is "
        "gone",
                  f"keenharbor snapshot export {snapshot.id}, to another disk or machine")]  # fmt: skip
