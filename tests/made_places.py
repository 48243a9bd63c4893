"""Snapshots made by hand, for places: no site is scanned for them."""

from __future__ import annotations

import random
from dataclasses import replace
from datetime import UTC, datetime, timedelta

from conftest import manifest_of
from keenharbor.base.text import stamp
from keenharbor.snapshot.lists import put_tree
from keenharbor.snapshot.model import Manifest
from keenharbor.store import ObjectWriter, Store
from keenharbor.tree import Entry

PIECE = 256 * 1024
FIRST = datetime(2026, 1, 1, 3, 10, tzinfo=UTC)


def made_snapshot(store: Store, site: str, number: int, chance: random.Random, size: int) -> int:
    """Take in a snapshot with one file of so many bytes that cannot be compressed, a day after the one before; the
    bytes of the file."""
    with store.writing(1, forks=False) as writer:
        manifest = taken_in(writer, site, number, chance.randbytes(size))
    store.write_document("snapshots", manifest.id, manifest.as_json())
    return size


def made_snapshots(store: Store, site: str, count: int, chance: random.Random, size: int) -> None:
    """Take in many, each with a pack of its own."""
    made = []
    with store.writing(1, forks=False) as writer:
        for number in range(count):
            made.append(taken_in(writer, site, number, chance.randbytes(size)))
            writer.flush()
    for manifest in made:
        store.write_document("snapshots", manifest.id, manifest.as_json())


def taken_in(writer: ObjectWriter, site: str, number: int, content: bytes) -> Manifest:
    """Store a file and the list of paths; what a manifest says of them."""
    identity = f"{FIRST + timedelta(days=number):%Y%m%d-%H%M%S}-{number:04x}"
    objects: list[str] = []
    for at in range(0, len(content), PIECE):
        writer.put([content[at : at + PIECE]], [None], objects.extend)
    writer.finish()
    entry = Entry(f"media/{number}.bin", "file", 0o644, 0, len(content), "media", None, tuple(objects))
    tree = put_tree([entry], writer, None)
    at_time = stamp(FIRST + timedelta(days=number))
    return replace(manifest_of(tree, identity=identity, taken_at=at_time), site=site)
