"""The files by which a site's next deployment installs its distributions: lists of requirements, and pyproject.toml.

Written from https://packaging.python.org/en/latest/specifications/dependency-specifiers/, from pip's description of
its requirements file format, and from the specifications of `[project]` and of dependency groups."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from fnmatch import fnmatch

import tomlkit
from packaging.requirements import InvalidRequirement, Requirement
from tomlkit.exceptions import TOMLKitError
from tomlkit.items import Array

from keenharbor.base.errors import KeenHarborError
from keenharbor.site.components import normal_name

_LISTS = ("*requirements*.txt", "*requirements*.in", "*constraints*.txt", "requirements/*.txt", "requirements/*.in")
_LOCKS = ("*.lock", "pylock*.toml", "pipfile")
_PROJECT = "pyproject.toml"
_LINE = re.compile(r"(?P<lead>[ \t]*)(?P<wish>[^#\r\n]*?)(?P<tail>[ \t]*(?:(?<=[ \t])#[^\r\n]*)?\r?\n?)", re.ASCII)
_WISH = re.compile(r"(?P<name>[A-Za-z0-9][\w.-]*\s*(?:\[[^\]]*\])?)(?P<gap>\s*)\(?[^;@()]*\)?(?P<marker>\s*(?:;.*)?)")


@dataclass(frozen=True)
class PinFiles:
    """Paths below the site's folder: ``ours`` can be changed here, ``locks`` are made by a tool of their own."""

    ours: tuple[str, ...]
    locks: tuple[str, ...]


def pin_files(paths: Iterable[str]) -> PinFiles:
    """Which of a site's files say what is to be installed: those in its folder, and those in a folder
    ``requirements``."""
    near = [p for p in paths if p.count("/") == 0 or (p.count("/") == 1 and p.startswith("requirements/"))]
    locks = [p for p in near if any(fnmatch(p.lower(), k) for k in _LOCKS)]
    ours = [p for p in near if p not in locks and (p == _PROJECT or any(fnmatch(p.lower(), k) for k in _LISTS))]
    return PinFiles(tuple(sorted(ours)), tuple(sorted(locks)))


@dataclass
class Pinning:
    """Brings wishes in line with what is installed: ``installed`` versions by normal name; ``removed`` names go.
    ``environment`` is that of markers (`python_version`), ``told`` what was changed, ``named`` all names met."""

    installed: Mapping[str, str]
    removed: Collection[str] = ()
    environment: Mapping[str, str] = field(default_factory=dict)
    told: list[str] = field(default_factory=list)
    named: set[str] = field(default_factory=set)

    def wish(self, text: str) -> str | None:
        """A wish as it is to stand; None where it is to go. What cannot be read, or asks for an address, stays."""
        try:
            asked = Requirement(text)
        except InvalidRequirement:
            return text
        name = normal_name(asked.name)
        self.named.add(name)
        if name in self.removed:
            self.told.append(f"{asked.name}: taken out")
            return None
        there = self.installed.get(name)
        if there is None or asked.url or not self._holds_here(asked) or not asked.specifier:
            return text
        if asked.specifier.contains(there, prereleases=True):
            return text
        parts = _WISH.fullmatch(text)
        if parts is None:
            return text
        self.told.append(f"{asked.name}: {asked.specifier} → =={there}")
        return f"{parts['name']}{parts['gap']}=={there}{parts['marker']}"

    def added(self, names: Collection[str]) -> list[str]:
        """Wishes for those of ``names`` that are installed and that no file has had yet."""
        found = {n: self.installed[normal_name(n)] for n in names
            if normal_name(n) not in self.named and normal_name(n) in self.installed}  # fmt: skip
        self.told += [f"{n}: new, =={v}" for n, v in found.items()]
        return [f"{n}=={v}" for n, v in found.items()]

    def _holds_here(self, asked: Requirement) -> bool:
        return asked.marker is None or asked.marker.evaluate({"extra": ""} | dict(self.environment))


def with_pins(path: str, text: str, pinning: Pinning, adds: Collection[str] = ()) -> str:
    """A file with its wishes in line with what is installed; all else of it stays, to the byte. ``adds`` are names that
    it gets where it does not have them. Raises `KeenHarborError` where the file cannot be changed so."""
    change = _in_project if path.rpartition("/")[2] == _PROJECT else _in_list
    return change(path, text, pinning, adds)


def _in_list(path: str, text: str, pinning: Pinning, adds: Collection[str]) -> str:
    if re.search(r"(?m)^[^#]*--hash[= ]", text):
        raise KeenHarborError(
            f"the wishes in {path} have hashes, which only the tool that made the file can renew",
            advice="take it out of 'files', and let a step of the kind 'command' run that tool",
        )
    made = "".join(_lines(text, pinning.wish))
    end = "\r\n" if "\r\n" in text else "\n"
    for wish in pinning.added(adds):
        made += ("" if not made or made.endswith("\n") else end) + wish + end
    return made


def _lines(text: str, wish: Callable[[str], str | None]) -> Iterator[str]:
    for line in text.splitlines(keepends=True):
        parts = _LINE.fullmatch(line)
        if parts is None or not parts["wish"] or parts["wish"].startswith("-") or parts["wish"].endswith("\\"):
            yield line
            continue
        changed = wish(parts["wish"])
        if changed is not None:
            yield f"{parts['lead']}{changed}{parts['tail']}"


def _in_project(path: str, text: str, pinning: Pinning, adds: Collection[str]) -> str:
    try:
        document = tomlkit.parse(text)
    except TOMLKitError as error:
        raise KeenHarborError(f"{path} is no TOML: {error}", advice="correct it, or take it out of 'files'") from None
    project = document.get("project", {})
    lists = [project.get("dependencies"), *project.get("optional-dependencies", {}).values()]
    lists += document.get("dependency-groups", {}).values()
    for wishes in lists:
        if isinstance(wishes, Array):
            for at in range(len(wishes) - 1, -1, -1):
                _at(wishes, at, pinning)
    own = project.get("dependencies")
    if isinstance(own, Array):
        for wish in pinning.added(adds):
            own.append(wish)
    return tomlkit.dumps(document)


def _at(wishes: Array, at: int, pinning: Pinning) -> None:
    asked = wishes[at]
    if isinstance(asked, str):
        changed = pinning.wish(str(asked))
        if changed is None:
            del wishes[at]
        elif changed != asked:
            wishes[at] = changed
