"""Trees of files: scanning, comparing, putting back."""

from keenharbor.host import AREAS, AreaRules, Entry, Scan
from keenharbor.tree.difference import TreeDifference, compare_trees
from keenharbor.tree.restore import RestoreCount, restore_tree
from keenharbor.tree.scan import scan_tree

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
