"""Trees as they are told over a line: a folder whose entries are known there and here is told by a digest alone. Runs
on both sides."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from keenharbor.host.entries import Entry

DIGEST_LENGTH = 12


def parent_of(path: str) -> str:
    """The folder in which a path stands; empty for the top."""
    return path.rpartition("/")[0]


def folders_in(found: Iterable[Sequence[Entry]]) -> Iterator[tuple[str, list[Entry]]]:
    """Each folder with what is directly in it, once all of it is known. ``found`` is in walking order; so is what is in
    a folder, but a folder comes behind those within it."""
    open_folders: list[tuple[str, list[Entry]]] = []
    for entries in found:
        for entry in entries:
            folder = parent_of(entry.path)
            while open_folders and not _within(folder, open_folders[-1][0]):
                yield open_folders.pop()
            if not open_folders or open_folders[-1][0] != folder:
                open_folders.append((folder, []))
            open_folders[-1][1].append(entry)
    while open_folders:
        yield open_folders.pop()


def _within(folder: str, above: str) -> bool:
    return not above or folder == above or folder.startswith(above + "/")


def plain_entry(entry: Entry) -> list[Any]:
    """What a walk tells of an entry, by its name within its folder; its area is found by rules that both know."""
    return [
        entry.path.rpartition("/")[2], entry.kind, entry.mode, entry.mtime_ns, entry.size, entry.target, entry.stamp,
        entry.uid, entry.gid, entry.same_as, entry.sparse,
    ]  # fmt: skip


def folder_digest(folder: str, entries: Iterable[Entry]) -> bytes:
    """What tells a folder with these entries from any other."""
    text = json.dumps([folder, [plain_entry(e) for e in entries]], separators=(",", ":"))
    return hashlib.sha256(text.encode("ascii")).digest()[:DIGEST_LENGTH]


def walk_order(entries: dict[str, Entry]) -> dict[str, Entry]:
    """Entries in the order of a walk: what is in a folder follows it."""
    return {path: entries[path] for path in sorted(entries, key=lambda p: p.split("/"))}
