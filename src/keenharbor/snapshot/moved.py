"""Rewriting files of a site that stands elsewhere now: a clone, or a site that has moved."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urlsplit

from keenharbor.base.errors import UsageError
from keenharbor.database import DatabasePlace
from keenharbor.database.packed import may_be
from keenharbor.database.rewrite import Rewriter
from keenharbor.host import Files
from keenharbor.snapshot.manifest import Snapshot
from keenharbor.tree import Entry

LARGEST_TEXT_FILE = 64 * 1024 * 1024
DELIVERED = ("core", "extensions", "themes", "logs")
"""Areas whose files the site has not packed itself: what is packed in them names no place of this site."""


@dataclass(frozen=True)
class Moved:
    """Where the site is to be, if not where it was."""

    address: str | None = None
    root: Path | None = None


def address_forms(old: str, new: str) -> dict[str, str]:
    """An address, also as written with the other scheme, and its host alone, with what each becomes."""
    swapped = old.replace("http:", "https:", 1) if old.startswith("http:") else old.replace("https:", "http:", 1)
    return {old: new, swapped: new, urlsplit(old).netloc: urlsplit(new).netloc}


def moved_rewriter(snapshot: Snapshot, moved: Moved, database: DatabasePlace | None) -> Rewriter:
    """What leads from the places that the snapshot knows to the new ones."""
    places: dict[str, str] = {}
    if moved.address is not None:
        if not moved.address.startswith(("http://", "https://")):
            raise UsageError(f"'{moved.address}' is no address", advice="write it as https://www.example.org")
        places |= address_forms(snapshot.manifest.address, moved.address.rstrip("/"))
    if moved.root is not None:
        places[snapshot.manifest.root] = str(moved.root)
    if database is not None:
        places |= dict(zip(snapshot.database_place.marks, database.marks, strict=False))
    return Rewriter(places)


def rewrite_files(files: Files, entries: Iterable[Entry], rewriter: Rewriter) -> tuple[Counter[str], list[str]]:
    """Rewrite text files and links of a tree; how often by path, and the paths in which an old place is left."""
    counts: Counter[str] = Counter()
    opaque: list[str] = []
    for entry in entries:
        path = entry.path
        if entry.kind == "link" and entry.target is not None:
            changed = rewriter.text(entry.target)
            if changed != entry.target:
                files.relink(path, changed)
                counts[path] += 1
            continue
        if entry.kind != "file" or entry.size > LARGEST_TEXT_FILE:
            continue
        with files.open(path) as source:
            data = source.read()
        if not rewriter.touches(data) and (entry.area in DELIVERED or not may_be(data)):
            continue
        new = rewriter.of_bytes(data)
        if new != data:
            files.overwrite(path, new, entry.mtime_ns)
            counts[path] += 1
        if rewriter.left_in(new):
            opaque.append(path)
    return counts, opaque
