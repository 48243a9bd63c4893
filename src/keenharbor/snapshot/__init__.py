"""Snapshots: taking, listing, verifying, restoring, and the record of their proofs."""

from typing import TYPE_CHECKING

from keenharbor.base.lazily import offered

if TYPE_CHECKING:
    from keenharbor.snapshot.manifest import (
        Proof,
        Snapshot,
        change_record,
        find_snapshot,
        list_snapshots,
        record_of,
        record_proof,
        unreadable_snapshots,
    )
    from keenharbor.snapshot.restore import give_back, restore_state
    from keenharbor.snapshot.take import TakeOptions, take_snapshot
    from keenharbor.snapshot.verify import Verification, verify_store
else:
    __getattr__ = offered(
        __name__,
        {
            "manifest": "Proof Snapshot change_record find_snapshot list_snapshots record_of record_proof "
            "unreadable_snapshots",
            "restore": "give_back restore_state",
            "take": "TakeOptions take_snapshot",
            "verify": "Verification verify_store",
        },
    )

__all__ = [
    "Proof",
    "Snapshot",
    "TakeOptions",
    "Verification",
    "change_record",
    "find_snapshot",
    "give_back",
    "list_snapshots",
    "record_of",
    "record_proof",
    "restore_state",
    "take_snapshot",
    "unreadable_snapshots",
    "verify_store",
]
