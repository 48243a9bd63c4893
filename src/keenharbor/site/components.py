"""What is installed in a site's folders: extensions and themes with the facts that they tell of themselves."""

from __future__ import annotations

import importlib.metadata
import json
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath
from typing import cast

from keenharbor.database import serialised
from keenharbor.host import AnyPath, ReadPath, relative_to, size_of
from keenharbor.host.areas import fits
from keenharbor.site.model import DescribedFolder, FolderPart
from keenharbor.site.settings import LARGEST_SETTINGS_FILE, SettingsError, settings_in

_HEADER_BYTES = 8192
_HEADER_LINE = re.compile(
    r"^[ \t/*#@;!<>-]*([A-Za-z][A-Za-z0-9 _-]{1,40}?)[ \t]*:[ \t]*(\S[^\n]*?)[ \t]*(?:\*/|-->)?\s*$", re.MULTILINE
)
_COMMENT = re.compile(
    r"/\*.*?\*/|<!--.*?-->|\"\"\".*?\"\"\"|'''.*?'''|(?:^[ \t]*(?://|#)[^\n]*\n)+", re.DOTALL | re.MULTILINE
)


@dataclass(frozen=True)
class FoundComponent:
    """One folder (or distribution) with its facts by field, and every name by which something may refer to it. Where it
    is no folder, ``files`` are its own in that ``folder``."""

    name: str
    folder: str
    facts: Mapping[str, str]
    known_as: tuple[str, ...]
    facts_file: str = ""
    files: tuple[str, ...] = ()


def header_facts(text: str) -> dict[str, str]:
    """The lines ``Key: value`` of the first comment that has at least two of them; keys in small letters."""
    for block in _COMMENT.finditer(text[:_HEADER_BYTES]):
        found = {m[1].strip().lower(): m[2] for m in _HEADER_LINE.finditer(block[0])}
        if len(found) >= 2:
            return found
    return {}


def facts_of(file: AnyPath, form: str) -> dict[str, str]:
    """What a component's file says, by key; nothing where it cannot be read."""
    if form == "folder":
        return {}
    try:
        if not file.is_file() or size_of(file) > LARGEST_SETTINGS_FILE:
            return {}
        text = file.read_text(encoding="utf-8", errors="replace")
        if form == "header":
            return header_facts(text)
        return {s.key: s.value for s in settings_in(text, form, file)}  # type: ignore[arg-type]
    except (OSError, SettingsError):
        return {}


PackagesAt = Callable[[str], ReadPath]
"""A folder of packages, from the site's folder on; it may lie beside that."""


def components_in(root: AnyPath, part: FolderPart, packages_at: PackagesAt | None = None) -> list[FoundComponent]:
    """What stands in the folders of ``part``, by name."""
    return sorted((c for place in part.places for c in described_in(root, place, packages_at)), key=lambda c: c.name)


def described_in(
    root: AnyPath, part: DescribedFolder, packages_at: PackagesAt | None = None
) -> Iterator[FoundComponent]:
    """What stands in one folder and those made alike. Links that lead out of the site are not followed."""
    if part.format == "distributions":
        there = distributions(packages_at(part.folder)) if packages_at is not None else {}
        for name, found in sorted(there.items()):
            if not part.only or fits(name, part.only):
                facts = {"title": found.summary, "version": found.version, "author": found.author}
                yield FoundComponent(found.name, part.folder, facts, (found.name, name, *found.modules))
        return
    if part.files:
        for place in (part.folder, *part.also):
            yield from _files_in(root, place, part)
        return
    items = [
        (f"{place}/{item.name}", item)
        for place in (part.folder, *part.also)
        if (root / place).is_dir()
        for item in (root / place).iterdir()
    ]
    for path, item in sorted(items, key=lambda i: (i[1].name, i[0])):
        facts_file = facts_file_in(item, part.facts)
        if facts_file is None:
            continue
        facts = facts_of(facts_file, part.format)
        said = {name: facts.get(key, "") for name, key in part.fields.items()}
        name = said.pop("name", "") or item.name
        at = relative_to(facts_file, root)
        yield FoundComponent(name, path, said, tuple(dict.fromkeys((name, item.name))), at)


def _files_in(root: AnyPath, place: str, part: DescribedFolder) -> Iterator[FoundComponent]:
    """The things of a folder each of which is a file, with the file beside it that describes it."""
    if not (root / place).is_dir():
        return
    for file in sorted((f for f in (root / place).glob(part.files) if f.is_file()), key=lambda f: f.name):
        stem = file.name.partition(".")[0]
        beside = root / place / part.facts.replace("{name}", stem) if part.facts else file
        facts = facts_of(beside, part.format)
        said = {name: facts.get(key, "") for name, key in part.fields.items()}
        name = said.pop("name", "") or stem
        own = dict.fromkeys(f"{place}/{f.name}" for f in (file, beside) if f.is_file())
        yield FoundComponent(
            name, place, said, tuple(dict.fromkeys((name, stem, file.name))), f"{place}/{beside.name}", tuple(own)
        )


def facts_file_in(item: AnyPath, pattern: str) -> AnyPath | None:
    """The file in the folder ``item`` that describes it; of several that a pattern fits, the first with a header."""
    wanted = pattern.replace("{name}", item.name)
    if not item.is_dir():
        return None
    if "*" not in wanted:
        file = item / wanted
        return file if file.is_file() else None
    files = sorted((f for f in item.glob(wanted) if f.is_file()), key=str)
    return next((f for f in files if facts_of(f, "header")), None)


# -- Python distributions -------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Distribution:
    """An installed Python distribution and the modules that it brings."""

    name: str
    version: str
    summary: str = ""
    author: str = ""
    requires: tuple[str, ...] = ()
    requires_python: str = ""
    modules: tuple[str, ...] = field(default=())


_SEEN: dict[tuple[str, str], dict[str, Distribution]] = {}
_MOST_SEEN = 16


def installed_in(folder: ReadPath) -> Iterator[importlib.metadata.Distribution]:
    """What is installed in a folder of packages, by the records that stand in it
    (https://packaging.python.org/en/latest/specifications/recording-installed-packages/); no code of it is run."""
    for pattern in ("*.dist-info", "*.egg-info"):
        for record in folder.glob(pattern):
            yield importlib.metadata.PathDistribution(cast("Path", record))  # what it reads of a path, this one offers


def _read(folder: ReadPath) -> dict[str, Distribution]:
    found: dict[str, Distribution] = {}
    for item in installed_in(folder):
        try:
            facts = item.metadata.json
            name = str(facts["name"])
            files = item.files or []
        except (KeyError, OSError, ValueError, UnicodeDecodeError):
            continue
        modules = sorted({
            f.parts[0].removesuffix(".py") for f in files
            if f.parts and f.suffix == ".py" and not f.parts[0].endswith((".dist-info", ".data")) and f.parts[0] != ".."
        })  # fmt: skip
        author = facts.get("author") or facts.get("author_email") or facts.get("maintainer") or ""
        found[normal_name(name)] = Distribution(
            name, str(item.version), str(facts.get("summary") or ""), str(author), tuple(item.requires or ()),
            str(facts.get("requires_python") or ""), tuple(modules),
        )  # fmt: skip
    return found


def distributions(folder: ReadPath) -> dict[str, Distribution]:
    """The distributions installed in ``folder`` by their normal names
    (https://packaging.python.org/en/latest/specifications/name-normalization/); their code is not run. A folder that
    has not been touched is not read again."""
    try:
        facts = folder.files.look(folder.path, through_links=True)
    except OSError:
        return {}
    if facts is None or facts.kind != "folder":
        return {}
    key = (str(folder), f"{facts.stamp} {facts.mtime_ns}")
    if key not in _SEEN:
        while len(_SEEN) >= _MOST_SEEN:
            _SEEN.pop(next(iter(_SEEN)))
        _SEEN[key] = _read(folder)
    return _SEEN[key]


def normal_name(name: str) -> str:
    """A distribution's name as it is compared."""
    return re.sub(r"[-_.]+", "-", name).lower()


# -- cells and settings that say what is on -------------------------------------------------------------------


_YES = ("1", "true", "t", "yes", "y", "on", "enabled", "active", "installed", "published")
_NO = ("0", "false", "f", "no", "n", "off", "disabled", "inactive", "uninstalled", "")


def is_true(value: object) -> bool:
    """Whether a cell says yes."""
    return value.strip().lower() in _YES if isinstance(value, str) else bool(value)


def says_yes_or_no(text: str) -> bool:
    """Whether a text is one of the words for on and off."""
    return text.strip().lower() in (*_YES, *_NO)


def words_of_cell(cell: object) -> set[str]:
    """Every text in a cell that holds a list: JSON, a serialised value, or words between commas or blanks. Of paths
    also their folders (``shop/shop.php``: ``shop``)."""
    text = cell.decode("utf-8", "replace") if isinstance(cell, bytes) else str(cell if cell is not None else "")
    found: set[str] = set()
    try:
        _texts_of_node(serialised.parse(text), found)
    except serialised.NotSerialised:
        try:
            _texts_of_json(json.loads(text), found)
        except (ValueError, RecursionError):
            found = set(re.split(r"[\s,;|]+", text)) - {""}
    for word in list(found):
        if "/" in word:
            found |= {word.partition("/")[0], PurePosixPath(word).stem}
    return found


def _texts_of_node(node: serialised.Node, found: set[str]) -> None:
    if isinstance(node, bytes):
        found.add(node.decode("utf-8", "replace"))
    elif isinstance(node, serialised.Array):
        for key, value in node.pairs:
            _texts_of_node(key, found)
            _texts_of_node(value, found)


def _texts_of_json(value: object, found: set[str]) -> None:
    if isinstance(value, str):
        found.add(value)
    elif isinstance(value, dict):
        for key, inner in value.items():
            if inner not in (False, 0, None):
                found.add(str(key))
            _texts_of_json(inner, found)
    elif isinstance(value, list):
        for inner in value:
            _texts_of_json(inner, found)


def pins_of(packages: ReadPath) -> dict[str, str]:
    """The distributions installed in a folder with their versions, by normal name."""
    return {name: found.version for name, found in sorted(distributions(packages).items())}
