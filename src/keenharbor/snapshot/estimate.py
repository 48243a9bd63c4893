"""A look before a snapshot is taken: how much, how long, whether there is room, what will be left out."""

from __future__ import annotations

from dataclasses import dataclass

from keenharbor.base.durable import free_bytes
from keenharbor.base.errors import KeenHarborError
from keenharbor.base.text import size
from keenharbor.site.view import SiteView
from keenharbor.snapshot.manifest import Snapshot
from keenharbor.snapshot.take import (
    GENTLE_BYTES_A_SECOND,
    TakeOptions,
    known_by_same_rules,
    left_empty_tables,
    scan_for,
)
from keenharbor.tree import Scan

_FIRST_BYTES_A_SECOND = 60 * 1024 * 1024
"""What a modest server reads, packs and writes; used until an earlier snapshot tells better."""
_TELLING = 16 * 1024 * 1024
"""An earlier snapshot that read less tells nothing of the rate."""


@dataclass(frozen=True)
class Estimate:
    """Files and their bytes; of these, bytes that must be read; the database's bytes; what may be added to the store at
    most; seconds; free bytes at the store; what is left out; what the database user may not do. ``scan`` is the tree as
    it was seen, for `take_snapshot` to go on with."""

    files: int
    file_bytes: int
    to_read: int
    database_bytes: int
    most_added: int
    seconds: float
    free: int
    left_out: tuple[str, ...]
    too_large: tuple[str, ...]
    unreadable: tuple[str, ...]
    left_empty: tuple[str, ...]
    lacking: tuple[str, ...]
    scan: Scan

    @property
    def enough_room(self) -> bool:
        return self.free > 1.05 * self.most_added

    def as_json(self) -> dict[str, object]:
        return {
            "files": self.files, "file_bytes": self.file_bytes, "to_read_bytes": self.to_read,
            "database_bytes": self.database_bytes, "most_added_bytes": self.most_added,
            "seconds": round(self.seconds, 1),
            "free_bytes": self.free, "enough_room": self.enough_room, "left_out": self.left_out,
            "too_large": self.too_large,
            "unreadable": self.unreadable, "left_empty": self.left_empty, "lacking": self.lacking,
        }  # fmt: skip


def estimate(site: SiteView, options: TakeOptions, earlier: Snapshot | None) -> Estimate:
    """Look at ``site`` without reading any content."""
    known = earlier.entries if earlier is not None else {}
    scan = scan_for(site, options, known_by_same_rules(site, options, earlier))
    count = total = to_read = 0
    for entry in scan.entries.values():
        if entry.kind == "file":
            count += 1
            total += entry.size
            before = known.get(entry.path)
            to_read += entry.size if before is None or not entry.untouched_since(before) else 0
    database = site.database
    database_bytes = database.size()
    with database.reading() as state:
        left_empty = left_empty_tables(site, options, state.schema)
    rate = float(_FIRST_BYTES_A_SECOND)
    if earlier is not None and earlier.manifest.read_bytes > _TELLING:
        rate = earlier.manifest.read_bytes / max(0.05, earlier.manifest.seconds)
    if options.gentle or site.model.snapshot.gentle:
        rate = min(rate, GENTLE_BYTES_A_SECOND)
    place = next(p for p in (site.store_folder, *site.store_folder.parents) if p.exists())
    return Estimate(
        count, total, to_read, database_bytes, to_read + database_bytes,
        (to_read + database_bytes) / rate, free_bytes(place), tuple(sorted(scan.left_out)),
        tuple(sorted(scan.too_large)), tuple(sorted(scan.unreadable)), tuple(left_empty), tuple(database.lacking()),
        scan,
    )  # fmt: skip


def refuse_without_room(found: Estimate, site: SiteView) -> None:
    """Raise `KeenHarborError` when the snapshot might not fit."""
    if not found.enough_room:
        raise KeenHarborError(
            f"too little space for a snapshot: {size(found.free)} free, up to {size(found.most_added)} may be added",
            where=site.store_folder,
            advice="free some space ('keenharbor snapshot thin --preview'), or name another disk under [store] in the "
            "site file",
        )
