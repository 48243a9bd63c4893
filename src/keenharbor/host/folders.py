"""Descriptors of the folders below a root, each opened from the one above it: no link on the way is followed.

A path that is looked up as a whole goes through whatever links stand in it, also those that were put there a moment
ago. From an open folder only a name in it is reached (openat(2) with O_NOFOLLOW), whatever becomes of the folder's own
name meanwhile."""

from __future__ import annotations

import contextlib
import os
from collections import OrderedDict
from types import TracebackType

_KEPT = 48
"""So many folders are held open: those that lie together in a tree are asked for together."""
_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC


class Folders:
    """Open folders below ``root``, for the time of a ``with`` block. Not to be shared by threads or processes.

    Every method raises OSError: `NotADirectoryError` where something on the way is a link or a file.
    """

    def __init__(self, root: str) -> None:
        self._root = root
        self._open: OrderedDict[str, int] = OrderedDict()
        self._top = -1

    def __enter__(self) -> Folders:
        self._top = os.open(self._root, _FOLDER)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for descriptor in (*self._open.values(), self._top):
            os.close(descriptor)
        self._open.clear()

    def of(self, path: str, *, make: bool = False) -> int:
        """The descriptor of the folder ``path`` (the root where it is empty), valid until the next call. With ``make``,
        what is missing is made."""
        if not path:
            return self._top
        known = self._open.get(path)
        if known is not None:
            self._open.move_to_end(path)
            return known
        above, _, name = path.rpartition("/")
        if name in ("", ".", ".."):
            raise NotADirectoryError(f"'{path}' is no path within a tree")
        parent = self.of(above, make=make)
        if make:
            with contextlib.suppress(FileExistsError):
                os.mkdir(name, 0o777, dir_fd=parent)
        descriptor = os.open(name, _FOLDER | os.O_NOFOLLOW, dir_fd=parent)
        self._open[path] = descriptor
        if len(self._open) > _KEPT:
            os.close(self._open.popitem(last=False)[1])
        return descriptor

    def above(self, path: str, *, make: bool = False) -> tuple[int, str]:
        """The descriptor of the folder in which ``path`` stands, and its name there."""
        folder, _, name = path.rpartition("/")
        if name in ("", ".", ".."):
            raise NotADirectoryError(f"'{path}' is no path within a tree")
        return self.of(folder, make=make), name

    def forget(self, path: str) -> None:
        """Close what is open of ``path`` and below: it is not there any more, or something else is."""
        below = path + "/"
        for known in [p for p in self._open if p == path or p.startswith(below)]:
            os.close(self._open.pop(known))


def remove_all(folder: int, name: str, *, keep: bool = False) -> None:
    """Remove ``name`` in the open ``folder`` with all that is in it. A link is removed, not followed; what is not there
    is nothing to do. With ``keep`` every folder stays, and only what is in them goes: a site may not start that finds
    the folders of its cache missing."""
    try:
        inside = os.open(name, _FOLDER | os.O_NOFOLLOW, dir_fd=folder)
    except FileNotFoundError:
        return
    except OSError:  # a file, or a link
        if not keep:
            with contextlib.suppress(FileNotFoundError):
                os.unlink(name, dir_fd=folder)
        return
    try:
        with os.scandir(inside) as listing:
            found = [(item.name, item.is_dir(follow_symlinks=False)) for item in listing]
        for item, is_folder in found:
            if is_folder:
                remove_all(inside, item, keep=keep)
            else:
                with contextlib.suppress(FileNotFoundError):
                    os.unlink(item, dir_fd=inside)
    finally:
        os.close(inside)
    if not keep:
        with contextlib.suppress(FileNotFoundError):
            os.rmdir(name, dir_fd=folder)
