"""The site file and the platform file, as text, from what was found."""

from __future__ import annotations

import json
import re
import textwrap
from collections.abc import Mapping, Sequence
from pathlib import Path

import tomlkit

from keenharbor.base.errors import UsageError
from keenharbor.database.kinds import NO_ENGINE
from keenharbor.site.inference.databases import Candidate
from keenharbor.site.inference.inferred import Given, Inferred
from keenharbor.site.inference.packages import Home
from keenharbor.site.model import DescribedFolder
from keenharbor.site.toml import read_toml

NO_ADDRESS = "http://address-not-found.invalid"
"""Stands where the address belongs until somebody says it (RFC 6761 keeps ``invalid`` from ever leading anywhere)."""


def _said(value: object) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(_said(v) for v in value) + "]"
    if isinstance(value, Mapping):
        return "{ " + ", ".join(f"{_key(k)} = {_said(v)}" for k, v in value.items()) + " }"
    if isinstance(value, (int, float)):
        return str(value)
    return json.dumps(str(value), ensure_ascii=False).replace("\x7f", "\\u007f")


def _key(name: str) -> str:
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else _said(name)


class _Text:
    """Lines of TOML, each with the reason behind it."""

    def __init__(self) -> None:
        self.lines: list[str] = []

    def table(self, name: str, why: str = "") -> None:
        self.lines += ["", *([f"# {line}" for line in _wrapped(why)] if why else []), f"[{name}]"]

    def put(self, key: str, value: object, why: str = "") -> None:
        if value is not None:
            self.lines.append(f"{_key(key)} = {_said(value)}" + (f"  # {_one_line(why)}" if why else ""))


def _one_line(text: str) -> str:
    return re.sub(r"[\x00-\x1f\x7f]+", " ", text)[:160]


def _wrapped(text: str) -> list[str]:
    return textwrap.wrap(re.sub(r"[\x00-\x1f\x7f]+", " ", text), 116) or [""]


_ANY_FOLDER = re.compile(
    r"(?i)^(site|www|htdocs|httpdocs|public_html|html|web|webroot|public|app|src|current|docroot|)$"
)


def site_name(found: Inferred, given: Given) -> tuple[str, str]:
    """A short name for the site, and where it comes from."""
    if given.name is not None:
        return given.name, "as you said"
    titled = (found.title[0], f"guessed from the title ({found.title[1]})") if found.title is not None else ("", "")
    folder = next(
        (n for n in (found.root.name, *(p.name for p in found.root.parents[:2])) if not _ANY_FOLDER.match(n)), ""
    )
    for text, why in (titled, (folder or found.root.name, "guessed from the folder")):
        name = re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")[:60].strip("-")
        if name:
            return name, why
    return "site", "guessed"


def site_file_text(found: Inferred, given: Given, home: Path) -> str:
    """The site file for what was found; ``home`` is the folder in which it will stand."""
    out = _Text()
    name, why = site_name(found, given)
    out.lines += [
        "# Describes one site. Each entry says what it was taken from; correct what is guessed.",
        "format = 1",
    ]
    out.table("site")
    out.put("name", name, why)
    if found.title is not None:
        out.put("title", found.title[0], found.title[1])
    out.put("root", found.far or _relative(found.root, home))
    if found.address is not None:
        out.put("address", found.address.address, found.address.evidence)
    else:
        out.put("address", NO_ADDRESS, "not found: write the site's address here")
    out.put("work", "harbor", "trials, clones and the log; outside the site's folder")
    out.table("store")
    out.put("path", "harbor/store", "snapshots; may be shared by many sites")
    out.table("platform")
    core = found.core
    out.put(
        "name",
        (core.title.lower() if core and core.title else name),
        "what sites of this system have in common; a name of your choice",
    )
    _put_core(out, found)
    _put_settings(out, found)
    _put_database(out, found)
    _put_runtime(out, found, given, home)
    for key, one in (("extensions", found.extensions), ("themes", found.themes)):
        if one is not None:
            _put_home(out, key, one, found)
    if found.areas:
        out.table("areas")
        for area, paths in found.areas.items():
            out.put(area, paths, found.areas_why[paths[0]])
    _put_contents(out, found)
    if found.migrate is not None:
        out.table("commands", "how the database follows the code")
        out.put("migrate", found.migrate)
        if found.builds_schema:
            out.put("build_schema", found.migrate, "of an empty database: a trial holds the definitions against it")
    if found.serve is not None:
        out.table("serve", f"how a clone is started: {found.serve.why}")
        out.put("command", found.serve.command)
        if found.serve.folder:
            out.put("folder", found.serve.folder)
    return "\n".join(out.lines) + "\n"


def _put_core(out: _Text, found: Inferred) -> None:
    core = found.core
    out.table("core", f"{core.version}: {core.evidence}" if core else "no file tells the core's version: name one")
    if core is None:
        out.put("version_file", "VERSION", "not found")
    else:
        out.put("version_file", core.version_file)
        out.put("key", core.key)
        out.put("distribution", core.distribution)
    out.put(
        "package", core.distribution if core and core.distribution else "core", "the core's name in a feed of releases"
    )


def _put_settings(out: _Text, found: Inferred) -> None:
    source = found.settings_source
    if source is None:
        return
    out.table("settings")
    out.put("file", source.path)
    out.put("format", source.form)
    if found.settings_table is not None:
        table, name, value = found.settings_table
        out.put("table", {"table": table, "name": name, "value": value}, "settings that stand in the database")
    if found.address is not None and found.address.setting is not None and found.address.source is source:
        out.table("address")
        out.put("setting", found.address.setting)


def _put_database(out: _Text, found: Inferred) -> None:
    tried = found.database
    if tried is None:
        out.table("database", "no settings speak of a database")
        out.put("engine", NO_ENGINE)
        return
    candidate = tried.candidate
    out.table("database", f"{candidate.evidence}; {tried.told}")
    if candidate.source is None:
        out.put("engine", candidate.place.engine)
        out.put("path", str(candidate.place.path))
        return
    if "engine" not in candidate.keys and "url" not in candidate.keys:
        out.put("engine", candidate.place.engine, "" if candidate.engine_said else "the settings do not say it")
    elif candidate.place.path is not None and "url" not in candidate.keys:
        out.put("engine", candidate.place.engine)
    out.table(
        "database.settings", "names of the keys that say it; what they hold (the password, too) stays where it is"
    )
    _put_keys(out, candidate, found)


def _put_keys(out: _Text, candidate: Candidate, found: Inferred) -> None:
    assert candidate.source is not None
    if found.settings_source is None or candidate.source.path != found.settings_source.path:
        out.put("file", candidate.source.path)
        out.put("format", candidate.source.form)
    for role in ("url", "engine", "path", "path_pattern", "host", "port", "socket", "name", "user", "password"):
        if role in candidate.keys and not (
            role == "engine" and candidate.place.path is None and not candidate.engine_said
        ):
            out.put(role, candidate.keys[role])


def _put_runtime(out: _Text, found: Inferred, given: Given, home: Path) -> None:
    runtime = found.runtime
    if runtime is None:
        out.table("runtime", "there is no code in the site")
        out.put("name", "none")
        out.put("version", "0")
        return
    out.table("runtime", f"{runtime.name_evidence}; version: {runtime.version_evidence or 'not found'}")
    out.put("name", runtime.name)
    if runtime.version_file is not None:
        out.put("version_file", runtime.version_file)
    else:
        out.put("version", runtime.version or "unknown", "" if runtime.version else "not found: write it here")
    out.put("packages", runtime.packages)
    out.put("server_configs", [_relative(f.resolve(), home) for f in given.server_configs] or None)
    if runtime.program is not None and runtime.version is not None:
        out.table("runtime.launchers")
        out.put(runtime.version, runtime.program)


def _put_home(out: _Text, key: str, home: Home, found: Inferred) -> None:
    out.table(key, home.evidence)
    _put_described(out, home.part)
    for switch in (found.active_theme, found.switch) if home.kind == "theme" else (found.switch,):
        if switch is None or not any((switch.on | switch.names) & set(c.known_as) for c in home.components):
            continue
        own = switch.switch
        if own.setting is not None and switch.source is not None and found.settings_source is not switch.source:
            own = own.model_copy(update={"file": switch.source.path, "format": switch.source.form})
        out.put("switch", own.model_dump(exclude_none=True), switch.evidence)
        break
    _put_fields(out, f"{key}.fields", home.part)
    for other in home.part.others:
        out.table(f"[{key}.others]", "described otherwise")
        _put_described(out, other)
        _put_fields(out, f"{key}.others.fields", other)


def _put_described(out: _Text, part: DescribedFolder) -> None:
    out.put("folder", part.folder)
    out.put("also", part.also or None)
    out.put("files", part.files or None)
    out.put("facts", part.facts or None)
    out.put("format", part.format)
    out.put("only", part.only or None)


def _put_fields(out: _Text, table: str, part: DescribedFolder) -> None:
    if part.fields:
        out.table(table)
        for field, name in part.fields.items():
            out.put(field, name)


def _put_contents(out: _Text, found: Inferred) -> None:
    visitors = [t for t in found.tables if t.kind == "visitors"]
    if found.tables:
        out.table(
            "visitor_data", "tables whose new rows come from visitors: name every one, a way back carries them over"
        )
        for kind in visitors:
            out.lines.append(f"# {_one_line(kind.table)}: {kind.why}")
        out.put("tables", [t.table for t in visitors])
    passing = [t for t in found.tables if t.kind in ("sessions", "cache", "logs")]
    if passing:
        out.table("volatile", "tables that change with every visit")
        for kind in passing:
            out.lines.append(f"# {_one_line(kind.table)}: {kind.why}")
        out.put("tables", [t.table for t in passing])
    if found.passing_settings and found.settings_table is not None:
        if not passing:
            out.table("volatile", "what changes with every visit")
        table, name, _ = found.settings_table
        out.put("rows", [{"table": table, "column": name, "like": list(found.passing_settings)}])
    if found.mail is not None and found.settings_source is found.mail[0] and "port" in found.mail[1]:
        out.table("mail")
        out.put("host", found.mail[1]["host"].key)
        out.put("port", found.mail[1]["port"].key)


def _relative(path: Path, home: Path) -> str:
    return str(path.relative_to(home)) if home in path.parents else str(path)


# -- platform files -------------------------------------------------------------------------------------------

_OF_ONE_SITE = ("extends", "site", "store", "live", "feed")


def platform_text(site_file: Path) -> str:
    """A platform file from a site file: all that is not of the one site alone. Raises `UsageError` when it extends
    one."""
    said = read_toml(site_file, "site file")
    if "extends" in said:
        raise UsageError(
            "this site file extends a platform file already",
            where=site_file,
            advice=f"share that one: {said['extends']}",
        )
    document = tomlkit.parse(site_file.read_text(encoding="utf-8"))
    for key in _OF_ONE_SITE:
        document.pop(key, None)
    runtime = document.get("runtime")
    if runtime is not None:
        for key in ("launchers", "server_configs", *(("version",) if "version_file" in runtime else ())):
            runtime.pop(key, None)
    database = document.get("database")
    if database is not None:
        for key in ("path", "url", "password_file", "scratch_url"):
            database.pop(key, None)
    text = tomlkit.dumps(document)
    # Comments tell what was found in one site; they are of no use to another.
    lines = [re.sub(r"\s+# .*$", "", line) for line in text.splitlines() if not line.startswith("#")]
    kept = re.sub(r"\n{3,}", "\n\n", "\n".join(lines)).strip()
    return "# What all sites on this system have in common; a site file names it with 'extends'.\n" + kept + "\n"


def missing_keys(found: Inferred) -> Sequence[str]:
    """What has to be said by a person before the site file is whole."""
    return [*(["site.address"] if found.address is None else []),
        *(["core.version_file"] if found.core is None else []),
            *(["runtime.version"] if found.runtime is not None and found.runtime.version is None else [])]  # fmt: skip
