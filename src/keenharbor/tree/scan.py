"""Reading a tree: what is there, and what is in it."""

from __future__ import annotations

import errno
import os
import stat
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Protocol

from keenharbor.base.errors import UsageError
from keenharbor.store import object_id
from keenharbor.tree.areas import AreaRules, fits
from keenharbor.tree.entries import Entry

PIECE_SIZE = 4 * 1024 * 1024
"""Files are stored in pieces of this many bytes, so that memory stays bounded."""

READ_ATTEMPTS = 3
_BATCH_FILES = 64
_BATCH_BYTES = 1024 * 1024
_NO_PIECE = bytes(PIECE_SIZE)
_CLOCK_TICK_NS = 20_000_000
"""Times of files are this coarse (the kernel's tick, with room): two writes within it may leave the same time."""


@dataclass
class Scan:
    """The entries of a tree by path, in walking order; what was left out by rule, and what for its size; what could not
    be read; what kept changing while it was read."""

    entries: dict[str, Entry] = field(default_factory=dict)
    left_out: list[str] = field(default_factory=list)
    too_large: list[str] = field(default_factory=list)
    unreadable: list[str] = field(default_factory=list)
    unstable: list[str] = field(default_factory=list)


def scan_tree(
    root: Path, rules: AreaRules, leave_out: Sequence[str] = (), empty: Sequence[str] = (), largest: int | None = None,
) -> Scan:  # fmt: skip
    """Walk ``root`` without following links.

    Paths that fit ``leave_out`` are passed over whole; of those that fit ``empty`` only the folders are kept
    (a cache that is made anew), and files of more than ``largest`` bytes are listed, not taken. Sockets, pipes and
    devices are left out. Raises `UsageError` when ``root`` is
    not a folder.
    """
    if not root.is_dir():
        raise UsageError("the site's folder is not there", where=root, advice="correct 'root' in the site file")
    scan = Scan()
    _walk(os.fspath(root), "", _Rules(rules, tuple(leave_out), tuple(empty), largest), scan, {})
    return scan


@dataclass(frozen=True)
class _Rules:
    areas: AreaRules
    leave_out: tuple[str, ...]
    empty: tuple[str, ...]
    largest: int | None


def _walk(folder: str, prefix: str, rules: _Rules, scan: Scan, linked: dict[tuple[int, int], str]) -> None:
    leave_out, empty = rules.leave_out, rules.empty
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
        if kind == "file" and rules.largest is not None and facts.st_size > rules.largest:
            scan.too_large.append(path)
            continue
        same_as = None
        if kind == "file" and facts.st_nlink > 1:
            first = linked.setdefault((facts.st_dev, facts.st_ino), path)
            same_as = first if first != path else None
        scan.entries[path] = Entry(
            path=path,
            kind=kind,  # type: ignore[arg-type]
            mode=stat.S_IMODE(facts.st_mode),
            mtime_ns=facts.st_mtime_ns,
            size=facts.st_size if kind == "file" else 0,
            area=rules.areas.area_of(path),
            target=target,
            inode=facts.st_ino,
            ctime_ns=facts.st_ctime_ns,
            uid=facts.st_uid,
            gid=facts.st_gid,
            same_as=same_as,
            sparse=kind == "file" and facts.st_blocks * 512 < facts.st_size,
        )
        if kind == "folder":
            _walk(item.path, path + "/", rules, scan, linked)


_KINDS = {stat.S_IFREG: "file", stat.S_IFDIR: "folder"}


def pieces(file: Path, sparse: bool = False) -> Iterator[bytes]:
    """The content of ``file`` in pieces of at most `PIECE_SIZE` bytes; of a ``sparse`` one, holes are not read.

    Not more than the file had when it was opened: one that grows as fast as it is read (a log) would never end.
    """
    with file.open("rb", buffering=0) as source:
        left = os.fstat(source.fileno()).st_size
        at = 0
        while left > 0:
            want = min(PIECE_SIZE, left)
            if sparse and want == PIECE_SIZE and _is_hole(source.fileno(), at, want):
                piece = _NO_PIECE
                source.seek(want, os.SEEK_CUR)
            else:
                piece = source.read(want)
                if not piece:
                    return
            left -= len(piece)
            at += len(piece)
            yield piece


def _is_hole(descriptor: int, start: int, length: int) -> bool:
    try:
        data_at = os.lseek(descriptor, start, os.SEEK_DATA)
    except OSError:  # nothing but a hole to the end
        data_at = start + length
    os.lseek(descriptor, start, os.SEEK_SET)
    return data_at >= start + length


Store = Callable[[bytes, "str | None"], str]
Outcome = tuple[str, Entry | None, bool]
"""A path; its entry as it was read (None when it has vanished or may not be read); whether it kept changing (or, without
an entry, may not be read)."""


class ContentSink(Protocol):
    """Carries out tasks that store contents, possibly several at once (see `keenharbor.store.store.ObjectWriter`)."""

    def run(self, task: Callable[[Store], list[Outcome]], done: Callable[[list[Outcome]], None]) -> None: ...

    def finish(self) -> None: ...


class Hashing:
    """A `ContentSink` that keeps nothing: it only gives contents their ids."""

    def run(self, task: Callable[[Store], list[Outcome]], done: Callable[[list[Outcome]], None]) -> None:
        done(task(lambda content, near: object_id(content)))

    def finish(self) -> None: ...


def read_content(
    root: Path, scan: Scan, sink: ContentSink, earlier: Mapping[str, Entry], have: Callable[[str], bool],
    advance: Callable[[int, int], None],
) -> None:  # fmt: skip
    """Give each file's content to ``sink`` and note the ids in ``scan``.

    A file that ``earlier`` knows and that was not touched since is not read again, as long as every piece is
    still at hand (``have``). A file that changes while it is read is read again, at most `READ_ATTEMPTS` times;
    one that keeps changing is listed as unstable, one that has vanished is dropped, one that may not be read is
    listed as unreadable. ``advance`` gets bytes done and in all.
    """
    total = sum(entry.size for entry in scan.entries.values())
    done = 0

    def taken(outcomes: list[Outcome]) -> None:
        nonlocal done
        for path, entry, troubled in outcomes:
            done += scan.entries[path].size
            if entry is None:
                del scan.entries[path]
                if troubled:
                    scan.unreadable.append(path)
                continue
            scan.entries[path] = entry
            if troubled:
                scan.unstable.append(path)
        advance(done, total)

    batch: list[Entry] = []
    size = 0

    def send() -> None:
        nonlocal batch, size
        entries, batch, size = batch, [], 0
        sink.run(lambda store: [_read_one(root / e.path, e, store) for e in entries], taken)

    for path, entry in list(scan.entries.items()):
        if entry.kind != "file":
            continue
        known = earlier.get(path)
        if known is not None and entry.untouched_since(known) and all(have(o) for o in known.objects):
            scan.entries[path] = replace(entry, objects=known.objects)
            done += entry.size
            continue
        batch.append(entry)
        size += entry.size
        if len(batch) >= _BATCH_FILES or size >= _BATCH_BYTES:
            send()
    if batch:
        send()
    sink.finish()
    advance(total, total)


def _read_one(file: Path, entry: Entry, store: Store) -> Outcome:
    unstable = False
    for attempt in range(READ_ATTEMPTS):
        try:
            objects = tuple([store(piece, None) for piece in pieces(file, entry.sparse)])
            facts = file.lstat()
        except FileNotFoundError:
            return entry.path, None, False
        except OSError as error:
            if isinstance(error, PermissionError) or error.errno in _UNREADABLE:
                return entry.path, None, True
            raise
        same = (facts.st_size, facts.st_mtime_ns, facts.st_ctime_ns) == (entry.size, entry.mtime_ns, entry.ctime_ns)
        # A write that follows within the clock's tick would not show: such a file is read again the next time.
        fresh = time.time_ns() - facts.st_ctime_ns < _CLOCK_TICK_NS
        entry = replace(
            entry, objects=objects, size=facts.st_size, mtime_ns=facts.st_mtime_ns,
            ctime_ns=0 if fresh and same else facts.st_ctime_ns, mode=stat.S_IMODE(facts.st_mode), inode=facts.st_ino,
        )  # fmt: skip
        if same:
            break
        unstable = attempt == READ_ATTEMPTS - 1
    return entry.path, entry, unstable


_UNREADABLE = (errno.EIO, errno.EACCES, errno.ESTALE)
"""A damaged disk or a lost share must not keep the rest from being saved; what could not be read is told of."""
