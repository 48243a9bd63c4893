"""Trees of files: scanning, areas, comparing, putting back."""

from keenharbor.tree.areas import AREAS, AreaRules
from keenharbor.tree.entries import Entry, TreeDifference, compare_trees
from keenharbor.tree.restore import RestoreCount, restore_tree
from keenharbor.tree.scan import Scan, scan_tree

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
