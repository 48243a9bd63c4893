"""Reading a tree: what is there, and what is in it."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from keenharbor.base.errors import UsageError
from keenharbor.tree.areas import AreaRules, fits
from keenharbor.tree.entries import Entry

PIECE_SIZE = 4 * 1024 * 1024
"""Files are stored in pieces of this many bytes, so that memory stays bounded."""

READ_ATTEMPTS = 3


@dataclass
class Scan:
    """The entries of a tree by path, in walking order; what was left out by rule; what could not be read."""

    entries: dict[str, Entry] = field(default_factory=dict)
    left_out: list[str] = field(default_factory=list)
    unreadable: list[str] = field(default_factory=list)
    unstable: list[str] = field(default_factory=list)


def scan_tree(root: Path, rules: AreaRules, leave_out: Sequence[str] = (), empty: Sequence[str] = ()) -> Scan:
    """Walk ``root`` without following links.

    Paths that fit ``leave_out`` are passed over whole; of those that fit ``empty`` only the folders are kept
    (a cache that is made anew). Sockets, pipes and devices are left out. Raises `UsageError` when ``root`` is
    not a folder.
    """
    if not root.is_dir():
        raise UsageError("the site's folder is not there", where=root, advice="correct 'root' in the site file")
    scan = Scan()
    _walk(os.fspath(root), "", rules, tuple(leave_out), tuple(empty), scan)
    return scan


def _walk(
    folder: str, prefix: str, rules: AreaRules, leave_out: tuple[str, ...], empty: tuple[str, ...], scan: Scan
) -> None:
    try:
        with os.scandir(folder) as listing:
            found = sorted(listing, key=lambda item: item.name)
    except OSError:
        scan.unreadable.append(prefix.rstrip("/"))
        return
    for item in found:
        path = prefix + item.name
        if leave_out and fits(path, leave_out):
            scan.left_out.append(path)
            continue
        try:
            facts = item.stat(follow_symlinks=False)
            target = os.readlink(item.path) if item.is_symlink() else None
        except FileNotFoundError:
            continue
        kind = "link" if target is not None else _KINDS.get(stat.S_IFMT(facts.st_mode))
        if kind is None or (kind != "folder" and empty and fits(path, empty)):
            scan.left_out.append(path)
            continue
        scan.entries[path] = Entry(
            path=path,
            kind=kind,  # type: ignore[arg-type]
            mode=stat.S_IMODE(facts.st_mode),
            mtime_ns=facts.st_mtime_ns,
            size=facts.st_size if kind == "file" else 0,
            area=rules.area_of(path),
            target=target,
            inode=facts.st_ino,
            ctime_ns=facts.st_ctime_ns,
        )
        if kind == "folder":
            _walk(item.path, path + "/", rules, leave_out, empty, scan)


_KINDS = {stat.S_IFREG: "file", stat.S_IFDIR: "folder"}


def pieces(file: Path) -> Iterator[bytes]:
    """The content of ``file`` in pieces of at most `PIECE_SIZE` bytes.

    Not more than the file had when it was opened: one that grows as fast as it is read (a log) would never end.
    """
    with file.open("rb", buffering=0) as source:
        left = os.fstat(source.fileno()).st_size
        while left > 0 and (piece := source.read(min(PIECE_SIZE, left))):
            left -= len(piece)
            yield piece


def read_content(
    root: Path, scan: Scan, add: Callable[[bytes], str], earlier: Mapping[str, Entry], have: Callable[[str], bool],
    advance: Callable[[int, int], None],
) -> None:  # fmt: skip
    """Give each file's content to ``add`` and note the ids in ``scan``.

    A file that ``earlier`` knows and that was not touched since is not read again, as long as every piece is
    still at hand (``have``). A file that changes while it is read is read again, at most `READ_ATTEMPTS` times;
    one that keeps changing is listed as unstable, one that has vanished is dropped, one that may not be read is
    listed as unreadable. ``advance`` gets bytes done and in all.
    """
    total = sum(entry.size for entry in scan.entries.values())
    done = 0
    for path, entry in list(scan.entries.items()):
        if entry.kind != "file":
            continue
        known = earlier.get(path)
        if known is not None and entry.untouched_since(known) and all(have(o) for o in known.objects):
            scan.entries[path] = replace(entry, objects=known.objects)
        else:
            _read_one(root / path, entry, scan, add)
        done += entry.size
        advance(done, total)


def _read_one(file: Path, entry: Entry, scan: Scan, add: Callable[[bytes], str]) -> None:
    for attempt in range(READ_ATTEMPTS):
        try:
            objects = tuple(add(piece) for piece in pieces(file))
            facts = file.lstat()
        except FileNotFoundError:
            del scan.entries[entry.path]
            return
        except PermissionError:
            del scan.entries[entry.path]
            scan.unreadable.append(entry.path)
            return
        same = (facts.st_size, facts.st_mtime_ns, facts.st_ctime_ns) == (entry.size, entry.mtime_ns, entry.ctime_ns)
        entry = replace(
            entry, objects=objects, size=facts.st_size, mtime_ns=facts.st_mtime_ns, ctime_ns=facts.st_ctime_ns,
            mode=stat.S_IMODE(facts.st_mode), inode=facts.st_ino,
        )  # fmt: skip
        if same:
            break
        if attempt == READ_ATTEMPTS - 1:
            scan.unstable.append(entry.path)
    scan.entries[entry.path] = entry
