"""Reading a whole store again: every object, every document, and what each snapshot needs."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from keenharbor.base.errors import DamagedError
from keenharbor.base.progress import Progress
from keenharbor.snapshot.manifest import read_snapshot
from keenharbor.store import Damage, Store


@dataclass
class Verification:
    """What was read, what is damaged, and which paths of which snapshots are hurt by it."""

    objects: int = 0
    snapshots: int = 0
    damages: list[str] = field(default_factory=list)
    hurt: dict[str, list[str]] = field(default_factory=dict)

    @property
    def good(self) -> bool:
        return not self.damages and not self.hurt

    def as_json(self) -> dict[str, Any]:
        return {"good": self.good, "objects": self.objects, "snapshots": self.snapshots,
                "damages": self.damages, "hurt": self.hurt}  # fmt: skip


def verify_store(store: Store, progress: Progress) -> Verification:
    """Read and check everything in ``store``."""
    result = Verification()
    sound: set[str] = set()
    progress.stage("reading every object")
    for file, item in store.check():
        if isinstance(item, Damage):
            result.damages.append(f"{file.name} at byte {item.offset}: {item.what}")
        else:
            sound.add(item)
            result.objects += 1
    progress.stage("checking what each snapshot needs")
    for kind in ("snapshots", "records"):
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
        try:
            missing = [place for place, identity in read_snapshot(store, name).objects() if identity not in sound]
        except DamagedError:
            continue  # a damaged record is told of above; the manifest was sound
        if missing:
            result.hurt[name] = sorted(set(missing))
    return result
