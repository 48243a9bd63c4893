"""Putting a tree back: into an empty folder, or over one that is there, writing only what differs."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from keenharbor.base.durable import temporary_name
from keenharbor.tree.entries import Entry


@dataclass
class RestoreCount:
    """How many paths were written, removed, and left as they were."""

    written: int = 0
    removed: int = 0
    kept: int = 0


def restore_tree(
    root: Path, wanted: Mapping[str, Entry], present: Mapping[str, Entry], read: Callable[[str], bytes],
    *, remove_others: bool = True, watch: Callable[[Entry, bytes], None] | None = None,
) -> RestoreCount:  # fmt: skip
    """Make ``root`` hold ``wanted``; ``present`` is a read scan of what it holds now.

    First all contents that differ are written beside their places; then nothing is left but to rename, link and remove,
    so a full disk or damaged content leaves everything as it was, and a reader sees each file as the old or the new one.
    What ``present`` has and ``wanted`` has not is removed unless ``remove_others`` is false; paths in neither are
    left alone. Doing it again after an interruption gives the same result. ``watch`` is shown what goes into an empty
    folder, piece by piece.
    """
    count = RestoreCount()
    root.mkdir(parents=True, exist_ok=True)
    if not present and not any(root.iterdir()):
        _fill(root, wanted, read, watch)
        return RestoreCount(written=len(wanted))
    differ = sorted(p for p, e in wanted.items() if present.get(p) != e)
    count.kept = len(wanted) - len(differ)
    staged: dict[str, Path] = {}
    owns = os.geteuid() == 0
    try:
        for path in differ:
            entry, now = wanted[path], present.get(path)
            if (
                entry.kind == "file"
                and now is not None
                and now.kind == "file"
                and not now.same_content(entry)
                and entry.same_as not in wanted
            ):
                part = staged[path] = temporary_name(root / path)
                _write_new(os.fspath(part), entry, read, owns)
    except BaseException:
        for part in staged.values():
            part.unlink(missing_ok=True)
        raise
    try:
        _put_in_place(root, wanted, present, differ, read, staged, count, remove_others)
    finally:
        for part in staged.values():
            part.unlink(missing_ok=True)
    return count


_RENAMED_AT_ONCE = 4
_AT_ONCE = 2
"""Making a file is mostly waiting for the system, which two can do at once."""


def _fill(
    root: Path, wanted: Mapping[str, Entry], read: Callable[[str], bytes], watch: Callable[[Entry, bytes], None] | None
) -> None:
    """Fill an empty folder. Nobody reads there yet, so files are written in their places."""
    base = os.fspath(root)
    owns = os.geteuid() == 0
    links: list[Entry] = []
    files: list[Entry] = []
    made: set[str] = set()
    for path, entry in sorted(wanted.items()):
        above = path if entry.kind == "folder" else path.rpartition("/")[0]
        if above not in made:
            (root / above).mkdir(parents=True, exist_ok=True)
            made.add(above)
        if entry.kind == "link":
            os.symlink(entry.target or "", f"{base}/{path}")
            _own(root / path, entry)
            os.utime(f"{base}/{path}", ns=(entry.mtime_ns, entry.mtime_ns), follow_symlinks=False)
        elif entry.kind == "file":
            (links if entry.same_as is not None and entry.same_as in wanted else files).append(entry)

    def write(some: list[Entry]) -> None:
        for entry in some:

            def seen(identity: str, entry: Entry = entry) -> bytes:
                content = read(identity)
                if watch is not None:
                    watch(entry, content)
                return content

            _write_new(f"{base}/{entry.path}", entry, seen, owns)

    half = (len(files) + _AT_ONCE - 1) // _AT_ONCE or 1
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        for done in [pool.submit(write, files[at : at + half]) for at in range(0, len(files), half)]:
            done.result()
    for entry in links:
        if not _link(root, entry):
            _write_new(f"{base}/{entry.path}", entry, read, owns)
    for path, entry in sorted(wanted.items(), reverse=True):
        if entry.kind == "folder":
            _own(root / path, entry)
            (root / path).chmod(entry.mode)
            os.utime(f"{base}/{path}", ns=(entry.mtime_ns, entry.mtime_ns))


def _write_new(place: str, entry: Entry, read: Callable[[str], bytes], owns: bool) -> None:
    if entry.sparse or len(entry.objects) > 1:
        _write_content(Path(place), entry, read)
        return
    content = read(entry.objects[0]) if entry.objects else b""
    descriptor = os.open(place, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    try:
        view = memoryview(content)
        while view:
            view = view[os.write(descriptor, view) :]
        if owns and entry.uid >= 0 and (entry.uid, entry.gid) != (0, 0):
            os.fchown(descriptor, entry.uid, entry.gid)
        os.fchmod(descriptor, entry.mode)
        os.utime(descriptor, ns=(entry.mtime_ns, entry.mtime_ns))
    finally:
        os.close(descriptor)


def _put_in_place(
    root: Path, wanted: Mapping[str, Entry], present: Mapping[str, Entry], differ: Sequence[str],
    read: Callable[[str], bytes], staged: dict[str, Path], count: RestoreCount, remove_others: bool,
) -> None:  # fmt: skip
    # New files come before old ones go: what may still fail for want of space does so while all that was is there.
    made_new = [p for p in differ if p not in present and wanted[p].same_as not in wanted]
    touched: set[str] = set()
    """Folders into which something was written: their own times change by that."""
    for path in made_new:
        if not _in_the_way(path, wanted, present):
            _make(root, wanted[path], wanted, read)
            touched.update(_above(path))
            count.written += 1
    if remove_others:
        # Deepest first, so that a folder is empty when its turn comes.
        for path in sorted(present.keys() - wanted.keys(), key=lambda p: p.count("/"), reverse=True):
            _remove(root / path, present[path])
            touched.update(_above(path))
            count.removed += 1

    # Before anything is linked to one of them. A file system may write a file's content to disk when it takes another's name:
    # the waiting is shared.
    def rename(some: Sequence[str]) -> None:
        for path in some:
            staged[path].replace(f"{base}/{path}")

    base, paths = os.fspath(root), list(staged)
    with ThreadPoolExecutor(_RENAMED_AT_ONCE) as renamer:
        list(renamer.map(rename, [paths[at::_RENAMED_AT_ONCE] for at in range(_RENAMED_AT_ONCE)]))
    for path in differ:
        entry, now = wanted[path], present.get(path)
        if now is not None and now.same_content(entry):
            _set_facts(root, entry, now)
            count.kept += 1
            continue
        touched.update(_above(path))
        target = root / path
        if now is None:
            if entry.same_as in wanted or _in_the_way(path, wanted, present):
                _make(root, entry, wanted, read)
                count.written += 1
            continue
        if path not in staged:
            if now.kind != entry.kind:
                _remove(target, now)
            _make(root, entry, wanted, read)
        count.written += 1
    # Folder times last: writing into a folder changes them.
    for path in sorted({*differ, *touched} & wanted.keys(), reverse=True):
        entry = wanted[path]
        if entry.kind == "folder" and (path in touched or not _has_facts(entry, present.get(path))):
            _own(root / path, entry)
            (root / path).chmod(entry.mode)
            os.utime(root / path, ns=(entry.mtime_ns, entry.mtime_ns))


def _above(path: str) -> Iterator[str]:
    """The folders above a path, which may have been made for it."""
    while path := path.rpartition("/")[0]:
        yield path


def _in_the_way(path: str, wanted: Mapping[str, Entry], present: Mapping[str, Entry]) -> bool:
    """Whether something above ``path`` is to become a folder and is none now."""
    return any((now := present.get(above)) is not None and now.kind != "folder" for above in _above(path))


def _make(root: Path, entry: Entry, wanted: Mapping[str, Entry], read: Callable[[str], bytes]) -> None:
    target = root / entry.path
    target.parent.mkdir(parents=True, exist_ok=True)
    if entry.kind == "folder":
        target.mkdir(exist_ok=True)
    elif entry.kind == "link":
        part = temporary_name(target)
        os.symlink(entry.target or "", part)
        _own(part, entry)
        os.utime(part, ns=(entry.mtime_ns, entry.mtime_ns), follow_symlinks=False)
        part.replace(target)
    elif entry.same_as is None or entry.same_as not in wanted or not _link(root, entry):
        part = temporary_name(target)
        try:
            _write_new(os.fspath(part), entry, read, os.geteuid() == 0)
            part.replace(target)
        except BaseException:
            part.unlink(missing_ok=True)
            raise


def _has_facts(entry: Entry, now: Entry | None) -> bool:
    return now is not None and now.mtime_ns == entry.mtime_ns and now.facts == entry.facts


def _set_facts(root: Path, entry: Entry, now: Entry) -> None:
    target = root / entry.path
    if entry.kind == "file" and (entry.mode, entry.mtime_ns) != (now.mode, now.mtime_ns):
        target.chmod(entry.mode)
        os.utime(target, ns=(entry.mtime_ns, entry.mtime_ns))
    if (entry.uid, entry.gid) != (now.uid, now.gid):
        _own(target, entry)


def _own(target: Path, entry: Entry) -> None:
    """Give the path its owner, where this user may; others' files belong to who restores them."""
    if entry.uid >= 0 and os.geteuid() == 0:
        os.chown(target, entry.uid, entry.gid, follow_symlinks=False)


def _link(root: Path, entry: Entry) -> bool:
    """Make a hard link to the first path of the same file, if that is there."""
    first, target = root / str(entry.same_as), root / entry.path
    try:
        if first.is_symlink() or first.stat().st_size != entry.size:
            return False
        if os.path.lexists(target) and target.samefile(first):
            return True
        part = temporary_name(target)
        os.link(first, part, follow_symlinks=False)
        part.replace(target)
    except OSError:
        return False
    return True


_PAGE = bytes(4096)


def _write_sparse(out: BinaryIO, content: bytes) -> None:
    """Write what is not zero; pages of zeros become holes."""
    view = memoryview(content)
    for at in range(0, len(content), len(_PAGE)):
        page = view[at : at + len(_PAGE)]
        if page == _PAGE[: len(page)]:
            out.seek(len(page), os.SEEK_CUR)
        else:
            out.write(page)


def _write_content(part: Path, entry: Entry, read: Callable[[str], bytes]) -> None:
    with part.open("xb") as out:
        for identity in entry.objects:
            if entry.sparse:
                _write_sparse(out, read(identity))
            else:
                out.write(read(identity))
        if entry.sparse:
            out.truncate(entry.size)
    _own(part, entry)
    part.chmod(entry.mode)
    os.utime(part, ns=(entry.mtime_ns, entry.mtime_ns))


def _remove(target: Path, entry: Entry) -> None:
    if entry.kind == "folder":
        # Only what the scan knew is ours to remove; a folder that holds more (a log, a cache) stays.
        try:
            target.rmdir()
        except FileNotFoundError:
            pass
        except OSError:
            if target.is_symlink() or not target.is_dir():
                target.unlink(missing_ok=True)
    else:
        target.unlink(missing_ok=True)


def clear_folder(folder: Path) -> None:
    """Remove everything in ``folder``, keeping the folder."""
    if not folder.is_dir() or folder.is_symlink():
        return
    for item in folder.iterdir():
        if item.is_dir() and not item.is_symlink():
            shutil.rmtree(item)
        else:
            item.unlink(missing_ok=True)
