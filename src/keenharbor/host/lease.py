"""The lease: who may change something now, between runs of the tool."""

from __future__ import annotations

import contextlib
import fcntl
import os
import time
from collections.abc import Iterator
from pathlib import Path

from keenharbor.base.durable import PRIVATE_FILE, private_folder
from keenharbor.base.errors import KeenHarborError
from keenharbor.base.text import age, now, parse_stamp, stamp


class HeldError(KeenHarborError):
    """Another run holds it now."""

    kind = "in-use"


@contextlib.contextmanager
def held(
    path: Path, what: str, wait_seconds: float = 0.0, *, shared: bool = False, doing: str = "", passing: bool = False
) -> Iterator[int]:
    """Hold the lock file ``path`` for the time of the block, and yield its descriptor.

    The lock belongs to the open file, not to the process: a child that inherits the descriptor keeps it
    locked after its parent was killed. So whoever gets the lock knows that no child of a killed run is still
    at work. Several may hold it ``shared``; nobody then holds it alone. ``doing`` is told to who comes next. A
    ``passing`` one's file goes with it. Raises `HeldError` when ``what`` is still held after ``wait_seconds``.
    """
    descriptor = _opened(path)
    is_held = False
    try:
        deadline = time.monotonic() + wait_seconds
        while True:
            try:
                fcntl.flock(descriptor, (fcntl.LOCK_SH if shared else fcntl.LOCK_EX) | fcntl.LOCK_NB)
                if not passing or _is_at(descriptor, path):
                    break
                former, descriptor = descriptor, _opened(path)  # the file went with who had held it
                os.close(former)
            except BlockingIOError:
                if time.monotonic() >= deadline:
                    raise HeldError(
                        f"{what} is in use by another run{_told(descriptor)}",
                        where=path,
                        advice="wait until it has ended, then type the command again",
                    ) from None
                time.sleep(0.05)
        # Who holds it is a help for people: a disk that is full, or a shared holder's line, must not keep it from being
        # held.
        with contextlib.suppress(OSError):
            os.ftruncate(descriptor, 0)
            os.pwrite(descriptor, f"{os.getpid()}\t{stamp(now())}\t{doing}".encode(), 0)
        is_held = True
        yield descriptor
    finally:
        if passing and is_held:
            with contextlib.suppress(OSError):
                os.unlink(path)
        os.close(descriptor)


def _opened(path: Path) -> int:
    private_folder(path.parent)  # one that is passing goes with its last file
    return os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, PRIVATE_FILE)


def _is_at(descriptor: int, path: Path) -> bool:
    """Whether what is open is what stands at ``path``."""
    mine = os.fstat(descriptor)
    try:
        there = os.stat(path, follow_symlinks=False)
    except FileNotFoundError:
        return False
    return (mine.st_dev, mine.st_ino) == (there.st_dev, there.st_ino)


def _told(descriptor: int) -> str:
    """Who holds it and since when, as its holder wrote it down; empty where that cannot be read."""
    try:
        pid, since, doing = os.pread(descriptor, 400, 0).decode("utf-8").split("\t")
        began = parse_stamp(since)
    except (ValueError, OSError):
        return ""
    return f": {doing or 'it'} runs since {since} ({age(began)}), process {pid}"
