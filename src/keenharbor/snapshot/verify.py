"""Reading a whole store again: every object, every document, and what each snapshot needs."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass, field
from pathlib import Path

from keenharbor.base.errors import DamagedError
from keenharbor.base.progress import Progress
from keenharbor.snapshot.manifest import read_snapshot
from keenharbor.store import Damage, ObjectId, Store


@dataclass
class Verification:
    """What was read, what is damaged, and which paths of which snapshots are hurt by it."""

    objects: int = 0
    snapshots: int = 0
    damages: list[str] = field(default_factory=list)
    mended: int = 0
    hurt: dict[str, list[str]] = field(default_factory=dict)

    @property
    def good(self) -> bool:
        return not self.damages and not self.hurt

    def as_json(self) -> dict[str, object]:
        return {"good": self.good, "objects": self.objects, "snapshots": self.snapshots,
                "damages": self.damages, "hurt": self.hurt, "mended": self.mended}  # fmt: skip


def verify_store(store: Store, progress: Progress, other: Store | None = None) -> Verification:
    """Read and check everything in ``store``. What is damaged or missing is taken from ``other`` where that has it
    sound; then what is told is what is left."""
    result, sound, packs = _verify(store, progress)
    mended = 0
    for _ in range(2):  # what a list names can only be asked for when the list is whole
        if other is None or result.good:
            break
        progress.stage("mending from the other store")
        mended += _mend(store, other, sound, packs)
        result, sound, packs = _verify(store, progress)
    result.mended = mended
    return result


def _mend(store: Store, other: Store, sound: set[ObjectId], damaged_packs: set[Path]) -> int:
    """Take documents and objects from ``other``; damaged packs are written anew without what is damaged."""
    mended = 0
    with store.in_use():
        for kind in ("snapshots", "records"):
            for name in {*store.document_names(kind), *(other.document_names(kind) if kind == "records" else ())}:
                try:
                    store.read_document(kind, name)
                except DamagedError:
                    with contextlib.suppress(DamagedError):
                        theirs = other.read_document(kind, name)
                        if theirs is not None:
                            store.write_document(kind, name, theirs)
                            mended += 1
        theirs_all = other.documents()
        for (kind, name), sums in store.history.missing(store.documents()).items() if store.keeps_history else ():
            # Only what is known to have been here: a manifest by that name may be another one there.
            if theirs_all.get((kind, name)) in sums:
                with contextlib.suppress(DamagedError):
                    store.write_document(kind, name, other.read_document(kind, name))
                    mended += 1
        wanted: set[ObjectId] = set()
        for name in store.document_names("snapshots"):
            with contextlib.suppress(DamagedError):
                for _, identity in read_snapshot(store, name).objects():
                    wanted.add(identity)  # as far as it can be known
        # What others are stored near to is wanted as well.
        wanted |= {near for o in wanted if (near := store.needs(o)) is not None}
        with store.writing() as writer:
            for identity in sorted(wanted - sound):
                with contextlib.suppress(DamagedError):
                    if other.has(identity):
                        writer.add_again(identity, other.read(identity))
                        mended += 1
            fresh = set(writer.own)
        store.drop_damaged(damaged_packs, sound - fresh)
    return mended


def _verify(store: Store, progress: Progress) -> tuple[Verification, set[ObjectId], set[Path]]:
    result = Verification()
    sound: set[ObjectId] = set()
    packs: set[Path] = set()
    if not store.read_me_is_right():
        result.damages.append("READ ME.txt: it was not what the tool writes, and was written anew")
    progress.stage("reading every object")
    sizes = {file: file.stat().st_size for file in store.pack_files()}
    whole, begun = sum(sizes.values()), dict[Path, int]()
    for file, item in store.check():
        if file in sizes and file not in begun:  # those before it are read
            progress.advance(sum(begun.values()), whole, "byte")
            begun[file] = sizes[file]
        if isinstance(item, Damage):
            if file.suffix == ".pack":
                packs.add(file)
            result.damages.append(f"{file.name} at byte {item.offset}: {item.what}")
        else:
            sound.add(item)
            result.objects += 1
    progress.stage("checking what each snapshot needs")
    if store.keeps_history:
        result.damages += store.history.check(store.documents())
        gone = sorted(n for kind, n in store.history.missing(store.documents()) if kind == "snapshots")
        result.hurt |= {name: ["(its manifest is not there: nothing of it can be restored)"] for name in gone}
    for kind in ("snapshots", "records", "dependents"):
        for name in store.document_names(kind):
            try:
                store.read_document(kind, name)
            except DamagedError as error:
                result.damages.append(f"{kind}/{name}.json: {error.what}")
                if kind == "snapshots":
                    result.hurt[name] = ["(its manifest: nothing of it can be restored)"]
    for name in store.document_names("snapshots"):
        if name in result.hurt:
            continue
        result.snapshots += 1
        missing: list[str] = []
        try:
            for place, identity in read_snapshot(store, name).objects():
                if identity not in sound and not store.is_behind(identity):
                    missing.append(place)
        except DamagedError:
            pass  # of a damaged record, or a list, which is told of; the manifest was sound
        if missing:
            result.hurt[name] = sorted(set(missing))
    return result, sound, packs
