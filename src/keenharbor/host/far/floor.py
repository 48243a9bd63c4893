"""A tree of files on a machine that offers nothing but file transfer (SFTP): slower, and of files alone.

Its protocol tells whole seconds and no inode (draft-ietf-secsh-filexfer-02): a file counts as untouched when size, mode
and time are as they were and the time lies some seconds back. It knows no open folders, either: that no link stands on
the way to a path is made sure of just before it is used."""

from __future__ import annotations

import asyncio
import contextlib
import errno
import io
import os
import stat
import time
from collections.abc import Awaitable, Callable, Iterator, Sequence
from functools import partial
from operator import methodcaller
from typing import TYPE_CHECKING, Any, BinaryIO, TypeVar

from keenharbor.base.errors import UsageError
from keenharbor.host.areas import matcher
from keenharbor.host.entries import Entry, FileKind, Scan
from keenharbor.host.far.asking import nonsense
from keenharbor.host.far.files import MOST_PATHS
from keenharbor.host.far.line import Line
from keenharbor.host.far.trees import walk_order
from keenharbor.host.protocol import Batch, Facts, Have, Outcome, Store, WalkRules
from keenharbor.host.writing import is_leftover, staged_name

if TYPE_CHECKING:
    from asyncssh import SFTPAttrs, SFTPClient

T = TypeVar("T")
_AT_ONCE = 16
_PIECE = 4 * 1024 * 1024
_SETTLED_SECONDS = 3
_KINDS: dict[int, FileKind] = {stat.S_IFREG: "file", stat.S_IFDIR: "folder", stat.S_IFLNK: "link"}
_MOST_LINKS = 40


def _kind(attrs: SFTPAttrs) -> FileKind | None:
    return _KINDS.get(stat.S_IFMT(attrs.permissions or 0))


def _bytes(content: str | bytes) -> bytes:
    return content if isinstance(content, bytes) else content.encode()


def _stamp(attrs: SFTPAttrs) -> str:
    if time.time() - (attrs.mtime or 0) < _SETTLED_SECONDS:
        return ""
    return f"{attrs.mtime}.{attrs.size}.{attrs.permissions}"


class FloorReading:
    """See `keenharbor.host.protocol.ReadFiles`."""

    forks = False

    def __init__(self, line: Line, place: str, *, leads_out: bool = False) -> None:
        self._line, self._place, self._leads_out = line, place, leads_out

    @property
    def place(self) -> str:
        return self._place

    @property
    def _told(self) -> str:
        return f"{self._line.door.told}:{self._place}"

    def _at(self, path: str) -> bytes:
        return os.fsencode(f"{self._place.rstrip('/')}/{path}" if path else self._place)

    def _do(self, work: Callable[[SFTPClient], Awaitable[T]]) -> T:
        """Carry out ``work``. Raises OSError for what the server refuses, `LineError` where the line breaks."""
        import asyncssh

        try:
            found: T = self._line.do(self._with(work))
            return found
        except asyncssh.SFTPNoSuchFile as error:
            raise FileNotFoundError(errno.ENOENT, error.reason or "it is not there") from None
        except asyncssh.SFTPPermissionDenied as error:
            raise PermissionError(errno.EACCES, error.reason or "permission denied") from None
        except (asyncssh.SFTPNoSpaceOnFilesystem, asyncssh.SFTPQuotaExceeded) as error:
            raise OSError(errno.ENOSPC, error.reason or "no space is left") from None
        except (asyncssh.SFTPNotADirectory, asyncssh.SFTPFileAlreadyExists, asyncssh.SFTPFailure) as error:
            raise OSError(errno.EIO, error.reason or "the server refuses it") from None
        except asyncssh.SFTPError as error:
            raise OSError(errno.EIO, f"{self._line.door.told}: {error.reason}") from None

    async def _with(self, work: Callable[[SFTPClient], Awaitable[T]]) -> T:
        return await work(await self._line.transfer())

    # -- the whole of it ---------------------------------------------------------------------------------------

    def begin_walk(self, rules: WalkRules) -> tuple[Scan, Iterator[Sequence[Entry]]]:
        try:
            top = self._do(lambda client: client.stat(self._at("")))
        except FileNotFoundError:
            top = None
        if top is None or _kind(top) != "folder":
            raise UsageError(
                "the site's folder is not there", where=self._told, advice="correct 'root' in the site file"
            )
        scan = Scan(root=_stamp(top), began_ns=time.time_ns())
        return scan, self._walk(rules, scan)

    def _walk(self, rules: WalkRules, scan: Scan) -> Iterator[Sequence[Entry]]:
        leave_out = matcher(tuple(rules.leave_out)).fullmatch if rules.leave_out else None
        empty = matcher(tuple(rules.empty)).fullmatch if rules.empty else None
        waiting = [""]
        while waiting:
            folders, waiting = waiting[:_AT_ONCE], waiting[_AT_ONCE:]
            for folder, found in zip(folders, self._line.repeated(partial(self._listed, folders)), strict=True):
                if found is None:
                    scan.unreadable.append(folder)
                    continue
                here = []
                for name, attrs, target in found:
                    path = f"{folder}/{name}" if folder else name
                    kind = _kind(attrs)
                    left = leave_out is not None and leave_out(path)
                    if left or kind is None or (kind != "folder" and empty is not None and empty(path)):
                        scan.left_out.append(path)
                        continue
                    size = (attrs.size or 0) if kind == "file" else 0
                    if rules.largest is not None and size > rules.largest:
                        scan.too_large.append(path)
                        continue
                    here.append(
                        Entry(
                            path, kind, stat.S_IMODE(attrs.permissions or 0), (attrs.mtime or 0) * 1_000_000_000, size,
                            rules.areas.area_of(path), target, (), _stamp(attrs),
                            -1 if attrs.uid is None else attrs.uid, -1 if attrs.gid is None else attrs.gid,
                        )
                    )  # fmt: skip
                    scan.entries[path] = here[-1]
                    if kind == "folder":
                        waiting.append(path)
                if len(scan.entries) > MOST_PATHS:
                    raise nonsense(self._told)
                yield here
        ordered = walk_order(scan.entries)
        scan.entries.clear()
        scan.entries.update(ordered)

    def _listed(self, folders: Sequence[str]) -> list[list[tuple[str, SFTPAttrs, str | None]] | None]:
        async def one(client: SFTPClient, folder: str) -> list[tuple[str, SFTPAttrs, str | None]] | None:
            import asyncssh

            found: list[tuple[str, SFTPAttrs, str | None]] = []
            try:
                async for item in client.scandir(self._at(folder)):
                    name = os.fsdecode(item.filename)
                    if name in (".", ".."):
                        continue
                    if "/" in name or "\0" in name or not name:
                        raise nonsense(self._told)
                    target = None
                    if _kind(item.attrs) == "link":
                        below = f"{folder}/{name}" if folder else name
                        target = os.fsdecode(await client.readlink(self._at(below)))
                    found.append((name, item.attrs, target))
                    if len(found) > MOST_PATHS:
                        raise nonsense(self._told)
            except (asyncssh.SFTPPermissionDenied, asyncssh.SFTPNoSuchFile, asyncssh.SFTPFailure):
                return None
            return sorted(found, key=lambda item: item[0])

        async def all_of_them(client: SFTPClient) -> Any:
            return await asyncio.gather(*(one(client, folder) for folder in folders))

        return list(self._do(all_of_them))

    def still_as_walked(self, scan: Scan) -> bool:
        """Only another walk could tell."""
        return False

    def read_batch(
        self, looked_at_again: bool, batch: Batch, store: Store, *, have: Have | None = None
    ) -> list[Outcome]:
        entries = [Entry._make(fields) for fields in batch]
        return self._line.repeated(lambda: self._read(entries, store))

    def _read(self, entries: Sequence[Entry], store: Store) -> list[Outcome]:
        small = [e for e in entries if e.size <= _PIECE]
        contents: dict[str, tuple[bytes, SFTPAttrs] | OSError | None] = {}
        gate = asyncio.Semaphore(_AT_ONCE)

        async def one(client: SFTPClient, entry: Entry) -> None:
            import asyncssh

            async with gate:
                try:
                    async with client.open(self._at(entry.path), "rb") as file:
                        content = await file.read(entry.size) if entry.size else b""
                    contents[entry.path] = _bytes(content), await client.lstat(self._at(entry.path))
                except asyncssh.SFTPNoSuchFile:
                    contents[entry.path] = None
                except (asyncssh.SFTPPermissionDenied, asyncssh.SFTPFailure):
                    contents[entry.path] = PermissionError(errno.EACCES, "it may not be read", entry.path)

        async def all_of_them(client: SFTPClient) -> None:
            await asyncio.gather(*(one(client, entry) for entry in small))

        self._do(all_of_them)
        outcomes = []
        for entry in entries:
            if entry.size > _PIECE:
                outcomes.append(self._read_large(entry, store))
                continue
            match contents[entry.path]:
                case None:
                    outcomes.append((entry.path, None, None, False))
                case (content, facts):
                    ids = (store(content, None),) if content else ()
                    outcomes.append(self._outcome(entry, ids, facts))
                case _:
                    outcomes.append((entry.path, None, None, True))
        return outcomes

    def _read_large(self, entry: Entry, store: Store) -> Outcome:
        ids: list[str] = []
        try:
            for at in range(0, entry.size, _PIECE):
                content = self._part(entry.path, at, min(_PIECE, entry.size - at))
                if not content:
                    break
                ids.append(store(content, None))
            facts = self._do(lambda client: client.lstat(self._at(entry.path)))
        except FileNotFoundError:
            return entry.path, None, None, False
        except OSError:
            return entry.path, None, None, True
        return self._outcome(entry, tuple(ids), facts)

    def _outcome(self, entry: Entry, ids: tuple[str, ...], facts: SFTPAttrs) -> Outcome:
        if _kind(facts) != "file":
            return entry.path, None, None, False
        same = (facts.size, (facts.mtime or 0) * 1_000_000_000) == (entry.size, entry.mtime_ns)
        if same:
            return entry.path, ids, None, False
        changed = entry._replace(
            size=facts.size or 0, mtime_ns=(facts.mtime or 0) * 1_000_000_000, objects=ids, stamp=""
        )
        return entry.path, None, changed, True

    def _part(self, path: str, at: int, count: int) -> bytes:
        async def read(client: SFTPClient) -> bytes:
            async with client.open(self._at(path), "rb") as file:
                return _bytes(await file.read(count, at))

        return self._do(read)

    # -- single paths ------------------------------------------------------------------------------------------

    def _on_the_way(self, path: str) -> None:
        """Make sure that no link stands on the way. Raises OSError."""
        above = path
        while above := above.rpartition("/")[0]:
            if _kind(self._do(methodcaller("lstat", self._at(above)))) != "folder":
                raise NotADirectoryError(errno.ENOTDIR, "a link or a file stands on the way", path)

    def _resolved(self, path: str) -> str:
        """``path`` as it is once links are followed, which may lead out only where that was asked for."""
        real = os.fsdecode(self._do(lambda client: client.realpath(self._at(path))))
        top = os.fsdecode(self._do(lambda client: client.realpath(self._at(""))))
        if real != top and not real.startswith(top.rstrip("/") + "/"):
            if self._leads_out:
                return real
            raise OSError(errno.ELOOP, "it leads out of the tree", path)
        return real

    def look(self, path: str, *, through_links: bool = False) -> Facts | None:
        try:
            if path and not through_links:
                self._on_the_way(path)
                attrs = self._do(lambda client: client.lstat(self._at(path)))
            else:
                if path:
                    self._resolved(path)
                attrs = self._do(lambda client: client.stat(self._at(path)))
        except (FileNotFoundError, NotADirectoryError):
            return None
        except OSError as error:
            if error.errno == errno.ELOOP:
                return None
            raise
        return Facts(
            _kind(attrs), stat.S_IMODE(attrs.permissions or 0), attrs.size or 0, (attrs.mtime or 0) * 1_000_000_000,
            _stamp(attrs), False, "",
        )  # fmt: skip

    def names(self, path: str, *, through_links: bool = False) -> list[str]:
        if path and through_links:
            self._resolved(path)
        elif path:
            self._on_the_way(f"{path}/.")
        found = self._do(lambda client: client.listdir(self._at(path)))
        return sorted(n for n in map(os.fsdecode, found) if n not in (".", "..") and "/" not in n)

    def target(self, path: str) -> str:
        return os.fsdecode(self._do(lambda client: client.readlink(self._at(path))))

    def open(self, path: str, *, through_links: bool = False) -> BinaryIO:
        found = self.look(path, through_links=through_links)
        if found is None:
            raise FileNotFoundError(errno.ENOENT, "it is not there", path)
        if found.kind != "file":
            raise OSError(errno.EINVAL, "it is no plain file", path)
        return io.BytesIO(b"".join(self._part(path, at, _PIECE) for at in range(0, found.size, _PIECE)))

    def real(self, path: str) -> str:
        """Where a path is once all links are followed."""
        return os.fsdecode(self._do(lambda client: client.realpath(self._at(path))))

    def leads_to(self, path: str) -> str:
        real = self._resolved(path)
        top = os.fsdecode(self._do(lambda client: client.realpath(self._at("")))).rstrip("/")
        if not real.startswith(top + "/"):
            raise OSError(errno.ELOOP, "it leads out of the tree", path)
        return real[len(top) + 1 :]

    def may_write(self, path: str) -> bool:
        """Whether it looks so; only writing would show it."""
        try:
            attrs = self._do(lambda client: client.stat(self._at(path)))
        except OSError:
            return False
        return bool((attrs.permissions or 0) & 0o222)

    def free_bytes(self) -> int:
        try:
            found = self._do(lambda client: client.statvfs(self._at("")))
        except OSError:  # a server need not tell
            return 1 << 62
        return int(found.bavail * found.frsize)


class FloorChanging:
    """See `keenharbor.host.protocol.Changes`; each is done before the next."""

    def __init__(self, files: FloorFiles) -> None:
        self._files = files
        self._folders: set[str] = {""}

    def _folder(self, path: str) -> None:
        if path in self._folders:
            return
        self._folder(path.rpartition("/")[0])
        files = self._files
        try:
            found = files._do(lambda client: client.lstat(files._at(path)))
        except FileNotFoundError:
            files._do(lambda client: client.mkdir(files._at(path)))
        else:
            if _kind(found) != "folder":
                raise NotADirectoryError(errno.ENOTDIR, "a link or a file stands on the way", path)
        self._folders.add(path)

    def _write(self, path: str, entry: Entry, read: Callable[[str], bytes]) -> None:
        files = self._files
        self._folder(path.rpartition("/")[0])
        first = True
        at = 0
        for content in (
            [read(identity) for identity in entry.objects] if entry.size <= _PIECE else map(read, entry.objects)
        ):
            files._put(path, content, at, first)
            at, first = at + len(content), False
        if first:
            files._put(path, b"", 0, True)
        files._facts(path, entry.mode, entry.mtime_ns)

    def stage(self, entry: Entry, read: Callable[[str], bytes]) -> str:
        above, _, name = entry.path.rpartition("/")
        path = f"{above}/{staged_name(name)}" if above else staged_name(name)
        try:
            self._write(path, entry, read)
        except BaseException:
            with contextlib.suppress(OSError):
                self.remove(path)
            raise
        return path

    def write_there(self, entry: Entry, read: Callable[[str], bytes]) -> None:
        self._write(entry.path, entry, read)

    def put(self, staged: str, path: str) -> None:
        files = self._files
        self._folder(path.rpartition("/")[0])
        files._do(lambda client: client.posix_rename(files._at(staged), files._at(path)))

    def make_folder(self, path: str) -> None:
        self._folder(path)

    def make_link(self, entry: Entry) -> None:
        files = self._files
        above, _, name = entry.path.rpartition("/")
        self._folder(above)
        staged = f"{above}/{staged_name(name)}" if above else staged_name(name)
        files._do(lambda client: client.symlink(os.fsencode(entry.target or ""), files._at(staged)))
        files._do(lambda client: client.posix_rename(files._at(staged), files._at(entry.path)))

    def same_file(self, entry: Entry) -> bool:
        """It is written twice: links of files are not told by this protocol."""
        return False

    def set_facts(self, entry: Entry, *, owner: bool = True, times: bool = True) -> None:
        if entry.kind != "link":
            self._files._facts(entry.path, entry.mode, entry.mtime_ns if times else None)

    def remove(self, path: str) -> None:
        files = self._files
        with contextlib.suppress(FileNotFoundError, NotADirectoryError):
            files._on_the_way(path)
            files._do(lambda client: client.remove(files._at(path)))

    def remove_folder(self, path: str) -> bool:
        files = self._files
        self._folders = {f for f in self._folders if f != path and not f.startswith(path + "/")}
        try:
            files._on_the_way(path)
            files._do(lambda client: client.rmdir(files._at(path)))
        except (FileNotFoundError, NotADirectoryError):
            return True
        except OSError:
            return False
        return True


class FloorFiles(FloorReading):
    """See `keenharbor.host.protocol.Files`."""

    @contextlib.contextmanager
    def changing(self) -> Iterator[FloorChanging]:
        yield FloorChanging(self)

    def _put(self, path: str, content: bytes, at: int, first: bool) -> None:
        async def write(client: SFTPClient) -> None:
            async with client.open(self._at(path), "xb" if first else "r+b") as file:
                await file.write(content, at)

        self._do(write)

    def _facts(self, path: str, mode: int | None, mtime_ns: int | None) -> None:
        async def change(client: SFTPClient) -> None:
            if mode is not None:
                await client.chmod(self._at(path), mode)
            if mtime_ns is not None:
                seconds = mtime_ns // 1_000_000_000
                await client.utime(self._at(path), (seconds, seconds))

        self._do(change)

    def write(self, path: str, content: bytes, mode: int | None = None, *, durable: bool = False) -> None:
        there = self.look(path)
        kept = there.mode if there is not None and there.kind == "file" else 0o644
        entry = Entry(path, "file", kept if mode is None else mode, time.time_ns(), len(content), objects=("",))
        with self.changing() as changes:
            staged = changes.stage(entry, lambda identity: content)
            try:
                changes.put(staged, path)
            except BaseException:
                changes.remove(staged)
                raise

    def add(self, path: str, content: bytes) -> None:
        """Make a file that is not there yet. Raises OSError where it is."""
        self._put(path, content, 0, True)
        self._facts(path, 0o600, None)

    def remove_empty(self) -> None:
        """Remove the tree's top and the folder in which it is, as far as nothing is in them."""
        for place in (self._place, self._place.rpartition("/")[0]):
            self._do(methodcaller("rmdir", os.fsencode(place)))

    def overwrite(self, path: str, content: bytes, mtime_ns: int) -> None:
        async def write(client: SFTPClient) -> None:
            async with client.open(self._at(path), "wb") as file:
                await file.write(content)

        self._on_the_way(path)
        self._do(write)
        self._facts(path, None, mtime_ns)

    def remove(self, path: str) -> None:
        with self.changing() as changes:
            changes.remove(path)

    def prune(self, path: str) -> None:
        with self.changing() as changes:
            while path := path.rpartition("/")[0]:
                if not changes.remove_folder(path):
                    return

    def clear(self, path: str, *, keep: bool = True) -> None:
        found = self.look(path)
        if found is None or found.kind != "folder":
            return
        with self.changing() as changes:
            for name in self.names(path):
                below = f"{path}/{name}"
                facts = self.look(below)
                if facts is not None and facts.kind == "folder":
                    self.clear(below, keep=keep)
                else:
                    changes.remove(below)
            if not keep:
                changes.remove_folder(path)

    def make_root(self) -> bool:
        self._do(lambda client: client.makedirs(self._at(""), exist_ok=True))
        return not self.names("")

    def relink(self, path: str, target: str) -> None:
        with self.changing() as changes:
            changes.make_link(Entry(path, "link", 0o777, 0, target=target))

    def leftovers(self) -> list[str]:
        from keenharbor.host.areas import AreaRules

        scan, found = self.begin_walk(WalkRules(AreaRules({})))
        for _ in found:
            pass
        return sorted(path for path, entry in scan.entries.items() if entry.kind != "folder" and is_leftover(path))

    def sync(self) -> None:
        """The protocol has nothing of the kind for a whole disk."""
