"""What is known of one path, and how two trees differ."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal, NamedTuple

FileKind = Literal["file", "folder", "link"]


class Entry(NamedTuple):
    """One path of a tree as it was scanned or stored.

    ``path`` is relative with ``/`` (bytes that are not UTF-8 are kept as surrogates); ``mode`` the permission
    bits; ``mtime_ns`` nanoseconds; ``size`` bytes (0 but for files); ``target`` a link's text; ``objects`` the
    ids of the content's pieces, in order (empty until read). ``inode`` and ``ctime_ns`` tell whether a file has
    been touched since; they are not part of what a restore gives back. ``uid`` and ``gid`` are the owner's numbers;
    ``same_as`` the first path that is the same file (a hard link); ``sparse`` says that the file has holes.
    """

    path: str
    kind: FileKind
    mode: int
    mtime_ns: int
    size: int = 0
    area: str = "other"
    target: str | None = None
    objects: tuple[str, ...] = ()
    inode: int = 0
    ctime_ns: int = 0
    uid: int = -1
    gid: int = -1
    same_as: str | None = None
    sparse: bool = False

    @classmethod
    def from_json(cls, value: Sequence[Any]) -> Entry:
        if isinstance(value, Entry):
            return value
        return cls._make((*value[:7], tuple(value[7]), *value[8:], *_DEFAULTS[len(value) :]))

    def with_objects(self, objects: tuple[str, ...]) -> Entry:
        """The same with the content's pieces."""
        return Entry._make((*self[:7], objects, *self[8:]))

    @property
    def facts(self) -> tuple[Any, ...]:
        """All but the content: what a restore gives back beside it, and what the path is for."""
        return (self.mode, self.area, self.uid, self.gid, self.same_as, self.sparse, self.target)

    def same_content(self, other: Entry) -> bool:
        """Same kind and same content (both read), whatever mode and time are."""
        return (self.kind, self.objects, self.target) == (other.kind, other.objects, other.target)

    def untouched_since(self, earlier: Entry) -> bool:
        """Whether size, times and inode say that the file has not been written since ``earlier`` was scanned."""
        return (
            self.mtime_ns == earlier.mtime_ns
            and self.ctime_ns == earlier.ctime_ns
            and self.size == earlier.size
            and self.inode == earlier.inode
            and self.kind == earlier.kind
        )


_DEFAULTS = (None,) * 8 + (0, 0, -1, -1, None, False)
"""What manifests of earlier versions do not tell of a path."""


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
