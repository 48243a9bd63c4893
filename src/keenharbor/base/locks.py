"""Locks between runs of the tool."""

from __future__ import annotations

import contextlib
import fcntl
import os
import time
from collections.abc import Iterator
from pathlib import Path

from keenharbor.base.durable import PRIVATE_FILE, private_folder
from keenharbor.base.errors import KeenHarborError


@contextlib.contextmanager
def held(path: Path, what: str, wait_seconds: float = 0.0) -> Iterator[int]:
    """Hold the lock file ``path`` for the time of the block, and yield its descriptor.

    The lock belongs to the open file, not to the process: a child that inherits the descriptor keeps it
    locked after its parent was killed. So whoever gets the lock knows that no child of a killed run is still
    at work. Raises `KeenHarborError` when ``what`` is still held after ``wait_seconds``.
    """
    private_folder(path.parent)
    descriptor = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, PRIVATE_FILE)
    try:
        deadline = time.monotonic() + wait_seconds
        while True:
            try:
                fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                if time.monotonic() >= deadline:
                    holder = os.pread(descriptor, 200, 0).decode("utf-8", "replace").strip()
                    raise KeenHarborError(
                        f"{what} is in use by another run" + (f" ({holder})" if holder else ""),
                        where=path,
                        advice="wait until it has ended, then type the command again",
                    ) from None
                time.sleep(0.05)
        os.ftruncate(descriptor, 0)
        os.pwrite(descriptor, f"process {os.getpid()}".encode(), 0)
        yield descriptor
    finally:
        os.close(descriptor)
