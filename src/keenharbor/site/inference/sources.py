"""The files of a site in which settings stand."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property

from keenharbor.host import ReadPath
from keenharbor.site.settings import (
    LARGEST_SETTINGS_FILE,
    Setting,
    SettingsError,
    SettingsForm,
    form_of,
    key_parts,
    settings_in,
)
from keenharbor.tree import Entry

_LIKELY_NAME = re.compile(
    r"(config|settings?|conf|local|env|database|\bdb\b|parameters|options|params|environment|site|secrets?|version|"
    r"bootstrap|init|app|defines?)",
    re.IGNORECASE,
)
_ONLY_AN_EXAMPLE = re.compile(
    r"(sample|example|\bdist\b|template|default\.settings|\.bak$|~$|\btests?\b|fixtures?|docs?/)", re.IGNORECASE
)
_DEPENDENCIES = re.compile(
    r"(^|/)(vendor|node_modules|site-packages|bower_components|dist-packages|\.venv|venv|env/lib)/"
)
_TELLING = re.compile(
    rb"(?i)(\bdb|database|dsn|mysql|pgsql|postgres|sqlite|mariadb|https?://|version|password|passwd|mail|"
    rb"installed_apps)"
)
_OF_OTHERS = re.compile(
    r"(?i)(^|/)(plugins?|extensions?|modules?|addons?|add-ons?|widgets?|packages?|bundles?|themes?|templates?|skins?|"
    r"libs?|libraries|third[-_]?party|classes|languages?|locales?|i18n|migrations?|tests?|docs?)/"
)
_MANIFEST = re.compile(
    r"(?i)^(composer|package|bower|component|plugin|extension|theme|module|manifest|pyproject|setup|cargo|info)"
    r"([.-]lock)?\.(json|toml|cfg|xml|ya?ml|ini|info)$|\.(info|meta|lock)$|-lock\.json$"
)
_OWN_NAME = re.compile(
    r"(?i)(^|[._/-])(config(uration)?|settings?|conf|local\w*|env|parameters|options|site|sites|defines?|constants?|"
    r"production|prod|live|secrets?|common|base|main|general|global|database|db|app)([._/-]|\d|$)|config|settings"
)
_MOST_SOURCES, _MOST_UNLIKELY = 600, 200
"""So many files that hold settings are taken in, and so many of those that neither name nor place speaks for."""
_CODE = ("php", "python")


@dataclass(frozen=True)
class Source:
    """A file with its settings. ``score`` says how much its name and place speak for a settings file;
    an ``example`` tells what could stand in one."""

    path: str
    form: SettingsForm
    settings: tuple[Setting, ...]
    score: float
    example: bool = False

    @property
    def is_own(self) -> bool:
        """Whether what it says can be of the site itself, by its name and place: not of a library, an extension, a
        package or an example."""
        name = posixpath.basename(self.path)
        if self.example or _MANIFEST.search(name) or _OF_OTHERS.search(self.path):
            return False
        return bool(_OWN_NAME.search(name if self.form in _CODE else self.path)) or "/" not in self.path

    @property
    def own_settings(self) -> Iterator[Setting]:
        """Its settings but for values that code works with."""
        return (s for s in self.settings if not s.inside)

    @cached_property
    def values(self) -> dict[str, str]:
        """The values by key."""
        return {s.key: s.value for s in self.settings}

    def evidence(self, setting: Setting) -> str:
        """File, line and key of a setting of this file."""
        line = f":{setting.line}" if setting.line else ""
        return f"{self.path}{line}, {setting.key}"

    def of(self, key: str) -> Setting | None:
        """The setting with that key; of one that is set twice, the later."""
        return next((s for s in reversed(self.settings) if s.key == key), None)


def in_dependencies(path: str) -> bool:
    """Whether a path lies in a folder of what a package manager installed."""
    return _DEPENDENCIES.search(path) is not None


def settings_sources(root: ReadPath, entries: Mapping[str, Entry]) -> list[Source]:
    """The files that hold settings, those that are most likely to be the site's own first."""
    wanted: list[tuple[float, str, SettingsForm]] = []
    for path, entry in entries.items():
        form = form_of(path) if entry.kind == "file" and 0 < entry.size <= LARGEST_SETTINGS_FILE else None
        if form is None or in_dependencies(path):
            continue
        score = _score(path, form)
        wanted.append((score, path, form))
    wanted.sort(key=lambda w: (-w[0], w[1]))
    found: list[Source] = []
    unlikely = 0
    for score, path, form in wanted:
        if len(found) >= _MOST_SOURCES or (score < 0 and unlikely >= _MOST_UNLIKELY):
            break
        source = _read(root, path, form, score)
        if source is not None:
            found.append(source)
            unlikely += score < 0
    return found


def _score(path: str, form: SettingsForm) -> float:
    name = posixpath.basename(path)
    score = 2.0 if _LIKELY_NAME.search(name) else 0.0
    score += 0.5 if _LIKELY_NAME.search(path) else 0.0
    score -= 0.3 * path.count("/")
    score += 1.0 if form == "env" else 0.0
    return score - (4.0 if _ONLY_AN_EXAMPLE.search(path) else 0.0)


def _read(root: ReadPath, path: str, form: SettingsForm, score: float) -> Source | None:
    try:
        data = (root / path).read_bytes()
        if form in _CODE and not _TELLING.search(data):
            return None
        text = data.decode("utf-8", "surrogateescape")
        settings = tuple(settings_in(text, form, root / path))
    except (OSError, SettingsError):
        return None
    return Source(path, form, settings, score, _ONLY_AN_EXAMPLE.search(path) is not None) if settings else None


@dataclass(frozen=True)
class Group:
    """Settings of one file that belong together by their names: ``DB_HOST`` and ``DB_USER``, or the entries of one
    table. ``members`` by what they say (``host``, ``user``)."""

    source: Source
    name: str
    members: dict[str, Setting]


ROLES = {
    "password": r"password|passwd|passwort|passphrase|pass|pwd|pw",
    "user": r"username|user_name|user|usr|login|uname|uid",
    "socket": r"unix_?socket|socket|sock",
    "port": r"port",
    "host": r"hostname|hostspec|host|server|addr",
    "engine": r"driver|adapter|dialect|client|engine|phptype|type|backend|rdbms|provider",
    "url": r"url|uri|dsn|connection_?string|connection|default",
    "path": r"path|filename|file_?path|file|storage",
    "name": r"database|dbase|catalog|name|schema|db",
}
_ROLE = {role: re.compile(rf"(?i)^(?P<prefix>.*?)[_-]?(?:{words})$") for role, words in ROLES.items()}
_SPEAKS_OF_A_DATABASE = re.compile(r"(?i)^(db|database|sql|mysql|mariadb|pgsql|pg|postgres|postgresql|sqlite|rdbms)s?$")
_CALL = re.compile(r"^(?P<called>.+)\((?P<place>\d+)\)$")


def groups_of(source: Source) -> Iterator[Group]:
    """The settings of a file by what they belong to; a name may fit several roles, the first that fits counts."""
    found: dict[tuple[str, str], dict[str, Setting]] = {}
    for setting in source.settings:
        *above, last = key_parts(setting.key)
        if _CALL.match(last):
            continue
        for role, pattern in _ROLE.items():
            fits = pattern.match(last.lstrip("$"))
            if fits is None:
                continue
            prefix = fits["prefix"].lower()
            if above and (_SPEAKS_OF_A_DATABASE.match(prefix) or not prefix):
                prefix = ""
            found.setdefault((".".join(above), prefix), {})[role] = setting
            break
    for (above_all, prefix), members in found.items():
        others = found.get((above_all, ""), {}) if _SPEAKS_OF_A_DATABASE.match(prefix) and "user" not in members else {}
        yield Group(source, f"{above_all}.{prefix}".strip("."), {**others, **members})


def calls_of(source: Source) -> Iterator[tuple[str, dict[int, Setting]]]:
    """The arguments of each call, by their place."""
    found: dict[str, dict[int, Setting]] = {}
    for setting in source.settings:
        call = _CALL.match(setting.key)
        if call is not None:
            found.setdefault(call["called"], {})[int(call["place"])] = setting
    yield from found.items()
