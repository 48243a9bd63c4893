"""How much of an example's site `init` has found: 32 fields, held against what is true of it.

    python fields.py FOLDER ttrss|mezzanine|wagtail [ENGINE]      (FOLDER as `play.py` has made it)

Prints a line a field that is not right, and the count. What is nowhere (a system without themes) is right when nothing
is told of it."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from keenharbor.site.load import live_database_place, open_site
from keenharbor.site.view import SiteView

Truth = dict[str, object]
_NOTHING = (None, "", [], set(), {}, 0)


def told_of(site: SiteView, entries: list[dict[str, str]]) -> Truth:
    """What the site file says, field by field."""
    model, place = site.model, live_database_place(site)
    keys = model.database.settings
    kinds: dict[str, list[Any]] = {k: [c for c in site.components() if c.kind == k] for k in ("extension", "theme")}
    spoken = {e["key"]: f"{e['value']} {e['evidence']}" for e in entries}
    loose = " ".join(f"{e['value']} {e['evidence']}" for e in entries if not e["key"])
    log_in = next((c for c in model.check if c.name == model.look.log_in), None)
    return {
        "engine": place.engine, "host": place.host if place.port else place.socket and "socket",
        "port": bool(place.port),
        "name": place.name or (place.path.name if place.path else None), "user": place.user,
        "password reference": keys.password if keys is not None else None,
        "core name": model.core.distribution, "core version": site.told_versions()[0],
        "core file": model.core.version_file or model.core.distribution,
        "framework": "on " in spoken.get("core", "") and spoken["core"].rpartition("on ")[2].split(",")[0].strip("; "),
        "extension folder": model.extensions.folder if model.extensions else None,
        "extensions": len(kinds["extension"]), "switched on": {c.name for c in kinds["extension"] if c.on},
        "theme folder": model.themes.folder if model.themes else None,
        "active theme": {c.name for c in kinds["theme"] if c.on},
        "address": site.address, "places of the address": "the address stands in" in loose,
        "media": model.areas.get("media", []), "cache": model.areas.get("cache", []),
        "settings": model.settings.file if model.settings else None,
        "sessions": {t for t in model.volatile.tables if "session" in t},
        "logs": {t for t in model.volatile.tables if "log" in t}, "visitors' tables": set(model.visitor_data.tables),
        "volatile rows and columns": {*model.volatile.columns, *(r.table for r in model.volatile.rows)},
        "runtime": model.runtime.name, "runtime's version": site.runtime_version().rpartition(".")[0],
        "start command": " ".join(model.serve.command) if model.serve else None,
        "migrate command": " ".join(model.commands.migrate or []), "mail": model.mail.host if model.mail else None,
        "timers": "timers" in loose and loose.rpartition("timers ")[2].split(":")[0],
        "maintenance": bool(model.maintenance), "log-in": log_in is not None,
    }  # fmt: skip


def is_right(found: object, true: object) -> bool:
    """Whether a field is as it is; a set that is true must be in what was found, a function is asked."""
    if callable(true):
        return bool(true(found))
    if isinstance(true, set) and isinstance(found, set | list):
        return true <= set(found) and (bool(true) or not found)
    return found == true or (found in _NOTHING and true in _NOTHING) or (found is False and true in _NOTHING)


def has(*words: str) -> Callable[[object], bool]:
    return lambda found: all(w in str(found) for w in words)


DJANGO = {
    "extension folder": None, "extensions": 0, "switched on": set(), "theme folder": None, "active theme": set(),
    "sessions": {"django_session"}, "runtime": "python", "start command": has("manage.py runserver"),
    "migrate command": has("manage.py migrate"), "maintenance": True, "log-in": True, "timers": None,
}  # fmt: skip
SYSTEMS: dict[str, Truth] = {
    "ttrss": {
        "name": "feeds", "user": "reader", "password reference": "DB_PASS", "core name": "tt-rss",
        "core version": "20.12", "core file": "version_static.txt", "framework": None, "extension folder": "plugins",
        "extensions": 33, "switched on": {"auth_internal", "note", "share"}, "theme folder": "themes",
        "active theme": set(), "places of the address": False, "media": {"feed-icons"}, "cache": {"cache", "lock"},
        "settings": "config.php", "sessions": {"ttrss_sessions"}, "logs": {"ttrss_error_log"},
        "visitors' tables": {"ttrss_users", "ttrss_user_entries", "ttrss_user_prefs", "ttrss_feeds"},
        "volatile rows and columns": {"ttrss_users.last_login"}, "runtime": "php", "runtime's version": "8.2",
        "start command": has("{runtime} -S"), "migrate command": has("update.php --update-schema"),
        "mail": None, "timers": has("update_daemon2.php"), "maintenance": True, "log-in": True,
    },
    "mezzanine": DJANGO | {
        "name": "lane", "user": "lane", "password reference": "DATABASES.default.PASSWORD", "core name": "Mezzanine",
        "core version": "6.0.0", "core file": "Mezzanine", "framework": has("Django 3.2"),
        "places of the address": True, "media": set(), "cache": set(), "settings": "lane/local_settings.py",
        "logs": {"django_admin_log"},
        "visitors' tables": {"django_comments", "generic_threadedcomment", "forms_formentry", "forms_fieldentry"},
        "volatile rows and columns": {"auth_user.last_login"}, "runtime's version": "3.11", "mail": None,
    },
    "wagtail": DJANGO | {
        "name": "lane", "password reference": None, "core name": "wagtail", "core version": has("6.3"),
        "core file": "wagtail", "framework": has("Django"), "extension folder": has("site-packages"), "extensions": 2,
        "switched on": {"seed-notes", "seed-events"}, "places of the address": True, "media": {"media"}, "cache": set(),
        "settings": "lane/settings.py", "logs": {"wagtailcore_modellogentry", "wagtailcore_pagelogentry"},
        "visitors' tables": {"wagtailforms_formsubmission", "wagtailcore_comment", "wagtailcore_commentreply"},
        "volatile rows and columns": {"auth_user.last_login"}, "runtime's version": "3.11", "mail": "EMAIL_HOST",
    },
}  # fmt: skip
SQLITE = {"host": None, "port": False, "user": None, "password reference": None}


def truth_of(system: str, engine: str, site: SiteView, root: Path) -> Truth:
    """What is true of an example on an engine."""
    true = {"engine": engine, "host": "127.0.0.1", "port": True} | SYSTEMS[system]
    if engine == "sqlite":
        true |= SQLITE | {"name": has(".") if system == "mezzanine" else has("sqlite")}
    elif system == "wagtail":
        true |= {"host": "socket", "port": False, "user": has("")}
    facts = root / "host.json"
    if facts.exists():
        true["address"] = f"http://127.0.0.1:{json.loads(facts.read_text())['web']['port']}"
    else:
        true["address"] = has("http://127.0.0.1:")
    return true


def main(folder: Path, system: str, engine: str = "sqlite") -> None:
    """Judge one example."""
    site = open_site(folder / "keenharbor.toml")
    program = Path(sys.executable).with_name("keenharbor")
    with tempfile.TemporaryDirectory() as home:
        words = [
            program,
            "init",
            site.place,
            "--json",
            "--yes",
            "--out",
            Path(home) / "s.toml",
            "--address",
            site.address,
        ]
        ran = subprocess.run(words, capture_output=True, text=True, check=False)
    entries = json.loads(ran.stdout)["entries"]
    found, true = told_of(site, entries), truth_of(system, engine, site, folder)
    assert found.keys() == true.keys(), found.keys() ^ true.keys()
    wrong = [f for f in found if not is_right(found[f], true[f])]
    for field in wrong:
        shown = true[field] if not callable(true[field]) else "otherwise"
        print(f"    {field}: {found[field]!r}, and it is {shown!r}")
    print(f"| {system} | {engine} | {len(found) - len(wrong)} of {len(found)} |")


if __name__ == "__main__":
    main(Path(sys.argv[1]).resolve(), *sys.argv[2:])
