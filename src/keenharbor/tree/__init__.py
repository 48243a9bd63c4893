"""Trees of files: scanning, comparing, putting back."""

from typing import TYPE_CHECKING

from keenharbor.base.lazily import offered
from keenharbor.host import AREAS, AreaRules, Entry, Scan

if TYPE_CHECKING:
    from keenharbor.tree.difference import TreeDifference, compare_trees
    from keenharbor.tree.restore import RestoreCount, restore_tree
    from keenharbor.tree.scan import scan_tree
else:
    __getattr__ = offered(
        __name__,
        {
            "difference": "TreeDifference compare_trees",
            "restore": "RestoreCount restore_tree",
            "scan": "scan_tree",
        },
    )

__all__ = [
    "AREAS",
    "AreaRules",
    "Entry",
    "RestoreCount",
    "Scan",
    "TreeDifference",
    "compare_trees",
    "restore_tree",
    "scan_tree",
]
