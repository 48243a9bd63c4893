"""What is known of one path, and of a tree as it was walked."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Literal, NamedTuple

FileKind = Literal["file", "folder", "link"]
Stamp = str
"""What a host tells of a path that is another one when anything of it was touched; empty where it cannot be sure.
Nobody but the host knows what is in it."""


class Entry(NamedTuple):
    """One path of a tree as it was scanned or stored.

    ``path`` is relative with ``/`` (bytes that are not UTF-8 are kept as surrogates); ``mode`` the permission
    bits; ``mtime_ns`` nanoseconds; ``size`` bytes (0 but for files); ``target`` a link's text; ``objects`` the
    ids of the content's pieces, in order (empty until read). ``stamp`` tells whether a file has been touched
    since; it is not part of what a restore gives back. ``uid`` and ``gid`` are the owner's numbers;
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
    stamp: Stamp = ""
    uid: int = -1
    gid: int = -1
    same_as: str | None = None
    sparse: bool = False

    @classmethod
    def from_json(cls, value: Sequence[Any]) -> Entry:
        """What a manifest has of it, of whatever format."""
        if isinstance(value, Entry):
            return value
        rest = tuple(value[8:])
        if rest and isinstance(rest[0], int):  # formats 1 to 3 had two numbers in place of the stamp
            inode, changed_ns = (*rest, 0)[:2]
            rest = (f"{inode:x}-{changed_ns:x}" if changed_ns else "", *rest[2:])
        return cls._make((*value[:7], tuple(value[7]), *rest, *_DEFAULTS[8 + len(rest) :]))

    def with_objects(self, objects: tuple[str, ...]) -> Entry:
        """The same with the content's pieces."""
        return Entry._make((*self[:7], objects, *self[8:]))

    @property
    def facts(self) -> tuple[object, ...]:
        """All but the content: what a restore gives back beside it, and what the path is for."""
        return (self.mode, self.area, self.uid, self.gid, self.same_as, self.sparse, self.target)

    def same_content(self, other: Entry) -> bool:
        """Same kind and same content (both read), whatever mode and time are."""
        return (self.kind, self.objects, self.target) == (other.kind, other.objects, other.target)

    def untouched_since(self, earlier: Entry) -> bool:
        """Whether size, time and stamp say that the file has not been written since ``earlier`` was scanned."""
        return (
            self.mtime_ns == earlier.mtime_ns
            and self.stamp == earlier.stamp != ""
            and self.size == earlier.size
            and self.kind == earlier.kind
        )


_DEFAULTS = (None,) * 8 + ("", -1, -1, None, False)
"""What manifests of earlier versions do not tell of a path."""


@dataclass
class Scan:
    """The entries of a tree by path, in walking order; what was left out by rule, and what for its size; what could not
    be read; what kept changing while it was read. ``root`` is the root's stamp, ``began_ns`` the host's clock when the
    scan began."""

    entries: dict[str, Entry] = field(default_factory=dict)
    left_out: list[str] = field(default_factory=list)
    too_large: list[str] = field(default_factory=list)
    unreadable: list[str] = field(default_factory=list)
    unstable: list[str] = field(default_factory=list)
    root: Stamp = ""
    began_ns: int = 0
