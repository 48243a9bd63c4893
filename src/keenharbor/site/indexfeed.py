"""Releases of Python distributions, from an index that speaks the standard simple repository API in JSON.

The API: PEP 691 (https://peps.python.org/pep-0691/), with versions and sizes by PEP 700; a distribution's own metadata
beside its file by PEP 658/714. A folder can stand for an index: ``NAME.json`` (or ``NAME/index.json``) is then a
project's answer, and other addresses are files relative to it; or the folder just holds wheels, which say themselves
what the answer would (PEP 427). So everything works with no network."""

from __future__ import annotations

import email.parser
import hashlib
import json
import re
import zipfile
import zlib
from collections.abc import Collection, Iterable, Mapping
from pathlib import Path
from typing import Any
from urllib.parse import urljoin, urlsplit

from packaging.markers import UndefinedComparison, UndefinedEnvironmentName
from packaging.requirements import InvalidRequirement, Requirement
from packaging.utils import InvalidSdistFilename, InvalidWheelFilename, parse_sdist_filename, parse_wheel_filename
from packaging.version import Version

from keenharbor.base.durable import private_folder, write_durably
from keenharbor.base.errors import DamagedError, KeenHarborError, UsageError
from keenharbor.site.components import normal_name
from keenharbor.site.feed import Feed, FeedModel, Package, Release, Requires, is_version, version_order

_JSON = "application/vnd.pypi.simple.v1+json"
_SECONDS = 20
_LARGEST_ANSWER = 64 * 1024 * 1024
_LARGEST_METADATA = 4 * 1024 * 1024


class Index:
    """Answers of an index: fetched, kept in ``cache``, and taken from there when the index cannot be reached."""

    def __init__(self, place: str, cache: Path | None = None) -> None:
        self._remote = re.match(r"https?://", place) is not None
        self._base = place.rstrip("/") + "/" if self._remote else place
        self._cache = cache
        self.from_cache: list[str] = []

    def project(self, name: str) -> tuple[dict[str, Any], str] | None:
        """A project's answer and the address that others in it are relative to; None when the index has no such
        project."""
        if not self._remote:
            for file in (Path(self._base) / f"{name}.json", Path(self._base) / name / "index.json"):
                if file.is_file():
                    return self._parsed(file.read_bytes(), str(file)), str(file.parent) + "/"
            wheels = [_of_wheel(w) for w in sorted(Path(self._base).glob("*.whl")) if _name_of(w) == name]
            return ({"files": wheels}, f"{self._base}/") if wheels else None
        address = urljoin(self._base, f"{name}/")
        data = self._fetch(address, {"Accept": _JSON})
        return (self._parsed(data, address), address) if data is not None else None

    def data(self, address: str, base: str, sha256: str | None) -> bytes | None:
        """What stands at an address of an answer, checked against its sum. Raises `DamagedError`."""
        if self._remote:
            found = self._fetch(urljoin(base, address), {})
        else:
            file = Path(base) / address
            if urlsplit(address).scheme or not file.resolve().is_relative_to(Path(self._base).resolve()):
                raise UsageError("a recorded index names a file outside its folder", where=address)
            wheel = file.with_name(file.name.removesuffix(".metadata"))
            found = file.read_bytes() if file.is_file() else _metadata_of(wheel) if wheel.is_file() else None
        if found is not None and sha256 is not None and hashlib.sha256(found).hexdigest() != sha256:
            raise DamagedError(
                "what the index gave is not what it said it would be", where=address, advice="try again later"
            )
        return found

    def _parsed(self, data: bytes, where: str) -> dict[str, Any]:
        try:
            found = json.loads(data)
            if not isinstance(found, dict) or not isinstance(found["files"], list):
                raise ValueError("it lists no files")
        except (ValueError, KeyError, RecursionError) as error:
            raise UsageError(f"the index's answer cannot be read: {error}", where=where) from None
        return found

    def _fetch(self, address: str, headers: Mapping[str, str]) -> bytes | None:
        kept = self._cache / hashlib.sha256(address.encode()).hexdigest() if self._cache is not None else None
        if kept is not None and kept.is_file() and not headers:
            return kept.read_bytes()  # what a release says of itself never changes
        import httpx

        try:
            answer = httpx.get(address, headers=headers, timeout=_SECONDS, follow_redirects=True)
            if answer.status_code == 404:
                return None
            answer.raise_for_status()
        except httpx.HTTPError as error:
            if kept is not None and kept.is_file():
                self.from_cache.append(address)
                return kept.read_bytes()
            raise KeenHarborError(
                f"the index cannot be reached: {error}",
                where=address,
                advice="try again, or name a recorded copy under [feed]",
            ) from None
        if len(answer.content) > _LARGEST_ANSWER:
            raise UsageError("the index's answer is too large", where=address)
        if kept is not None:
            private_folder(kept.parent)
            write_durably(kept, answer.content)
        return answer.content


def _name_of(wheel: Path) -> str:
    try:
        return str(parse_wheel_filename(wheel.name)[0])
    except InvalidWheelFilename:
        return ""


def _of_wheel(wheel: Path) -> dict[str, Any]:
    """What an index would answer for a wheel in a folder."""
    told = email.parser.BytesParser().parsebytes(_metadata_of(wheel) or b"")
    return {
        "filename": wheel.name, "url": wheel.name, "size": wheel.stat().st_size, "core-metadata": True,
        "requires-python": told["Requires-Python"] or "",
    }  # fmt: skip


def _metadata_of(wheel: Path) -> bytes | None:
    """A wheel's own metadata; None where it has none that can be read."""
    try:
        with zipfile.ZipFile(wheel) as archive:
            inside = next((n for n in archive.namelist() if re.fullmatch(r"[^/]+\.dist-info/METADATA", n)), None)
            if inside is None or archive.getinfo(inside).file_size > _LARGEST_METADATA:
                return None
            return archive.read(inside)
    except (OSError, zipfile.BadZipFile, zlib.error):
        return None


class IndexFeed(Feed):
    """A feed whose releases are those of an index, asked for when they are needed. Of each minor version only the
    newest release is offered (and any that is named), from the installed one on; not those that were taken back, nor
    trial versions."""

    def __init__(self, index: Index, core: str, python: str, installed: Mapping[str, str], folder: Path) -> None:
        super().__init__(folder, FeedModel(format=1, releases=[]))
        self._index, self._core, self._python = index, normal_name(core), python
        self._installed = {normal_name(n): v for n, v in installed.items()}
        self._projects: dict[str, tuple[dict[Version, dict[str, Any]], str]] = {}
        self._made: dict[tuple[str, Version], Release | None] = {}

    has_packages = False

    def within(self, channels: Collection[str]) -> Feed:
        return self  # an index knows no channels; trial versions are left out

    def key(self, name: str) -> str:
        return normal_name(name)

    def package(self, release: Release) -> Package:
        raise UsageError(
            f"{release.name} {release.version} is a distribution: its runtime's own installer puts it in place",
            where=self.folder,
            advice="a step of the kind 'command' can run the installer",
        )  # fmt: skip

    def of(self, name: str) -> list[Release]:
        found = [self._release(name, version_order(v)) for v in self.versions_of(name)]
        return [r for r in found if r is not None]

    def versions_of(self, name: str, *, also_older: bool = False) -> list[str]:
        key = normal_name(name)
        versions = self._versions(key)
        there = self._installed.get(key)
        oldest = version_order(there) if there is not None and is_version(there) else None
        newest: dict[tuple[int, int], Version] = {}
        for version in versions:
            if version.is_prerelease or (oldest is not None and version < oldest and not also_older):
                continue
            minor = (version.major, version.minor)
            newest[minor] = max(version, newest.get(minor, version))
        if oldest is not None and oldest in versions:
            newest[(-1, -1)] = oldest
        return [str(v) for v in sorted(set(newest.values()))]

    def find(self, name: str, version: str) -> Release | None:
        wanted = version_order(version)
        return self._release(name, wanted) if wanted in self._versions(normal_name(name)) else None

    def _versions(self, name: str) -> dict[Version, dict[str, Any]]:
        if name not in self._projects:
            found = self._index.project(name)
            self._projects[name] = (_by_version(found[0]["files"]), found[1]) if found is not None else ({}, "")
        return self._projects[name][0]

    def _release(self, name: str, version: Version) -> Release | None:
        key = (normal_name(name), version)
        if key not in self._made:
            self._made[key] = self._read(name, version)
        return self._made[key]

    def _read(self, name: str, version: Version) -> Release | None:
        file = self._versions(normal_name(name))[version]
        base = self._projects[normal_name(name)][1]
        told = file.get("core-metadata", file.get("data-dist-info-metadata", file.get("dist-info-metadata")))
        packages: dict[str, str] = {}
        if told:
            sums = told if isinstance(told, dict) else {}
            text = self._index.data(f"{file['url']}.metadata", base, sums.get("sha256"))
            if text is not None:
                packages = required(
                    email.parser.BytesParser().parsebytes(text).get_all("Requires-Dist") or [], self._python
                )
        kind = "core" if normal_name(name) == self._core else "extension"
        return Release(
            name=name, kind=kind, version=str(version), archive=str(file["url"]),  # type: ignore[arg-type]
            sha256=str(file.get("hashes", {}).get("sha256", "0" * 64)), size=int(file.get("size") or 0),
            requires=Requires(
                core=packages.pop(self._core, ""), runtime=str(file.get("requires-python") or ""), packages=packages
            ),
        )  # fmt: skip


def _by_version(files: Iterable[Any]) -> dict[Version, dict[str, Any]]:
    """The file that speaks for each version: a wheel where there is one."""
    found: dict[Version, dict[str, Any]] = {}
    for file in files:
        try:
            name = str(file["filename"])
            if file.get("yanked"):
                continue
            wheel = name.endswith(".whl")
            version = parse_wheel_filename(name)[1] if wheel else parse_sdist_filename(name)[1]
        except (InvalidWheelFilename, InvalidSdistFilename, KeyError, TypeError, AttributeError):
            continue
        if wheel or version not in found:
            found[version] = file
    return found


def required(lines: Iterable[str], python: str) -> dict[str, str]:
    """The ranges that ``Requires-Dist`` lines ask for on that version of Python, without extras, by normal name."""
    short = ".".join(python.split(".")[:2])
    environment = {
        "python_version": short,
        "python_full_version": python if python.count(".") > 1 else f"{python}.0",
        "extra": "",
    }
    found: dict[str, str] = {}
    for line in lines:
        try:
            asked = Requirement(line)
            if asked.marker is not None and not asked.marker.evaluate(environment):
                continue
        except (InvalidRequirement, UndefinedComparison, UndefinedEnvironmentName):
            continue
        name = normal_name(asked.name)
        found[name] = ",".join(s for s in (found.get(name, ""), str(asked.specifier)) if s)
    return found
