"""The forms of settings files, by name, and what is done with any of them."""

from __future__ import annotations

import difflib
import posixpath
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Literal

import tomlkit
import tomlkit.exceptions

from keenharbor.base.errors import UsageError
from keenharbor.host import AnyPath, size_of
from keenharbor.site.settings.common import LARGEST_SETTINGS_FILE, Setting, SettingsError, key_parts
from keenharbor.site.settings.plain import read_env, read_ini

SettingsForm = Literal["ini", "env", "json", "yaml", "toml", "xml", "php", "python"]
FORMS: tuple[SettingsForm, ...] = ("ini", "env", "json", "yaml", "toml", "xml", "php", "python")
_BY_SUFFIX: dict[str, SettingsForm] = {
    ".ini": "ini", ".cfg": "ini", ".conf": "ini", ".env": "env", ".json": "json", ".yaml": "yaml", ".yml": "yaml",
    ".toml": "toml", ".xml": "xml", ".php": "php", ".inc": "php", ".phtml": "php", ".py": "python",
}  # fmt: skip


def form_of(path: str) -> SettingsForm | None:
    """The form that a file's name promises; None for a file that holds no settings."""
    name = posixpath.basename(path).lower()
    if name == ".env" or name.startswith(".env."):
        return "env"
    return _BY_SUFFIX.get(posixpath.splitext(name)[1])


def settings_in(text: str, form: SettingsForm, file: AnyPath | None = None) -> Iterator[Setting]:
    """Every value in ``text``; ``file`` is where it stands, for forms that can refer to it. Raises `SettingsError`."""
    # A site has its settings in one form: the readers of the others are not loaded.
    if form in ("ini", "env"):
        return read_ini(text) if form == "ini" else read_env(text)
    if form == "php":
        from keenharbor.site.settings.php import read_php

        return read_php(text, str(file) if file else "")
    if form == "python":
        from keenharbor.site.settings.python import read_python

        return read_python(text, str(file) if file else "", _read_other)
    from keenharbor.site.settings.nested import read_json, read_toml_values, read_xml, read_yaml

    readers = {"json": read_json, "yaml": read_yaml, "toml": read_toml_values, "xml": read_xml}
    return readers[form](text)


def _read_other(path: str) -> str | None:
    file = Path(path)
    try:
        if not file.is_file() or file.stat().st_size > LARGEST_SETTINGS_FILE:
            return None
        return file.read_text(encoding="utf-8", errors="surrogateescape")
    except OSError:
        return None


def values_in(text: str, form: SettingsForm, where: AnyPath) -> dict[str, str]:
    """The values by key (of one that is set twice, the later). Raises `UsageError` with file and line."""
    try:
        return {s.key: s.value for s in settings_in(text, form, where)}
    except SettingsError as error:
        raise UsageError(f"this settings file cannot be read: {error}", where=where, line=error.line) from None


def read_settings(file: AnyPath, form: SettingsForm = "ini") -> dict[str, str]:
    """The values of a settings file by key. Raises `UsageError`."""
    try:
        if size_of(file) > LARGEST_SETTINGS_FILE:
            raise UsageError("the settings file is too large to be one", where=file)
        return values_in(file.read_text(encoding="utf-8"), form, file)
    except FileNotFoundError:
        raise UsageError("the settings file is not there", where=file) from None
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(f"the settings file cannot be read: {error}", where=file) from error


def with_value(text: str, key: str, value: str, form: SettingsForm = "ini", file: AnyPath | None = None) -> str:
    """``text`` with ``key`` set to ``value``; comments, order, quotes and blanks stay. Raises `KeyError` when the key
    is not there, or its value is put together from several places."""
    if form == "toml":
        return _with_toml_value(text, key, value)
    found = [
        s for s in settings_in(text, form, file) if s.key == key or (form == "ini" and s.key.lower() == key.lower())
    ]
    if not found or found[-1].start < 0:
        raise KeyError(key)
    last = found[-1]
    return text[: last.start] + last.write(value) + text[last.end :]


def with_values(text: str, values: Mapping[str, str], form: SettingsForm, file: AnyPath | None = None) -> str:
    """A whole file's ``text`` with all ``values`` set by key; its line ends stay as they are, mixed ones too. Raises
    `KeyError` as `with_value` does."""
    plain = new = text.replace("\r\n", "\n").replace("\r", "\n")
    for key, value in values.items():
        new = with_value(new, key, value, form, file)
    if plain == text:
        return new
    for at, length, instead in _changes(plain, new):
        begin, end = _place_in(text, at), _place_in(text, at + length)
        text = text[:begin] + instead + text[end:]
    return text


def _changes(old: str, new: str) -> list[tuple[int, int, str]]:
    """What leads from ``old`` to ``new``: where, how many characters, and what instead; the last first."""
    match = difflib.SequenceMatcher(None, old.splitlines(keepends=True), new.splitlines(keepends=True), autojunk=False)
    lines, others = old.splitlines(keepends=True), new.splitlines(keepends=True)
    found = []
    for kind, begin, end, from_, to in match.get_opcodes():
        if kind != "equal":
            before, after = "".join(lines[begin:end]), "".join(others[from_:to])
            same = _in_common(before, after)
            rest = _in_common(before[same:][::-1], after[same:][::-1])
            at = len("".join(lines[:begin])) + same
            found.append((at, len(before) - same - rest, after[same : len(after) - rest]))
    return found[::-1]


def _in_common(one: str, other: str) -> int:
    """How many characters both begin with."""
    return next((n for n, (a, b) in enumerate(zip(one, other, strict=False)) if a != b), min(len(one), len(other)))


def _place_in(text: str, position: int) -> int:
    """Where in ``text`` a position is that was counted with one character for each line end."""
    at = 0
    for _ in range(position):
        at += 2 if text.startswith("\r\n", at) else 1
    return at


def _with_toml_value(text: str, key: str, value: str) -> str:
    document = tomlkit.parse(text)
    *above, name = key_parts(key)
    table: object = document
    try:
        for part in above:
            table = table[int(part) if isinstance(table, list) else part]  # type: ignore[index]
        old = table[name]  # type: ignore[index]
        plain = old.unwrap() if hasattr(old, "unwrap") else old
        new: object = value
        if isinstance(plain, bool):
            new = value == "true"
        elif isinstance(plain, (int, float)):
            new = type(plain)(value)
        table[name] = new  # type: ignore[index]
    except (tomlkit.exceptions.NonExistentKey, LookupError, TypeError, ValueError):
        raise KeyError(key) from None
    return tomlkit.dumps(document)
