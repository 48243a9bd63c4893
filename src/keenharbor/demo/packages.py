"""Packs the stand-in system's releases into archives and writes the feed that lists them."""

from __future__ import annotations

import configparser
import gzip
import hashlib
import io
import json
import tarfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from keenharbor.site.feed import FEED_FORMAT, PACKAGE_FACTS

TANSY = Path(__file__).parent / "tansy"

NOTES = {
    ("tansy-core", "4.0"): "Needs loam 3. Kinds of pages are compared to the letter. The helpers of Tansy 2 are gone.",
    ("loan-desk", "3.0"): "Loans learn their channel; big tables are brought up to date in batches.",
    ("seed-search", "2.0"): "Options are written anew.",
    ("events-calendar", "2.0"): "The list is put together day by day.",
    ("picture-rail", "1.0"): "Takes over the pictures of Gallery wall.",
}


@dataclass(frozen=True)
class PackedRelease:
    """A release's facts as the feed lists them, and its files by path."""

    facts: dict[str, Any]
    files: dict[str, bytes]


def _files(*folders: Path) -> dict[str, bytes]:
    """The files of a package from its source folders; a later folder wins. Marker files of the source stay out."""
    found: dict[str, bytes] = {}
    for folder in folders:
        for file in sorted(folder.rglob("*")):
            if file.is_file() and "__pycache__" not in file.parts:
                content = file.read_bytes()
                if content or file.name != "__init__.py":
                    found[file.relative_to(folder).as_posix()] = content
    return found


def _releases() -> Iterator[PackedRelease]:
    for version, source, runtime in (("3.4", "core_3_4", ">=2"), ("4.0", "core_4_0", ">=3")):
        files = _files(TANSY / "core_common", TANSY / source)
        facts = {"name": "tansy-core", "kind": "core", "title": "Tansy", "version": version}
        yield PackedRelease(facts | {"requires": {"runtime": runtime}}, files)
    for kind, parent in (("extension", TANSY / "extensions"), ("theme", TANSY / "theme")):
        for folder in sorted(parent.iterdir()):
            if not (folder / f"{kind}.ini").is_file():
                continue
            files = _files(folder)
            parser = configparser.ConfigParser(interpolation=None)
            parser.read_string(files[f"{kind}.ini"].decode())
            said = parser[kind]
            requires = {"core": said["requires_core"], "runtime": said["requires_runtime"]}
            extra: dict[str, Any] = {"kind": kind, "requires": requires}
            if said["name"] == "gallery-wall":
                extra["replaced_by"] = "picture-rail"
            told = {k: said[k] for k in ("name", "title", "version", "author", "tested_up_to")}
            yield PackedRelease(told | extra, files)


def _archive(release: PackedRelease) -> bytes:
    """A gzip-compressed tar archive, the same bytes at each run."""
    facts = release.facts | {"files": {p: hashlib.sha256(c).hexdigest() for p, c in release.files.items()}}
    content = {PACKAGE_FACTS: json.dumps(facts, indent=1).encode(), **release.files}
    plain = io.BytesIO()
    with tarfile.open(fileobj=plain, mode="w", format=tarfile.PAX_FORMAT) as tar:
        for path, data in content.items():
            info = tarfile.TarInfo(path)
            info.size, info.mode, info.mtime = len(data), 0o644, 1_760_000_000
            tar.addfile(info, io.BytesIO(data))
    packed = io.BytesIO()
    with gzip.GzipFile(fileobj=packed, mode="wb", mtime=0, filename="") as out:
        out.write(plain.getvalue())
    return packed.getvalue()


def publish(folder: Path) -> Path:
    """Write every release's archive and ``feed.json`` into ``folder``; returns the feed's path."""
    folder.mkdir(parents=True, exist_ok=True)
    listed = []
    for release in _releases():
        facts = release.facts
        archive = _archive(release)
        name = f"{facts['name']}-{facts['version']}.tar.gz"
        (folder / name).write_bytes(archive)
        entry = facts | {"archive": name, "sha256": hashlib.sha256(archive).hexdigest(), "size": len(archive)}
        note = NOTES.get((facts["name"], facts["version"]))
        listed.append(entry | ({"notes": note} if note else {}))
    feed = folder / "feed.json"
    feed.write_text(json.dumps({"format": FEED_FORMAT, "title": "Tansy releases", "releases": listed}, indent=1))
    return feed


def installed_at_first() -> list[PackedRelease]:
    """The oldest release of everything that the site of the story starts with."""
    first: dict[str, PackedRelease] = {}
    for release in _releases():
        if release.facts["name"] != "picture-rail":
            first.setdefault(release.facts["name"], release)
    return list(first.values())
