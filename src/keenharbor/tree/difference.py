"""How two trees differ."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from keenharbor.host.entries import Entry


@dataclass(frozen=True)
class TreeDifference:
    """Paths that ``right`` has and ``left`` has not (``added``), the reverse (``removed``), and those whose
    content (``changed``) or only mode (``modes``) differ; each sorted."""

    added: tuple[str, ...]
    removed: tuple[str, ...]
    changed: tuple[str, ...]
    modes: tuple[str, ...]

    def __bool__(self) -> bool:
        return bool(self.added or self.removed or self.changed or self.modes)


def compare_trees(left: Mapping[str, Entry], right: Mapping[str, Entry]) -> TreeDifference:
    """How ``right`` differs from ``left``. Folders count when they come or go, not when their time changes."""
    both = sorted(left.keys() & right.keys())
    changed = tuple(p for p in both if not left[p].same_content(right[p]))
    return TreeDifference(
        added=tuple(sorted(right.keys() - left.keys())),
        removed=tuple(sorted(left.keys() - right.keys())),
        changed=changed,
        modes=tuple(p for p in both if left[p].mode != right[p].mode and p not in set(changed)),
    )
