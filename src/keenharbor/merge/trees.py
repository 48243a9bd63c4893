"""Files, three ways: what came, changed and went on their side is carried onto ours, path by path."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, field
from typing import Literal

from keenharbor.site.edits import MergeConflict, merge_three
from keenharbor.tree import Entry

LARGEST_TEXT = 512 * 1024
CODE = ("core", "extensions", "themes")
"""Areas that go back whole: what was edited in them since was made for other code."""
NOT_MERGED = frozenset(("cache", "logs"))
"""Areas that are no work of anybody."""

FileClash = Literal["both changed it", "both added it", "removed here, changed there", "changed here, not there at all"]


@dataclass(frozen=True)
class FileConflict:
    """A path that both sides changed: whose content is there now."""

    path: str
    area: str
    taken: Literal["theirs", "ours", "both"]
    clash: FileClash


@dataclass
class MergedTree:
    """The entries that the tree is to have, and what was carried: paths by what became of them. ``merged`` are contents
    of texts that are put together from both sides; ``left`` paths of areas that were not merged and differ."""

    entries: dict[str, Entry]
    added: list[str] = field(default_factory=list)
    changed: list[str] = field(default_factory=list)
    removed: list[str] = field(default_factory=list)
    merged: dict[str, bytes] = field(default_factory=dict)
    conflicts: list[FileConflict] = field(default_factory=list)
    left: list[str] = field(default_factory=list)

    @property
    def count(self) -> int:
        """Files that were carried."""
        return len(self.added) + len(self.changed) + len(self.removed)


def merge_trees(
    base: Mapping[str, Entry], theirs: Mapping[str, Entry], ours: Mapping[str, Entry], whole: Collection[str],
    read: Callable[[Entry], bytes],
) -> MergedTree:  # fmt: skip
    """What their side did since ``base``, carried onto ours. Of areas that are taken ``whole`` (code) ours stays as it
    is; settings that both changed are merged as texts, and where that cannot be ours stay, since the code needs them.
    ``read`` gives a file's content. Paths of caches and logs are ours."""
    result = MergedTree(dict(ours))
    for path in sorted(base.keys() | theirs.keys()):
        was, now, mine = base.get(path), theirs.get(path), ours.get(path)
        entry = now or was
        assert entry is not None
        if entry.area in NOT_MERGED or (was is not None and now is not None and _alike(was, now)):
            continue
        if entry.kind == "folder" and (now is None or mine is not None):
            continue  # one that was emptied holds nothing that could be lost
        if entry.area in whole:
            result.left.append(path)
        elif now is None:
            _removed(result, path, was, mine)
        elif was is None or mine is not None:
            _written(result, path, was, now, mine, read)
        else:
            result.conflicts.append(FileConflict(path, now.area, "ours", "changed here, not there at all"))
    _with_folders(result, theirs)
    return result


def _alike(a: Entry, b: Entry) -> bool:
    return a.same_content(b) and (a.kind == "link" or a.mode == b.mode)


def _removed(result: MergedTree, path: str, was: Entry | None, mine: Entry | None) -> None:
    if mine is None or was is None:
        return
    if mine.same_content(was):
        del result.entries[path]
        result.removed.append(path)
    else:
        result.conflicts.append(FileConflict(path, mine.area, "ours", "removed here, changed there"))


def _written(
    result: MergedTree, path: str, was: Entry | None, now: Entry, mine: Entry | None, read: Callable[[Entry], bytes]
) -> None:
    if mine is not None and mine.same_content(now):
        if _alike(mine, now):
            return
    elif mine is not None and (was is None or not mine.same_content(was)):
        text = _merged_text(was, now, mine, read) if was is not None else None
        if text is not None:
            result.merged[path] = text
            result.conflicts.append(FileConflict(path, now.area, "both", "both changed it"))
            return
        taken: Literal["theirs", "ours"] = "ours" if now.area == "settings" else "theirs"
        clash: FileClash = "both changed it" if was is not None else "both added it"
        result.conflicts.append(FileConflict(path, now.area, taken, clash))
        if taken == "ours":
            return
    result.entries[path] = now
    (result.added if mine is None else result.changed).append(path)


def _merged_text(was: Entry, now: Entry, mine: Entry, read: Callable[[Entry], bytes]) -> bytes | None:
    """A text with what both sides changed; None where they changed the same lines, or it is none."""
    sides = (was, now, mine)
    if any(e.kind != "file" or e.size > LARGEST_TEXT for e in sides):
        return None
    contents = [read(e) for e in sides]
    if any(b"\0" in c for c in contents):
        return None
    try:
        base, theirs, ours = (c.decode("utf-8") for c in contents)
        return merge_three(base, theirs, ours).encode("utf-8")
    except (UnicodeDecodeError, MergeConflict):
        return None


def _with_folders(result: MergedTree, theirs: Mapping[str, Entry]) -> None:
    """The folders of what was carried, and no name of a file that is not there."""
    for path in (*result.added, *result.changed):
        above = path.rpartition("/")[0]
        while above and above not in result.entries and above in theirs:
            result.entries[above] = theirs[above]
            above = above.rpartition("/")[0]
        entry = result.entries[path]
        if entry.same_as is not None and entry.same_as not in result.entries:
            result.entries[path] = entry._replace(same_as=None)
    result.entries = dict(sorted(result.entries.items(), key=lambda item: item[0].split("/")))
