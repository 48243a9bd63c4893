"""Snapshots made by hand, for places: no site is scanned for them."""

from __future__ import annotations

import random
from dataclasses import replace
from datetime import UTC, datetime, timedelta

from conftest import manifest_of
from keenharbor.base.text import stamp
from keenharbor.snapshot.lists import put_tree
from keenharbor.store import Store
from keenharbor.tree import Entry

PIECE = 256 * 1024
FIRST = datetime(2026, 1, 1, 3, 10, tzinfo=UTC)


def made_snapshot(store: Store, site: str, number: int, chance: random.Random, size: int, words: bytes = b"") -> int:
    """Take in a snapshot with one file of so many bytes that cannot be compressed (or of ``words``), a day after the
    one before; the bytes of the file."""
    content = words or chance.randbytes(size)
    identity = f"{FIRST + timedelta(days=number):%Y%m%d-%H%M%S}-{number:04x}"
    with store.writing(1, forks=False) as writer:
        objects: list[str] = []
        for at in range(0, len(content), PIECE):
            writer.put([content[at : at + PIECE]], [None], objects.extend)
        writer.finish()
        entry = Entry(f"media/{number}.bin", "file", 0o644, 0, len(content), "media", None, tuple(objects))
        tree = put_tree([entry], writer, None)
    manifest = replace(manifest_of(tree, identity=identity, taken_at=stamp(FIRST + timedelta(days=number))), site=site)
    store.write_document("snapshots", identity, manifest.as_json())
    return len(content)
