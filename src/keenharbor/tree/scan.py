"""Reading a tree: what is there, and what is in it."""

from __future__ import annotations

import errno
import os
import stat
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from operator import attrgetter
from pathlib import Path
from typing import Any, Protocol

from keenharbor.base.errors import UsageError
from keenharbor.base.memory import no_cycle_search
from keenharbor.store import object_id
from keenharbor.tree.areas import AreaRules, matcher
from keenharbor.tree.entries import Entry

PIECE_SIZE = 4 * 1024 * 1024
"""Files are stored in pieces of this many bytes, so that memory stays bounded."""

READ_ATTEMPTS = 3
_BATCH_FILES = 128
_BATCH_BYTES = 2 * 1024 * 1024
_BATCH_NAMES = 32 * 1024
_NO_PIECE = bytes(PIECE_SIZE)
_CLOCK_TICK_NS = 20_000_000
"""Times of files are this coarse (the kernel's tick, with room): two writes within it may leave the same time."""


Facts = tuple[int, int, int, int]
"""What tells whether a path has been touched: time of its content, time of all about it, inode, size."""


@dataclass
class Scan:
    """The entries of a tree by path, in walking order; what was left out by rule, and what for its size; what could not
    be read; what kept changing while it was read. ``root`` is what tells whether the root has been touched since, and
    ``began_ns`` the clock when the scan began."""

    entries: dict[str, Entry] = field(default_factory=dict)
    left_out: list[str] = field(default_factory=list)
    too_large: list[str] = field(default_factory=list)
    unreadable: list[str] = field(default_factory=list)
    unstable: list[str] = field(default_factory=list)
    root: Facts = (0, 0, 0, 0)
    began_ns: int = 0


def scan_tree(
    root: Path, rules: AreaRules, leave_out: Sequence[str] = (), empty: Sequence[str] = (), largest: int | None = None,
    seen: Mapping[str, Entry] | None = None,
) -> Scan:  # fmt: skip
    """Walk ``root``; see `begin_scan`."""
    scan, found = begin_scan(root, rules, leave_out, empty, largest, seen)
    return complete(scan, found)


def complete(scan: Scan, found: Iterator[Sequence[Entry]]) -> Scan:
    """Let a scan that was begun come to its end."""
    with no_cycle_search():
        deque(found, maxlen=0)
    return scan


def begin_scan(
    root: Path, rules: AreaRules, leave_out: Sequence[str] = (), empty: Sequence[str] = (), largest: int | None = None,
    seen: Mapping[str, Entry] | None = None,
) -> tuple[Scan, Iterator[Sequence[Entry]]]:  # fmt: skip
    """Walk ``root`` without following links.

    Paths that fit ``leave_out`` are passed over whole; of those that fit ``empty`` only the folders are kept
    (a cache that is made anew), and files of more than ``largest`` bytes are listed, not taken. Sockets, pipes and
    devices are left out. With ``seen``, the entries of an earlier scan by the same rules, those that have not been
    touched since are taken over as they are, read or not. The scan is filled while the entries that come with it are
    taken, a folder's at a time. Raises `UsageError` when ``root`` is not a folder.
    """
    if not root.is_dir():
        raise UsageError("the site's folder is not there", where=root, advice="correct 'root' in the site file")
    scan = Scan(root=_facts(os.lstat(root)), began_ns=time.time_ns())
    chosen = _Rules(
        rules, matcher(tuple(leave_out)).fullmatch if leave_out else None,
        matcher(tuple(empty)).fullmatch if empty else None, largest, seen or {},
    )  # fmt: skip
    return scan, _walk(os.fspath(root), "", chosen, scan, {})


@dataclass(frozen=True)
class _Rules:
    areas: AreaRules
    leave_out: Callable[[str], object] | None
    empty: Callable[[str], object] | None
    largest: int | None
    seen: Mapping[str, Entry]


def _walk(
    folder: str, prefix: str, rules: _Rules, scan: Scan, linked: dict[tuple[int, int], str]
) -> Iterator[Sequence[Entry]]:
    leave_out, empty, seen, entries = rules.leave_out, rules.empty, rules.seen, scan.entries
    here: list[Entry] = []
    try:
        with os.scandir(folder) as listing:
            found = sorted(listing, key=attrgetter("name"))
    except OSError:
        scan.unreadable.append(prefix.rstrip("/"))
        return
    for item in found:
        path = prefix + item.name
        try:
            facts = item.stat(follow_symlinks=False)
        except FileNotFoundError:
            continue
        old = seen.get(path)
        if (
            old is not None
            and old.mtime_ns == facts.st_mtime_ns
            and old.ctime_ns == facts.st_ctime_ns
            and old.inode == facts.st_ino
            and (old.kind != "file" or old.size == facts.st_size)
        ):
            entries[path] = old
            here.append(old)
            if old.kind == "folder":
                yield here
                here = []
                yield from _walk(item.path, path + "/", rules, scan, linked)
            continue
        if leave_out is not None and leave_out(path):
            scan.left_out.append(path)
            continue
        try:
            target = os.readlink(item.path) if item.is_symlink() else None
        except FileNotFoundError:
            continue
        kind = "link" if target is not None else _KINDS.get(stat.S_IFMT(facts.st_mode))
        if kind is None or (kind != "folder" and empty is not None and empty(path)):
            scan.left_out.append(path)
            continue
        size, sparse, same_as = 0, False, None
        if kind == "file":
            size = facts.st_size
            if rules.largest is not None and size > rules.largest:
                scan.too_large.append(path)
                continue
            if facts.st_nlink > 1:
                first = linked.setdefault((facts.st_dev, facts.st_ino), path)
                same_as = first if first != path else None
            sparse = facts.st_blocks * 512 < size
        entry = entries[path] = Entry(
            path, kind, stat.S_IMODE(facts.st_mode), facts.st_mtime_ns, size, rules.areas.area_of(path), target, (),  # type: ignore[arg-type]
            facts.st_ino, facts.st_ctime_ns, facts.st_uid, facts.st_gid, same_as, sparse,
        )  # fmt: skip
        here.append(entry)
        if kind == "folder":
            yield here
            here = []
            yield from _walk(item.path, path + "/", rules, scan, linked)
    yield here


def _facts(found: os.stat_result) -> Facts:
    return found.st_mtime_ns, found.st_ctime_ns, found.st_ino, found.st_size


def still_as_scanned(root: Path, scan: Scan) -> bool:
    """Whether nothing of what ``scan`` found has been touched since, and nothing has come or gone: the times of folders
    tell. "No" may be wrong (a folder that was changed just before it was scanned says so), "yes" is not.

    A third of what another scan takes.
    """
    fresh = scan.began_ns - _CLOCK_TICK_NS
    look, base = os.lstat, os.fspath(root) + "/"
    try:
        if scan.root[1] > fresh or _facts(look(root)) != scan.root:
            return False
        for path, entry in scan.entries.items():
            now = look(base + path)
            if entry.mtime_ns != now.st_mtime_ns or entry.ctime_ns != now.st_ctime_ns or entry.inode != now.st_ino:
                return False
            if entry.kind == "folder" and now.st_ctime_ns > fresh:
                return False
    except OSError:
        return False
    return True


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
Outcome = tuple[str, tuple[str, ...] | None, Entry | None, bool]
"""A path; the ids of its content where all else was as it had been scanned; or its entry as it was read, where not; whether it
kept changing (or, with neither, may not be read). Few bytes, since processes send them to each other."""


Batch = Sequence[tuple[Any, ...]]
"""The fields of entries, which a process sends faster to another than the entries."""


class ContentSink(Protocol):
    """Carries out ``work`` on batches, possibly several at once (see `keenharbor.store.store.ObjectWriter`); when it returns,
    ``done`` has had every outcome."""

    def work_on(
        self, batches: Iterable[Batch], size_of: Callable[[Batch], int], work: Callable[[Batch, Store], list[Outcome]],
        done: Callable[[list[Outcome]], None],
    ) -> None: ...  # fmt: skip


class Hashing:
    """A `ContentSink` that keeps nothing: it only gives contents their ids."""

    def work_on(
        self, batches: Iterable[Batch], size_of: Callable[[Batch], int], work: Callable[[Batch, Store], list[Outcome]],
        done: Callable[[list[Outcome]], None],
    ) -> None:  # fmt: skip
        for batch in batches:
            done(work(batch, self.store))

    def store(self, content: bytes, near: str | None) -> str:
        """The id of ``content``."""
        return object_id(content)


def read_content(
    root: Path, scan: Scan, sink: ContentSink, earlier: Mapping[str, Entry], have: Callable[[str], bool] | None,
    advance: Callable[[int, int], None], *, looked_at_again: bool = False,
    found: Iterator[Sequence[Entry]] | None = None,
) -> int:  # fmt: skip
    """Give each file's content to ``sink`` and note the ids in ``scan``; returns how many files were read.

    A file that ``earlier`` knows and that was not touched since is not read again, as long as every piece is still at hand
    (``have``; where that is None, all are). A file that changes while it is read is read again, at most `READ_ATTEMPTS` times;
    one that keeps changing is listed as unstable, one that has vanished is dropped, one that may not be read is listed as
    unreadable. ``advance`` gets bytes done and in all (0 while that is not known). With ``looked_at_again`` the caller will ask
    `still_as_scanned` afterwards: then a file is not looked at behind each read as well. With ``found`` the scan goes on
    while files are read (see `begin_scan`).
    """
    total = done = count = 0
    is_complete = found is None
    base = os.fspath(root) + "/"

    def taken(outcomes: list[Outcome]) -> None:
        nonlocal done
        for path, objects, entry, troubled in outcomes:
            scanned = scan.entries[path]
            done += scanned.size
            if objects is not None:
                scan.entries[path] = scanned.with_objects(objects)
            elif entry is None:
                del scan.entries[path]
                if troubled:
                    scan.unreadable.append(path)
            else:
                scan.entries[path] = entry
                if troubled:
                    scan.unstable.append(path)
        advance(done, total if is_complete else 0)

    def unread() -> Iterator[Entry]:
        nonlocal total, done, count, is_complete
        for entries in found if found is not None else [list(scan.entries.values())]:
            for entry in entries:
                total += entry.size
                if entry.kind != "file":
                    continue
                path = entry.path
                known = earlier.get(path)
                if (
                    known is not None
                    and (known is entry or entry.untouched_since(known))
                    and (have is None or all(map(have, known.objects)))
                ):
                    if known is not entry:
                        scan.entries[path] = known if known.facts == entry.facts else entry.with_objects(known.objects)
                    done += entry.size
                    continue
                count += 1
                yield entry
        is_complete = True

    with no_cycle_search():
        sink.work_on(_batches(unread()), _size_of, partial(_read_all, base, looked_at_again), taken)
    advance(total, total)
    return count


def _batches(entries: Iterable[Entry]) -> Iterator[Batch]:
    """``entries`` in batches of about one size, each of what lies together."""
    batch: list[tuple[Any, ...]] = []
    size = names = 0
    for entry in entries:
        batch.append(tuple(entry))
        size += entry.size
        names += len(entry.path)
        if len(batch) >= _BATCH_FILES or size >= _BATCH_BYTES or names >= _BATCH_NAMES:
            yield batch
            batch = []
            size = names = 0
    if batch:
        yield batch


def _size_of(batch: Batch) -> int:
    return sum([Entry._make(fields).size for fields in batch])


def _read_all(base: str, looked_at_again: bool, batch: Batch, store: Store) -> list[Outcome]:
    found: list[Outcome] = []
    look = None if looked_at_again else os.lstat
    for fields in batch:
        entry = Entry._make(fields)
        path, size, ctime = entry.path, entry.size, entry.ctime_ns
        file = base + path
        settled = False
        if 0 < size <= _SMALL:
            try:
                content = _read_small(file, size)
                settled = (
                    len(content) == size
                    # What is written within the clock's tick may be written again unnoticed.
                    and time.time_ns() - ctime >= _CLOCK_TICK_NS
                    and (look is None or _facts(look(file)) == (entry.mtime_ns, ctime, entry.inode, size))
                )
            except OSError:
                pass  # what it means is found out below
        found.append((path, (store(content, None),), None, False) if settled else _read_one(file, entry, store))
    return found


def _read_one(file: str, entry: Entry, store: Store) -> Outcome:
    unstable = False
    for attempt in range(READ_ATTEMPTS):
        try:
            if 0 < entry.size <= _SMALL:
                content = _read_small(file, entry.size)
                objects: tuple[str, ...] = (store(content, None),) if content else ()
            else:
                objects = tuple([store(piece, None) for piece in pieces(Path(file), entry.sparse)])
            facts = os.lstat(file)  # of its name: it may have been replaced
        except (FileNotFoundError, NotADirectoryError, IsADirectoryError):
            return entry.path, None, None, False  # the second scan finds what is there now
        except OSError as error:
            if error.errno == errno.ELOOP:  # it is a link now
                return entry.path, None, None, False
            if isinstance(error, PermissionError) or error.errno in _UNREADABLE:
                return entry.path, None, None, True
            raise
        same = (
            facts.st_size == entry.size and facts.st_mtime_ns == entry.mtime_ns and facts.st_ctime_ns == entry.ctime_ns
        )
        # A write that follows within the clock's tick would not show: such a file is read again the next time.
        fresh = time.time_ns() - facts.st_ctime_ns < _CLOCK_TICK_NS
        entry = Entry(
            entry.path, entry.kind, stat.S_IMODE(facts.st_mode), facts.st_mtime_ns, facts.st_size, entry.area, None, objects,
            facts.st_ino, 0 if fresh and same else facts.st_ctime_ns, facts.st_uid, facts.st_gid, entry.same_as, entry.sparse,
        )  # fmt: skip
        if same:
            break
        unstable = attempt == READ_ATTEMPTS - 1
    return entry.path, None, entry, unstable


_SMALL = 1024 * 1024


def _read_small(file: str, size: int) -> bytes:
    """A file that fits into one read."""
    descriptor = os.open(file, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        content = os.read(descriptor, size)
        while len(content) < size and (more := os.read(descriptor, size - len(content))):
            content += more
    finally:
        os.close(descriptor)
    return content


_UNREADABLE = (errno.EIO, errno.EACCES, errno.ESTALE)
"""A damaged disk or a lost share must not keep the rest from being saved; what could not be read is told of."""
