"""Putting a tree back: into an empty folder, or over one that is there, writing only what differs."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

from keenharbor.host.entries import Entry
from keenharbor.host.protocol import Changes, Files

Read = Callable[[str], bytes]
_AT_ONCE = 2
"""Making a file is mostly waiting for the system, which two can do at once."""
_RENAMED_AT_ONCE = 4


@dataclass
class RestoreCount:
    """How many paths were written, removed, and left as they were."""

    written: int = 0
    removed: int = 0
    kept: int = 0


def restore_tree(
    files: Files, wanted: Mapping[str, Entry], present: Mapping[str, Entry], read: Read,
    *, remove_others: bool = True, watch: Callable[[Entry, bytes], None] | None = None,
) -> RestoreCount:  # fmt: skip
    """Make ``files`` hold ``wanted``; ``present`` is a read scan of what they hold now.

    First all contents that differ are written beside their places; then nothing is left but to rename, link and remove,
    so a full disk or damaged content leaves everything as it was, and a reader sees each file as the old or the new
    one. What ``present`` has and ``wanted`` has not is removed unless ``remove_others`` is false; paths in neither are
    left alone. Doing it again after an interruption gives the same result. ``watch`` is shown what goes into an empty
    folder, piece by piece. Links are written, never followed, also those that somebody puts there meanwhile."""
    is_empty = files.make_root()
    if not present and is_empty:
        _fill(files, wanted, read, watch)
        return RestoreCount(written=len(wanted))
    return _Restoring(files, wanted, present, read).carry_out(remove_others)


def _fill(files: Files, wanted: Mapping[str, Entry], read: Read, watch: Callable[[Entry, bytes], None] | None) -> None:
    """Fill an empty folder. Nobody reads there yet, so files are written in their places."""
    same: list[Entry] = []
    plain: list[Entry] = []
    made: set[str] = set()
    with files.changing() as changes:
        for path, entry in sorted(wanted.items()):
            above = path if entry.kind == "folder" else path.rpartition("/")[0]
            if above not in made:
                changes.make_folder(above)
                made.add(above)
            if entry.kind == "file":
                (same if entry.same_as is not None and entry.same_as in wanted else plain).append(entry)

    def write(some: list[Entry]) -> None:
        with files.changing() as own:
            for entry in some:

                def seen(identity: str, entry: Entry = entry) -> bytes:
                    content = read(identity)
                    if watch is not None:
                        watch(entry, content)
                    return content

                own.write_there(entry, seen)

    half = (len(plain) + _AT_ONCE - 1) // _AT_ONCE or 1
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        for done in [pool.submit(write, plain[at : at + half]) for at in range(0, len(plain), half)]:
            done.result()
    with files.changing() as changes:
        for entry in same:
            if not changes.same_file(entry):
                changes.write_there(entry, read)
        # Links last: nothing that is written could go through one.
        for _, entry in sorted(wanted.items()):
            if entry.kind == "link":
                changes.make_link(entry)
        for _, entry in sorted(wanted.items(), reverse=True):
            if entry.kind == "folder":
                changes.set_facts(entry)


@dataclass
class _Restoring:
    """One run over a tree that is there."""

    files: Files
    wanted: Mapping[str, Entry]
    present: Mapping[str, Entry]
    read: Read
    count: RestoreCount = field(default_factory=RestoreCount)
    staged: dict[str, str] = field(default_factory=dict)
    touched: set[str] = field(default_factory=set)
    """Folders into which something was written: their own times change by that."""

    def carry_out(self, remove_others: bool) -> RestoreCount:
        differ = sorted(p for p, e in self.wanted.items() if self.present.get(p) != e)
        self.count.kept = len(self.wanted) - len(differ)
        try:
            with self.files.changing() as changes:
                self._stage(differ, changes)
                # New files come before old ones go: what may still fail for want of space does so while all that was is
                # there.
                self._make_new(differ, changes)
                if remove_others:
                    self._remove_others(changes)
            self._rename()
            with self.files.changing() as changes:
                self._finish(differ, changes)
                self._folder_times(differ, changes)
        finally:
            with self.files.changing() as changes:
                for part in self.staged.values():
                    changes.remove(part)
        return self.count

    def _stage(self, differ: Sequence[str], changes: Changes) -> None:
        for path in differ:
            entry, now = self.wanted[path], self.present.get(path)
            if (
                entry.kind == "file"
                and now is not None
                and now.kind == "file"
                and not now.same_content(entry)
                and entry.same_as not in self.wanted
            ):
                self.staged[path] = changes.stage(entry, self.read)

    def _make_new(self, differ: Sequence[str], changes: Changes) -> None:
        for path in differ:
            if path in self.present or self.wanted[path].same_as in self.wanted or self._in_the_way(path):
                continue
            self._make(self.wanted[path], changes)
            self.touched.update(_above(path))
            self.count.written += 1

    def _remove_others(self, changes: Changes) -> None:
        # Deepest first, so that a folder is empty when its turn comes.
        for path in sorted(self.present.keys() - self.wanted.keys(), key=lambda p: p.count("/"), reverse=True):
            _remove(changes, self.present[path])
            self.touched.update(_above(path))
            self.count.removed += 1

    def _rename(self) -> None:
        """Before anything is linked to one of them. A file system may write a file's content to disk when it takes
        another's name: the waiting is shared."""

        def some(paths: Sequence[str]) -> None:
            with self.files.changing() as own:
                for path in paths:
                    own.put(self.staged[path], path)

        paths = list(self.staged)
        with ThreadPoolExecutor(_RENAMED_AT_ONCE) as renamer:
            list(renamer.map(some, [paths[at::_RENAMED_AT_ONCE] for at in range(_RENAMED_AT_ONCE)]))

    def _finish(self, differ: Sequence[str], changes: Changes) -> None:
        for path in differ:
            entry, now = self.wanted[path], self.present.get(path)
            if now is not None and now.same_content(entry):
                facts_differ = (entry.mode, entry.mtime_ns) != (now.mode, now.mtime_ns)
                owner_differs = (entry.uid, entry.gid) != (now.uid, now.gid)
                if owner_differs or (entry.kind == "file" and facts_differ):
                    changes.set_facts(entry, owner=owner_differs, times=entry.kind == "file")
                self.count.kept += 1
                continue
            self.touched.update(_above(path))
            if now is None:
                if entry.same_as in self.wanted or self._in_the_way(path):
                    self._make(entry, changes)
                    self.count.written += 1
                continue
            if path not in self.staged:
                if now.kind != entry.kind:
                    _remove(changes, now)
                self._make(entry, changes)
            self.count.written += 1

    def _folder_times(self, differ: Sequence[str], changes: Changes) -> None:
        """Folder times last: writing into a folder changes them."""
        for path in sorted({*differ, *self.touched} & self.wanted.keys(), reverse=True):
            entry, now = self.wanted[path], self.present.get(path)
            as_it_was = now is not None and now.mtime_ns == entry.mtime_ns and now.facts == entry.facts
            if entry.kind == "folder" and (path in self.touched or not as_it_was):
                changes.set_facts(entry)

    def _in_the_way(self, path: str) -> bool:
        """Whether something above ``path`` is to become a folder and is none now."""
        return any((now := self.present.get(above)) is not None and now.kind != "folder" for above in _above(path))

    def _make(self, entry: Entry, changes: Changes) -> None:
        if entry.kind == "folder":
            changes.make_folder(entry.path)
            return
        if above := entry.path.rpartition("/")[0]:
            changes.make_folder(above)
        if entry.kind == "link":
            changes.make_link(entry)
        elif entry.same_as is None or entry.same_as not in self.wanted or not changes.same_file(entry):
            part = changes.stage(entry, self.read)
            try:
                changes.put(part, entry.path)
            except BaseException:
                changes.remove(part)
                raise


def _above(path: str) -> Iterator[str]:
    """The folders above a path, which may have been made for it."""
    while path := path.rpartition("/")[0]:
        yield path


def _remove(changes: Changes, entry: Entry) -> None:
    if entry.kind == "folder":
        # Only what the scan knew is ours to remove; a folder that holds more (a log, a cache) stays.
        changes.remove_folder(entry.path)
    else:
        changes.remove(entry.path)
