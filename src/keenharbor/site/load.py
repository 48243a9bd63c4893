"""From a site file to a site."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from keenharbor.base.errors import UsageError
from keenharbor.base.pace import read_rate
from keenharbor.base.references import referred
from keenharbor.database import DatabasePlace
from keenharbor.database.kinds import NO_ENGINE, engine_of, kind_of
from keenharbor.host import Here, Host, ReadPath
from keenharbor.host.addresses import Address, is_far
from keenharbor.site.connections import place_of_text, server_place, split_host
from keenharbor.site.model import DatabaseSettingsPart, SiteFile
from keenharbor.site.routines import LinePart
from keenharbor.site.settings import SettingsForm, form_of, read_settings
from keenharbor.site.toml import find_line, read_toml, validated
from keenharbor.site.view import SiteView, reached
from keenharbor.site.whereabouts import Whereabouts, merged, read_said


def load_site_file(file: Path) -> SiteFile:
    """The site file with the platform file that it extends. Raises `UsageError` with file and line."""
    said, platform_file = read_said(file)
    if platform_file is not None:
        read_platform(platform_file)  # so that its errors name it and not the site file
    return _with_places_of_secrets(validated(SiteFile, said, file, "site file"), file.absolute().parent)


def _with_places_of_secrets(model: SiteFile, base: Path) -> SiteFile:
    """The site file with the files of secrets (``file:PATH`` in the fields of checks) named from the root on."""
    for check in model.check:
        for step in check.steps:
            for name, value in step.fields.items():
                if value.startswith("file:"):
                    step.fields[name] = f"file:{base / value.removeprefix('file:')}"
    return model


def read_platform(file: Path) -> SiteFile:
    """A platform file by itself: what only a site can say is filled with stand-ins. Raises `UsageError`."""
    stand_in = {"format": 1, "site": {"name": "x", "root": "x", "address": "http://x"}, "database": {"path": "x"}}
    return validated(SiteFile, merged(stand_in, read_toml(file, "platform file")), file, "platform file")


def open_site(file: Path) -> SiteView:
    """The live site that ``file`` describes: read-only."""
    file = file.resolve()
    model = load_site_file(file)
    at = Whereabouts.of(file, model.site.name, model.site.root, model.site.work, model.store.path)
    host, root = host_of(at, model)
    top = ReadPath(host.reading(root, leads_out=True))
    if not top.is_dir():
        raise UsageError(
            "the site's folder is not there", where=at.far or at.root,
            advice=f"correct 'root' under [site] in {file.name}",
        )  # fmt: skip
    return SiteView(model, file, root, database_place(model, _base_of(file, host, root), top, file.parent), at.work,
                    at.store_folder, host)  # fmt: skip


def host_of(at: Whereabouts, model: SiteFile) -> tuple[Host, str]:
    """The machine under a site, and the site's folder there."""
    if not at.far:
        return Here(at.work), str(at.root)
    return far_host(at.far, model.line, at.site_file.parent, at.work)


def far_host(root: str, line: LinePart, base: Path, work: Path) -> tuple[Host, str]:
    """The machine that an address names, and the folder there. Raises `UsageError`, `LineError` where it cannot be
    reached though it has to be asked."""
    from keenharbor.host.far.there import There, settings_for  # late: most sites are here

    try:
        password = referred(line.password, base) if line.password is not None else None
    except LookupError as error:
        raise UsageError(f"[line] password: {error}", where=base) from None
    settings = settings_for(
        Address.read(root), password=password, key_file=_beside(base, line.key_file),
        known_hosts=_beside(base, line.known_hosts), python=line.python,
        rate=read_rate(line.limit) if line.limit else 0.0, files_only=line.files_only,
    )  # fmt: skip
    there = There.of(settings, work, Address.read(root).folder)
    return there, there.top


def host_at(at: Whereabouts, folder: str) -> tuple[Host, str]:
    """The machine of a folder that a person names, here or with ``ssh://``, and the folder there; another machine is
    reached as the site file says."""
    if not is_far(folder):
        return Here(at.work), str(Path(folder).absolute())
    return far_host(folder, load_site_file(at.site_file).line, at.site_file.parent, at.work)


def _beside(base: Path, name: str | None) -> Path | None:
    """A file that [line] names, from the site file's folder on. Raises `UsageError` where it is not there."""
    if name is None:
        return None
    file = base / Path(name).expanduser()
    if not file.is_file():
        raise UsageError("a file that [line] names is not there", where=file, advice="correct [line] in the site file")
    return file


def _base_of(file: Path, host: Host, root: str) -> Path:
    """From where paths count that belong to the site's machine: the site file's folder, or the site's own there."""
    return file.absolute().parent if host.is_here else Path(root)


def database_if_said(at: Whereabouts) -> DatabasePlace:
    """Where the database is, whether or not the site's folder is there. Raises what keeps it from being said."""
    model = load_site_file(at.site_file)
    host, root = host_of(at, model)
    top = ReadPath(host.reading(root, leads_out=True))
    place = database_place(model, _base_of(at.site_file, host, root), top, at.site_file.parent)
    return reached(host, place)


def live_database_place(site: SiteView) -> DatabasePlace:
    """Where the database of the live ``site`` is: for who changes live alone."""
    return database_place(site.model, _base_of(site.site_file, site.host, site.place), site.named(""),
                          site.site_file.absolute().parent)  # fmt: skip


def database_place(model: SiteFile, base: Path, root: ReadPath, home: Path | None = None) -> DatabasePlace:
    """Where the site's database is, by the site file or by the site's own settings. ``base`` is the folder from which
    its path counts, ``home`` that of the site file, where it is another."""
    said = model.database
    if said.path is not None:
        return DatabasePlace(said.engine, base / said.path)
    if said.url is not None:
        return DatabasePlace.from_url(said.url, read_password(home or base, said.password_file))
    if said.engine == NO_ENGINE:
        return DatabasePlace(NO_ENGINE)
    file, form = database_settings_file(model, root)
    if said.settings is not None:
        return _by_settings(said.settings, said.engine, read_settings(file, form), file, root)
    if said.setting is not None:
        value = read_settings(file, form).get(said.setting)
        if not value:
            raise UsageError(f"the setting '{said.setting}' for the database is not there", where=file)
        return DatabasePlace(said.engine, Path(str(root)) / value)
    raise UsageError("site file, 'database': one of 'path', 'setting', 'url' and 'settings' is wanted")


def database_settings_file(model: SiteFile, root: ReadPath) -> tuple[ReadPath, SettingsForm]:
    """The file of the site's settings that says where its database is, and its form."""
    keys, general = model.database.settings, model.settings
    if keys is not None and keys.file is not None:
        return root / keys.file, keys.format or form_of(keys.file) or "ini"
    if general is None:
        raise UsageError("site file: '[settings] file' is wanted, for [database] refers to it")
    return root / general.file, general.format


def read_password(base: Path, file: str | None) -> str:
    """The password in a file beside the site file; none where no file is named."""
    if file is None:
        return ""
    try:
        return (base / file).read_text(encoding="utf-8").rstrip("\r\n")
    except OSError as error:
        raise UsageError(f"the password's file cannot be read: {error.strerror}", where=base / file) from None


def _by_settings(
    keys: DatabaseSettingsPart, engine: str, settings: Mapping[str, str], file: ReadPath, root: ReadPath
) -> DatabasePlace:
    def value(key: str | None) -> str:
        return settings.get(key, "") if key is not None else ""

    if value(keys.url):
        place = place_of_text(value(keys.url), Path(str(root)), value(keys.user), value(keys.password))
        if place is None:
            raise UsageError(f"the setting '{keys.url}' names no database that is known", where=file)
        return place
    named = value(keys.engine) or engine
    engine = engine_of(named) or named
    if kind_of(engine).is_file:
        if not value(keys.path):
            raise UsageError(f"the setting '{keys.path or 'path'}' for the database is not there", where=file)
        return DatabasePlace(engine, Path(str(root)) / (keys.path_pattern or "{}").replace("{}", value(keys.path)))
    if not value(keys.name):
        raise UsageError(f"the setting '{keys.name or 'name'}' for the database is not there", where=file)
    host, port, socket = split_host(value(keys.host))
    port, socket = value(keys.port) or port, value(keys.socket) or socket
    if port and not port.isdigit():
        raise UsageError(f"the setting '{keys.port}' is no port: '{port}'", where=file)
    return server_place(engine, host, port, socket, value(keys.name), value(keys.user), value(keys.password))


@dataclass(frozen=True)
class Origin:
    """Where the value of a key of the site file comes from."""

    key: str
    value: object
    where: str
    overrides: str = ""


def origin_of(file: Path, key: str) -> Origin:
    """Where ``key`` (parts divided by dots) got its value: the site file, the platform file, or what holds when neither
    says.

    The rule is one: what the site file says wins over the platform file, table by table and key by key; what neither
    says has the value that docs/site-file.md gives. Raises `UsageError` for a key that does not exist."""
    model = load_site_file(file)
    parts = key.split(".")
    site = read_toml(file, "site file")
    platform_file = (file.parent / str(site["extends"])).resolve() if "extends" in site else None
    platform = read_toml(platform_file, "platform file") if platform_file is not None else {}
    said = _at(site, parts)
    below = _at(platform, parts)

    def place(where: Path) -> str:
        line = find_line(where.read_text(encoding="utf-8"), parts)
        return f"{where}:{line}" if line else str(where)

    if said is not None and isinstance(said, dict) and isinstance(below, dict):
        return Origin(key, merged(below, said), f"{place(file)}, joined with {platform_file}")
    if said is not None:
        overrides = f"{below!r} in {platform_file}" if below is not None and platform_file is not None else ""
        return Origin(key, said, place(file), overrides)
    if below is not None and platform_file is not None:
        return Origin(key, below, place(platform_file))
    value: object = model
    for part in parts:
        known = (
            value.get(part)
            if isinstance(value, dict)
            else getattr(value, part, _UNKNOWN)
            if part in _fields(value)
            else _UNKNOWN
        )
        if known is _UNKNOWN:
            raise UsageError(
                f"there is no key '{key}' in a site file", where=file, advice="'keenharbor manual keys' lists them"
            )
        value = known
    shown = value.model_dump(mode="json") if hasattr(value, "model_dump") else value
    return Origin(key, shown, "neither file says it: this is what holds then")


_UNKNOWN = object()


def _fields(value: object) -> Mapping[str, object]:
    return getattr(type(value), "model_fields", {})


def _at(table: object, parts: list[str]) -> object:
    for part in parts:
        if not isinstance(table, dict) or part not in table:
            return None
        table = table[part]
    return table
