"""Putting a tree back: into an empty folder, or over one that is there, writing only what differs."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path

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
    *, remove_others: bool = True,
) -> RestoreCount:  # fmt: skip
    """Make ``root`` hold ``wanted``; ``present`` is a read scan of what it holds now.

    Each file is written beside its place and renamed, so that a reader sees the old or the new one. What
    ``present`` has and ``wanted`` has not is removed unless ``remove_others`` is false; paths in neither are
    left alone. Doing it again after an interruption gives the same result.
    """
    count = RestoreCount()
    root.mkdir(parents=True, exist_ok=True)
    if remove_others:
        # Deepest first, so that a folder is empty when its turn comes.
        for path in sorted(present.keys() - wanted.keys(), key=lambda p: p.count("/"), reverse=True):
            _remove(root / path, present[path])
            count.removed += 1
    for path, entry in sorted(wanted.items()):
        now = present.get(path)
        target = root / path
        if now is not None and now.kind != entry.kind:
            _remove(target, now)
            now = None
        if now is not None and now.same_content(entry):
            _set_facts(target, entry, now)
            count.kept += 1
            continue
        target.parent.mkdir(parents=True, exist_ok=True)
        if entry.kind == "folder":
            target.mkdir(exist_ok=True)
        elif entry.kind == "link":
            part = temporary_name(target)
            os.symlink(entry.target or "", part)
            os.utime(part, ns=(entry.mtime_ns, entry.mtime_ns), follow_symlinks=False)
            part.replace(target)
        else:
            _write_file(target, entry, read)
        count.written += 1
    # Folder times last: writing into a folder changes them.
    for path, entry in sorted(wanted.items(), reverse=True):
        if entry.kind == "folder":
            (root / path).chmod(entry.mode)
            os.utime(root / path, ns=(entry.mtime_ns, entry.mtime_ns))
    return count


def _set_facts(target: Path, entry: Entry, now: Entry) -> None:
    if entry.kind == "file" and (entry.mode, entry.mtime_ns) != (now.mode, now.mtime_ns):
        target.chmod(entry.mode)
        os.utime(target, ns=(entry.mtime_ns, entry.mtime_ns))


def _write_file(target: Path, entry: Entry, read: Callable[[str], bytes]) -> None:
    part = temporary_name(target)
    try:
        with part.open("xb") as out:
            for identity in entry.objects:
                out.write(read(identity))
        part.chmod(entry.mode)
        os.utime(part, ns=(entry.mtime_ns, entry.mtime_ns))
        part.replace(target)
    except BaseException:
        part.unlink(missing_ok=True)
        raise


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
