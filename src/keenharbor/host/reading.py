"""Reading a tree of files on this machine: walking it, and what is in its files. No link on the way is followed."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from operator import attrgetter
from typing import BinaryIO

from keenharbor.base.errors import UsageError
from keenharbor.host.areas import AreaRules, matcher
from keenharbor.host.entries import Entry, FileKind, Scan, Stamp
from keenharbor.host.folders import Folders
from keenharbor.host.protocol import Batch, Facts, Have, Outcome, Store, WalkRules

PIECE_SIZE = 4 * 1024 * 1024
"""Files are stored in pieces of this many bytes, so that memory stays bounded."""

READ_ATTEMPTS = 3
_NO_PIECE = bytes(PIECE_SIZE)
_CLOCK_TICK_NS = 20_000_000
"""Times of files are this coarse (the kernel's tick, with room): two writes within it may leave the same time."""
_SMALL = 1024 * 1024
_MOST_LINKS = 40
_UNREADABLE = (errno.EIO, errno.EACCES, errno.ESTALE)
"""A damaged disk or a lost share must not keep the rest from being saved; what could not be read is told of."""
_KINDS: dict[int, FileKind] = {stat.S_IFREG: "file", stat.S_IFDIR: "folder", stat.S_IFLNK: "link"}


def stamp_of(found: os.stat_result) -> Stamp:
    """Which file it is, and when anything of it was last changed: its inode's number and the time of its change."""
    return f"{found.st_ino:x}-{found.st_ctime_ns:x}"


@dataclass(frozen=True)
class _Rules:
    areas: AreaRules
    leave_out: Callable[[str], object] | None
    empty: Callable[[str], object] | None
    largest: int | None
    seen: Mapping[str, Entry]


class ReadTree:
    """A tree on this machine (see `keenharbor.host.protocol.ReadFiles`)."""

    forks = True

    def __init__(self, place: str, *, leads_out: bool = False) -> None:
        """With ``leads_out``, what is asked for `through_links` may lie outside: for paths that a person named."""
        self._place, self._leads_out = place, leads_out

    @property
    def place(self) -> str:
        return self._place

    # -- the whole of it ---------------------------------------------------------------------------------------

    def begin_walk(self, rules: WalkRules) -> tuple[Scan, Iterator[Sequence[Entry]]]:
        try:
            found = os.stat(self._place)
        except OSError:
            found = None
        if found is None or not stat.S_ISDIR(found.st_mode):
            raise UsageError(
                "the site's folder is not there", where=self._place, advice="correct 'root' in the site file"
            )
        scan = Scan(root=stamp_of(found), began_ns=time.time_ns())
        chosen = _Rules(
            rules.areas, matcher(tuple(rules.leave_out)).fullmatch if rules.leave_out else None,
            matcher(tuple(rules.empty)).fullmatch if rules.empty else None, rules.largest, rules.seen or {},
        )  # fmt: skip
        return scan, self._walk(chosen, scan)

    def _walk(self, rules: _Rules, scan: Scan) -> Iterator[Sequence[Entry]]:
        top = os.open(self._place, _FOLDER)
        try:
            yield from _walk(top, "", rules, scan, {})
        finally:
            os.close(top)

    def still_as_walked(self, scan: Scan) -> bool:
        """Folders' times tell what has come or gone. A third of what another walk takes."""
        fresh = scan.began_ns - _CLOCK_TICK_NS
        try:
            top = os.stat(self._place)
            if top.st_ctime_ns > fresh or stamp_of(top) != scan.root:
                return False
            with Folders(self._place) as folders:
                here, at = "", folders.of("")
                for path, entry in scan.entries.items():
                    above, _, name = path.rpartition("/")
                    if above != here:
                        here, at = above, folders.of(above)
                    now = os.stat(name, dir_fd=at, follow_symlinks=False)
                    if entry.mtime_ns != now.st_mtime_ns or entry.stamp != stamp_of(now):
                        return False
                    if entry.kind == "folder" and now.st_ctime_ns > fresh:
                        return False
        except OSError:
            return False
        return True

    def read_batch(
        self, looked_at_again: bool, batch: Batch, store: Store, *, have: Have | None = None
    ) -> list[Outcome]:
        found: list[Outcome] = []
        with Folders(self._place) as folders:
            for fields in batch:
                entry = Entry._make(fields)
                settled = None
                if 0 < entry.size <= _SMALL:
                    with contextlib.suppress(OSError):  # what it means is found out below
                        settled = _read_settled(folders, entry, looked_at_again)
                if settled is not None:
                    found.append((entry.path, (store(settled, None),), None, False))
                else:
                    found.append(_read_one(folders, entry, store))
        return found

    # -- single paths ------------------------------------------------------------------------------------------

    def look(self, path: str, *, through_links: bool = False) -> Facts | None:
        try:
            if not path or (through_links and self._leads_out):
                found = os.stat(f"{self._place}/{path}")
            else:
                with Folders(self._place) as folders:
                    parent, name = folders.above(self._resolved(folders, path) if through_links else path)
                    found = os.stat(name, dir_fd=parent, follow_symlinks=False)
        except (FileNotFoundError, NotADirectoryError):
            return None
        except OSError as error:
            if error.errno == errno.ELOOP:
                return None
            raise
        return Facts(
            _KINDS.get(stat.S_IFMT(found.st_mode)), stat.S_IMODE(found.st_mode), found.st_size, found.st_mtime_ns,
            stamp_of(found), found.st_nlink > 1, str(found.st_dev),
        )  # fmt: skip

    def names(self, path: str, *, through_links: bool = False) -> list[str]:
        if through_links and self._leads_out:
            return sorted(os.listdir(f"{self._place}/{path}"))
        with Folders(self._place) as folders:
            at = folders.of(self._resolved(folders, path) if through_links and path else path)
            return sorted(os.listdir(at))

    def target(self, path: str) -> str:
        with Folders(self._place) as folders:
            parent, name = folders.above(path)
            return os.readlink(name, dir_fd=parent)

    def open(self, path: str, *, through_links: bool = False) -> BinaryIO:
        if through_links and self._leads_out:
            with Folders(os.path.dirname(os.path.realpath(f"{self._place}/{path}"))) as folders:
                name = os.path.basename(os.path.realpath(f"{self._place}/{path}"))
                return os.fdopen(open_file(folders.of(""), name), "rb")
        with Folders(self._place) as folders:
            parent, name = folders.above(self._resolved(folders, path) if through_links else path)
            return os.fdopen(open_file(parent, name), "rb")

    def leads_to(self, path: str) -> str:
        with Folders(self._place) as folders:
            return self._resolved(folders, path)

    def may_write(self, path: str) -> bool:
        try:
            with Folders(self._place) as folders:
                if not path:
                    return os.access(".", os.W_OK, dir_fd=folders.of(""))
                parent, name = folders.above(path)
                return os.access(name, os.W_OK, dir_fd=parent, follow_symlinks=True)
        except OSError:
            return False

    def free_bytes(self) -> int:
        found = os.statvfs(self._place)
        return found.f_bavail * found.f_frsize

    def _resolved(self, folders: Folders, path: str) -> str:
        """``path`` with every link in it followed. Raises OSError (ELOOP) where one leads out of the tree."""
        left, done, links = path.split("/")[::-1], list[str](), 0
        while left:
            name = left.pop()
            if name in ("", "."):
                continue
            if name == "..":
                if not done:
                    raise OSError(errno.ELOOP, "it leads out of the tree", path)
                done.pop()
                continue
            here = "/".join([*done, name])
            parent, _ = folders.above(here)
            try:
                target = os.readlink(name, dir_fd=parent)
            except OSError as error:
                if error.errno != errno.EINVAL:  # what is no link
                    raise
                done.append(name)
                continue
            links += 1
            if links > _MOST_LINKS:
                raise OSError(errno.ELOOP, "too many links", path)
            if target.startswith("/"):
                inside = os.path.normpath(target) if os.path.normpath(target) == target.rstrip("/") else ""
                if not (inside + "/").startswith(self._place.rstrip("/") + "/"):
                    raise OSError(errno.ELOOP, "it leads out of the tree", path)
                done, target = [], inside[len(self._place.rstrip("/")) :]
            left.extend(target.split("/")[::-1])
        if not done:
            raise IsADirectoryError(errno.EISDIR, "it is a folder", path)
        return "/".join(done)


_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC


def _walk(
    folder: int, prefix: str, rules: _Rules, scan: Scan, linked: dict[tuple[int, int], str]
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
        except OSError:
            continue
        stamp = f"{facts.st_ino:x}-{facts.st_ctime_ns:x}"
        entry = seen.get(path)
        if (
            entry is None
            or entry.stamp != stamp
            or entry.mtime_ns != facts.st_mtime_ns
            or (entry.kind == "file" and entry.size != facts.st_size)
        ):
            if leave_out is not None and leave_out(path):
                scan.left_out.append(path)
                continue
            entry = _entry_of(folder, item.name, path, facts, stamp, rules, scan, linked, empty)
            if entry is None:
                continue
        entries[path] = entry
        here.append(entry)
        if entry.kind == "folder":
            yield here
            here = []
            try:
                below = os.open(item.name, _FOLDER | os.O_NOFOLLOW, dir_fd=folder)
            except OSError as error:
                if error.errno in (errno.ELOOP, errno.ENOTDIR, errno.ENOENT):  # it is no folder any more
                    continue
                scan.unreadable.append(path)
                continue
            try:
                yield from _walk(below, path + "/", rules, scan, linked)
            finally:
                os.close(below)
    yield here


def _entry_of(
    folder: int, name: str, path: str, facts: os.stat_result, stamp: Stamp, rules: _Rules, scan: Scan,
    linked: dict[tuple[int, int], str], empty: Callable[[str], object] | None,
) -> Entry | None:  # fmt: skip
    """A path as it was found; None for what is not taken, which is noted in ``scan``."""
    kind = _KINDS.get(stat.S_IFMT(facts.st_mode))
    if kind is None or (kind != "folder" and empty is not None and empty(path)):
        scan.left_out.append(path)
        return None
    target, size, sparse, same_as = None, 0, False, None
    if kind == "link":
        try:
            target = os.readlink(name, dir_fd=folder)
        except OSError:
            return None
    elif kind == "file":
        size = facts.st_size
        if rules.largest is not None and size > rules.largest:
            scan.too_large.append(path)
            return None
        if facts.st_nlink > 1:
            first = linked.setdefault((facts.st_dev, facts.st_ino), path)
            same_as = first if first != path else None
        sparse = facts.st_blocks * 512 < size
    return Entry(
        path, kind, stat.S_IMODE(facts.st_mode), facts.st_mtime_ns, size, rules.areas.area_of(path), target, (), stamp,
        facts.st_uid, facts.st_gid, same_as, sparse,
    )  # fmt: skip


def open_file(folder: int, name: str) -> int:
    """A plain file in an open folder, for reading. Raises OSError for anything else (ELOOP for a link)."""
    # A pipe would be waited for, were it opened without O_NONBLOCK.
    descriptor = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK, dir_fd=folder)
    if not stat.S_ISREG(os.fstat(descriptor).st_mode):
        os.close(descriptor)
        raise OSError(errno.EINVAL, "it is no plain file", name)
    return descriptor


def pieces_of(descriptor: int, sparse: bool = False) -> Iterator[bytes]:
    """The content of an open file in pieces of at most `PIECE_SIZE` bytes; of a ``sparse`` one, holes are not read. The
    descriptor is closed at the end.

    Not more than the file had when it was opened: one that grows as fast as it is read (a log) would never end.
    """
    with os.fdopen(descriptor, "rb", buffering=0) as source:
        left = os.fstat(descriptor).st_size
        at = 0
        while left > 0:
            want = min(PIECE_SIZE, left)
            if sparse and want == PIECE_SIZE and _is_hole(descriptor, at, want):
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


def _read_settled(folders: Folders, entry: Entry, looked_at_again: bool) -> bytes | None:
    """A small file's content, when it was surely that of its entry all the time."""
    parent, name = folders.above(entry.path)
    content = _read_small(parent, name, entry.size)
    # What is written within the clock's tick may be written again unnoticed.
    if len(content) != entry.size or time.time_ns() - _changed_ns(entry.stamp) < _CLOCK_TICK_NS:
        return None
    if not looked_at_again:
        now = os.stat(name, dir_fd=parent, follow_symlinks=False)
        if (now.st_mtime_ns, stamp_of(now), now.st_size) != (entry.mtime_ns, entry.stamp, entry.size):
            return None
    return content


def _changed_ns(stamp: Stamp) -> int:
    return int(stamp.partition("-")[2] or "0", 16)


def _read_one(folders: Folders, entry: Entry, store: Store) -> Outcome:
    unstable = False
    for attempt in range(READ_ATTEMPTS):
        try:
            parent, name = folders.above(entry.path)
            if 0 < entry.size <= _SMALL:
                content = _read_small(parent, name, entry.size)
                objects: tuple[str, ...] = (store(content, None),) if content else ()
            else:
                objects = tuple([store(piece, None) for piece in pieces_of(open_file(parent, name), entry.sparse)])
            facts = os.stat(name, dir_fd=parent, follow_symlinks=False)  # of its name: it may have been replaced
        except (FileNotFoundError, NotADirectoryError, IsADirectoryError):
            return entry.path, None, None, False  # the second scan finds what is there now
        except OSError as error:
            if error.errno in (errno.ELOOP, errno.EINVAL):  # it is a link now, or no file any more
                return entry.path, None, None, False
            if isinstance(error, PermissionError) or error.errno in _UNREADABLE:
                return entry.path, None, None, True
            raise
        same = (facts.st_size, facts.st_mtime_ns, stamp_of(facts)) == (entry.size, entry.mtime_ns, entry.stamp)
        # A write that follows within the clock's tick would not show: such a file is read again the next time.
        fresh = time.time_ns() - facts.st_ctime_ns < _CLOCK_TICK_NS
        entry = Entry(
            entry.path, entry.kind, stat.S_IMODE(facts.st_mode), facts.st_mtime_ns, facts.st_size, entry.area, None,
            objects,
            "" if fresh and same else stamp_of(facts), facts.st_uid, facts.st_gid, entry.same_as, entry.sparse,
        )  # fmt: skip
        if same:
            break
        unstable = attempt == READ_ATTEMPTS - 1
    return entry.path, None, entry, unstable


def _read_small(folder: int, name: str, size: int) -> bytes:
    """A file that fits into one read."""
    descriptor = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK, dir_fd=folder)
    try:
        content = os.read(descriptor, size)
        while len(content) < size and (more := os.read(descriptor, size - len(content))):
            content += more
    finally:
        os.close(descriptor)
    return content
