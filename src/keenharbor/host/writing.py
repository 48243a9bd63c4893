"""Changing a tree of files on this machine. No link on the way is followed: a change reaches the tree or nothing."""

from __future__ import annotations

import contextlib
import os
import re
import secrets
import stat
from collections.abc import Callable, Iterator
from typing import BinaryIO

from keenharbor.host.entries import Entry
from keenharbor.host.folders import Folders, remove_all
from keenharbor.host.reading import ReadTree

_NEW_FILE = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
_PAGE = bytes(4096)
_LEFTOVER = re.compile(r"(?:.*/)?\.[^/]+\.\d+-[0-9a-f]{8}\.part")
_LONGEST_NAME = 255


def staged_name(name: str) -> str:
    """A name beside ``name`` that no other writer uses."""
    end = f".{os.getpid()}-{secrets.token_hex(4)}.part"
    room = _LONGEST_NAME - len(end) - 1
    return "." + os.fsdecode(os.fsencode(name)[:room]) + end


def is_leftover(path: str) -> bool:
    """Whether a path is named as `staged_name` names what is being written: when nobody writes, it was left behind."""
    return _LEFTOVER.fullmatch(path) is not None


class Changing:
    """See `keenharbor.host.protocol.Changes`."""

    def __init__(self, folders: Folders) -> None:
        self._folders = folders
        self._owns = os.geteuid() == 0

    def stage(self, entry: Entry, read: Callable[[str], bytes], staged: str | None = None) -> str:
        """As the protocol has it; ``staged`` is the name that it gets, where that was chosen elsewhere."""
        above, _, name = entry.path.rpartition("/")
        staged = staged or staged_name(name)
        path = f"{above}/{staged}" if above else staged
        parent = self._folders.of(above)
        try:
            self._write(parent, staged, entry, read)
        except BaseException:
            with contextlib.suppress(OSError):
                os.unlink(staged, dir_fd=parent)
            raise
        return path

    def write_there(self, entry: Entry, read: Callable[[str], bytes]) -> None:
        parent, name = self._folders.above(entry.path)
        self._write(parent, name, entry, read)

    def _write(self, parent: int, name: str, entry: Entry, read: Callable[[str], bytes]) -> None:
        descriptor = os.open(name, _NEW_FILE, 0o600, dir_fd=parent)
        try:
            if entry.sparse:
                with os.fdopen(os.dup(descriptor), "wb") as out:
                    for identity in entry.objects:
                        _write_sparse(out, read(identity))
                    out.truncate(entry.size)
            else:
                for identity in entry.objects:
                    write_whole(descriptor, read(identity))
            self._give_owner(descriptor, entry)
            os.fchmod(descriptor, entry.mode)
            os.utime(descriptor, ns=(entry.mtime_ns, entry.mtime_ns))
        finally:
            os.close(descriptor)

    def _give_owner(self, descriptor: int, entry: Entry) -> None:
        """Where this user may; others' files belong to who restores them."""
        if self._owns and entry.uid >= 0:
            os.fchown(descriptor, entry.uid, entry.gid)

    def put(self, staged: str, path: str) -> None:
        parent, name = self._folders.above(path)
        os.rename(staged.rpartition("/")[2], name, src_dir_fd=parent, dst_dir_fd=parent)
        self._folders.forget(path)

    def make_folder(self, path: str) -> None:
        self._folders.of(path, make=True)

    def make_link(self, entry: Entry) -> None:
        parent, name = self._folders.above(entry.path, make=True)
        staged = staged_name(name)
        os.symlink(entry.target or "", staged, dir_fd=parent)
        try:
            if self._owns and entry.uid >= 0:
                os.chown(staged, entry.uid, entry.gid, dir_fd=parent, follow_symlinks=False)
            os.utime(staged, ns=(entry.mtime_ns, entry.mtime_ns), dir_fd=parent, follow_symlinks=False)
            os.rename(staged, name, src_dir_fd=parent, dst_dir_fd=parent)
        except BaseException:
            with contextlib.suppress(OSError):
                os.unlink(staged, dir_fd=parent)
            raise
        self._folders.forget(entry.path)

    def same_file(self, entry: Entry) -> bool:
        try:
            first, first_name = self._folders.above(str(entry.same_as))
            first = os.dup(first)  # what is asked for next may close it
        except OSError:
            return False
        try:
            there = os.stat(first_name, dir_fd=first, follow_symlinks=False)
            if not stat.S_ISREG(there.st_mode) or there.st_size != entry.size:
                return False
            parent, name = self._folders.above(entry.path, make=True)
            with contextlib.suppress(FileNotFoundError):
                here = os.stat(name, dir_fd=parent, follow_symlinks=False)
                if (here.st_dev, here.st_ino) == (there.st_dev, there.st_ino):
                    return True
            staged = staged_name(name)
            os.link(first_name, staged, src_dir_fd=first, dst_dir_fd=parent, follow_symlinks=False)
            os.rename(staged, name, src_dir_fd=parent, dst_dir_fd=parent)
        except OSError:
            return False
        finally:
            os.close(first)
        return True

    def set_facts(self, entry: Entry, *, owner: bool = True, times: bool = True) -> None:
        parent, name = self._folders.above(entry.path)
        if owner and self._owns and entry.uid >= 0:
            os.chown(name, entry.uid, entry.gid, dir_fd=parent, follow_symlinks=False)
        if entry.kind == "link" or not times:
            return
        # There is no chmod that follows no link: what is open is what was looked at.
        flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK
        try:
            descriptor = os.open(name, flags | (os.O_DIRECTORY if entry.kind == "folder" else 0), dir_fd=parent)
        except PermissionError:  # it may not be read, also not by its owner
            if stat.S_ISLNK(os.stat(name, dir_fd=parent, follow_symlinks=False).st_mode):
                raise
            os.chmod(name, entry.mode, dir_fd=parent)
            os.utime(name, ns=(entry.mtime_ns, entry.mtime_ns), dir_fd=parent, follow_symlinks=False)
            return
        try:
            os.fchmod(descriptor, entry.mode)
            os.utime(descriptor, ns=(entry.mtime_ns, entry.mtime_ns))
        finally:
            os.close(descriptor)

    def remove(self, path: str) -> None:
        try:
            parent, name = self._folders.above(path)
        except (FileNotFoundError, NotADirectoryError):
            return  # nothing stands there
        with contextlib.suppress(FileNotFoundError):
            os.unlink(name, dir_fd=parent)

    def remove_folder(self, path: str) -> bool:
        self._folders.forget(path)
        try:
            parent, name = self._folders.above(path)
        except (FileNotFoundError, NotADirectoryError):
            return True
        try:
            os.rmdir(name, dir_fd=parent)
        except FileNotFoundError:
            return True
        except NotADirectoryError:
            os.unlink(name, dir_fd=parent)
        except OSError:
            return False
        return True


class FileTree(ReadTree):
    """A tree on this machine that can be changed (see `keenharbor.host.protocol.Files`)."""

    @contextlib.contextmanager
    def changing(self) -> Iterator[Changing]:
        with Folders(self._place) as folders:
            yield Changing(folders)

    def write(self, path: str, content: bytes, mode: int | None = None, *, durable: bool = False) -> None:
        with Folders(self._place) as folders:
            parent, name = folders.above(path, make=True)
            there = _file_at(parent, name)
            if mode is None:
                mode = 0o644 if there is None else stat.S_IMODE(there.st_mode)
            staged = staged_name(name)
            try:
                descriptor = os.open(staged, _NEW_FILE, 0o600, dir_fd=parent)
                try:
                    write_whole(descriptor, content)
                    if os.geteuid() == 0:  # the site's user must be able to go on reading and writing it
                        owner = there or os.fstat(parent)
                        os.fchown(descriptor, owner.st_uid, owner.st_gid)
                    os.fchmod(descriptor, mode)
                    if durable:
                        os.fsync(descriptor)
                finally:
                    os.close(descriptor)
                os.rename(staged, name, src_dir_fd=parent, dst_dir_fd=parent)
                if durable:
                    os.fsync(parent)
            except BaseException:
                with contextlib.suppress(OSError):
                    os.unlink(staged, dir_fd=parent)
                raise

    def overwrite(self, path: str, content: bytes, mtime_ns: int) -> None:
        with Folders(self._place) as folders:
            parent, name = folders.above(path)
            descriptor = os.open(name, os.O_WRONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK, dir_fd=parent)
            try:
                os.ftruncate(descriptor, 0)
                write_whole(descriptor, content)
                os.utime(descriptor, ns=(mtime_ns, mtime_ns))
            finally:
                os.close(descriptor)

    def remove(self, path: str) -> None:
        with self.changing() as changes:
            changes.remove(path)

    def prune(self, path: str) -> None:
        with (
            Folders(self._place) as folders,
            contextlib.suppress(OSError),
        ):  # the first that holds something, or is no folder
            while path := path.rpartition("/")[0]:
                folders.forget(path)
                parent, name = folders.above(path)
                os.rmdir(name, dir_fd=parent)

    def clear(self, path: str, *, keep: bool = True) -> None:
        with Folders(self._place) as folders:
            try:
                parent, name = folders.above(path)
            except (FileNotFoundError, NotADirectoryError):
                return
            with contextlib.suppress(FileNotFoundError):
                if not stat.S_ISDIR(os.stat(name, dir_fd=parent, follow_symlinks=False).st_mode):
                    return
                remove_all(parent, name, keep=keep)

    def make_root(self) -> bool:
        os.makedirs(self._place, exist_ok=True)
        return not os.listdir(self._place)

    def relink(self, path: str, target: str) -> None:
        with Folders(self._place) as folders:
            parent, name = folders.above(path)
            staged = staged_name(name)
            os.symlink(target, staged, dir_fd=parent)
            os.rename(staged, name, src_dir_fd=parent, dst_dir_fd=parent)

    def leftovers(self) -> list[str]:
        found: list[str] = []
        with Folders(self._place) as folders:
            left = [""]
            while left:
                folder = left.pop()
                try:
                    with os.scandir(folders.of(folder)) as listing:
                        here = [(i.name, i.is_dir(follow_symlinks=False)) for i in listing]
                except OSError:
                    continue
                for name, is_folder in here:
                    path = f"{folder}/{name}" if folder else name
                    if is_folder:
                        left.append(path)
                    elif is_leftover(path):
                        found.append(path)
        return sorted(found)

    def sync(self) -> None:
        os.sync()


def _file_at(parent: int, name: str) -> os.stat_result | None:
    """A plain file of that name; None where there is none."""
    try:
        there = os.stat(name, dir_fd=parent, follow_symlinks=False)
    except FileNotFoundError:
        return None
    return there if stat.S_ISREG(there.st_mode) else None


def write_whole(descriptor: int, content: bytes) -> None:
    """Write all of ``content``, however little is taken at once."""
    view = memoryview(content)
    while view:
        view = view[os.write(descriptor, view) :]


def _write_sparse(out: BinaryIO, content: bytes) -> None:
    """Write what is not zero; pages of zeros become holes."""
    view = memoryview(content)
    for at in range(0, len(content), len(_PAGE)):
        page = view[at : at + len(_PAGE)]
        if page == _PAGE[: len(page)]:
            out.seek(len(page), os.SEEK_CUR)
        else:
            out.write(page)
