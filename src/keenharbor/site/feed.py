"""Feeds of releases and the packages that they list.

A feed is a JSON file; its JSON Schema is ``docs/feed.schema.json``, made from the models here. A package is a tar
archive (gzip) whose first member `PACKAGE_FACTS` repeats the release's facts and lists each file with its SHA-256.
"""

from __future__ import annotations

import copy
import datetime
import hashlib
import json
import tarfile
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Annotated, Literal

from blake3 import blake3
from packaging.specifiers import InvalidSpecifier, SpecifierSet
from packaging.version import InvalidVersion, Version
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from keenharbor.base.durable import private_folder, write_json
from keenharbor.base.errors import DamagedError, KeenHarborError, UsageError

FEED_FORMAT = 1
PACKAGE_FACTS = "PACKAGE.json"
LARGEST_PACKAGE = 2 * 1024**3
_KEPT_IN_MEMORY = 64 * 1024**2


class Requires(BaseModel):
    """What a release asks for, as version ranges such as ``>=3.0,<4.0``; empty: anything."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    core: str = ""
    runtime: str = ""
    packages: dict[str, str] = Field(default={}, description="ranges of other packages, by name")
    modules: list[str] = Field(default=[], description="the runtime's modules that it cannot do without")
    limits: dict[str, str] = Field(
        default={}, description="what the runtime must allow at least, such as memory_limit 256M; its own names"
    )
    database: dict[str, str] = Field(
        default={}, description="the engines that it runs on (sqlite, mariadb, postgres) with their ranges; empty: any"
    )


class Release(BaseModel):
    """One release of a core, an extension or a theme."""

    model_config = ConfigDict(extra="ignore", frozen=True)
    name: Annotated[str, Field(pattern=r"^[A-Za-z0-9][\w.-]*$")]
    kind: Literal["core", "extension", "theme"]
    version: str
    title: str = ""
    author: str = ""
    archive: str = Field(description="the package's file, relative to the feed")
    sha256: Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]
    size: int = 0
    requires: Requires = Requires()
    tested_up_to: str = ""
    replaced_by: str = Field(default="", description="the extension that takes this one's place, when it is given up")
    notes: str = ""
    retries: Annotated[int, Field(ge=0, le=20)] = Field(
        default=0, description="how often its migration may have to be run again, by its notes"
    )
    released: datetime.date | None = Field(default=None, description="the day on which it came out")
    channel: Annotated[str, Field(pattern=r"^[a-z][a-z0-9-]*$")] = Field(
        default="stable", description="stable, or another series of releases, such as beta"
    )
    upgrades_from: str = Field(
        default="", description="the versions from which one may go to this one directly; empty: any"
    )

    @property
    def order(self) -> Version:
        return version_order(self.version)


class FeedModel(BaseModel):
    """The whole feed."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    format: Literal[1]
    title: str = ""
    releases: list[Release]


def version_order(text: str) -> Version:
    """A version for comparing. Raises `UsageError` when it is none."""
    try:
        return Version(text)
    except InvalidVersion:
        raise UsageError(f"'{text}' is not a version number") from None


def is_version(text: str) -> bool:
    """Whether a text is a version that can be compared."""
    try:
        Version(text)
    except InvalidVersion:
        return False
    return True


def allows(requirement: str, version: str) -> bool:
    """Whether a range such as ``>=3.0,<4.0`` takes in ``version``. A bare version is what is wanted at least: so
    extensions say it."""
    try:
        if is_version(requirement.strip()):
            requirement = f">={requirement.strip()}"
        return SpecifierSet(requirement).contains(version_order(version), prereleases=True)
    except InvalidSpecifier:
        raise UsageError(f"'{requirement}' is not a range of versions") from None


class Feed:
    """The releases that are available."""

    def __init__(self, folder: Path, model: FeedModel) -> None:
        self.folder = folder
        self.cache: Path | None = None
        self._packages: dict[str, Package] = {}
        self.releases = sorted(model.releases, key=lambda r: (r.name, r.order))

    has_packages = True
    """Whether it gives packages whose files can be compared with what is installed."""

    def within(self, channels: Collection[str]) -> Feed:
        """The feed with the releases of these channels alone."""
        found = copy.copy(self)
        found.releases = [r for r in self.releases if r.channel in channels]
        return found

    def key(self, name: str) -> str:
        """A package's name as the feed has it."""
        return name

    def of(self, name: str) -> list[Release]:
        """All releases of a package, oldest first."""
        return [r for r in self.releases if r.name == name]

    def versions_of(self, name: str, *, also_older: bool = False) -> list[str]:
        """The versions of a package that may be gone to; ``also_older`` those below the installed one, too, where they
        are left out otherwise."""
        return [r.version for r in self.of(name)]

    def find(self, name: str, version: str) -> Release | None:
        return next((r for r in self.of(name) if r.order == version_order(version)), None)

    def newest_like(self, name: str, version: str) -> str:
        """The version itself where there is such a release; else the newest that begins with it: 5.1.9 for 5.1."""
        if self.find(name, version) is not None:
            return version
        like = [v for v in self.versions_of(name) if v.startswith(f"{version}.") and not version_order(v).is_prerelease]
        return max(like, key=version_order, default=version)

    def need(self, name: str, version: str) -> Release:
        """The release, or a `UsageError` that lists those there are."""
        found = self.find(name, version)
        if found is None:
            there = ", ".join(r.version for r in self.of(name)) or "none"
            raise UsageError(f"the feed has no {name} {version} (it has: {there})", where=self.folder)
        return found

    def newest_for(self, name: str, core: str, runtime: str) -> Release | None:
        """The newest release that runs on that core and runtime."""
        fit = [r for r in self.of(name) if allows(r.requires.core, core) and allows(r.requires.runtime, runtime)]
        return fit[-1] if fit else None

    def package(self, release: Release) -> Package:
        """The release's package, read and checked."""
        kept = self._packages.get(release.sha256)
        if kept is None:
            kept = read_package(self.folder / release.archive, release.sha256)
            if sum(map(len, kept.files.values())) <= _KEPT_IN_MEMORY:
                self._packages[release.sha256] = kept
        return kept

    def sums(self, release: Release) -> Mapping[str, str]:
        """The BLAKE3 of each file of a release's package, by path. They are kept beside the cache of the feed, so that
        a package is read once; a package that is not there any more cannot be asked for its files, but still for
        these."""
        file = self.cache / f"{release.sha256}.sums.json" if self.cache is not None else None
        if file is not None:
            try:
                return {str(k): str(v) for k, v in json.loads(file.read_bytes()).items()}
            except (OSError, ValueError, AttributeError):
                pass
        found = {path: blake3(content).hexdigest() for path, content in self.package(release).files.items()}
        if file is not None:
            private_folder(file.parent)
            write_json(file, found)
        return found


class NoFeed(Feed):
    """Stands where the site file names no feed: nothing is known of any release, so what is asked for counts as there
    is, and asks for nothing."""

    def __init__(self, site_file: Path) -> None:
        super().__init__(site_file.parent, FeedModel(format=1, releases=[]))
        self._site_file = site_file

    def need(self, name: str, version: str) -> Release:
        version_order(version)
        return Release(name=name, kind="core", version=version, archive="", sha256="0" * 64)

    def package(self, release: Release) -> Package:
        raise UsageError(
            "no feed of releases is named, from which packages could be taken", where=self._site_file,
            advice="add [feed] with its path, or let the step be of the kind 'release'",
        )  # fmt: skip


def read_feed(file: Path) -> Feed:
    """The feed in ``file``. Raises `UsageError` when it is missing or wrong."""
    try:
        model = FeedModel.model_validate_json(file.read_bytes())
    except FileNotFoundError:
        raise UsageError(
            "the feed is not there", where=file, advice="correct 'path' under [feed] in the site file"
        ) from None
    except ValidationError as errors:
        first = errors.errors()[0]
        place = ".".join(str(p) for p in first["loc"])
        raise UsageError(f"the feed is wrong at '{place}': {first['msg']}", where=file) from None
    return Feed(file.parent, model)


@dataclass(frozen=True)
class Package:
    """A package's facts and files, all checked against its sums."""

    name: str
    version: str
    files: dict[str, bytes]


def read_package(archive: Path, sha256: str | None = None) -> Package:
    """Read a package whole and check it: its own sum, each file's, and that no path leads out of it.

    Raises `DamagedError` when anything does not fit; nothing is written.
    """
    advice = "fetch the package again, or correct the feed"
    try:
        raw = archive.read_bytes()
    except OSError as error:
        raise KeenHarborError(f"the package cannot be read: {error.strerror}", where=archive, advice=advice) from error
    if sha256 is not None and hashlib.sha256(raw).hexdigest() != sha256:
        raise DamagedError(
            "the package is damaged: its SHA-256 is not the one in the feed", where=archive, advice=advice
        )
    files: dict[str, bytes] = {}
    try:
        with tarfile.open(archive) as tar:
            total = 0
            for member in tar:
                path = PurePosixPath(member.name)
                if not member.isfile() or path.is_absolute() or ".." in path.parts:
                    raise ValueError(f"'{member.name}' does not belong in a package")
                total += member.size
                if total > LARGEST_PACKAGE:
                    raise ValueError("it unpacks to more than a package may")
                content = tar.extractfile(member)
                files[path.as_posix()] = content.read() if content else b""
        facts = json.loads(files.pop(PACKAGE_FACTS))
        sums = {p: hashlib.sha256(c).hexdigest() for p, c in files.items()}
        if sums != facts["files"]:
            wrong = sorted(p for p in sums.keys() | facts["files"].keys() if sums.get(p) != facts["files"].get(p))
            raise ValueError(f"these files are not what it lists: {', '.join(wrong[:3])}")
        return Package(facts["name"], facts["version"], files)
    except (tarfile.TarError, EOFError, OSError, ValueError, KeyError, TypeError) as error:
        raise DamagedError(f"the package is damaged: {error}", where=archive, advice=advice) from error
