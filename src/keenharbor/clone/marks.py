"""Finding every program that was started for a clone, also when nobody could write down its number any more.

Each gets a variable in its environment that names the clone's folder, and hands it on to those that it starts itself.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path

import psutil

VARIABLE = "KEEN_HARBOR_CLONE"
_SECONDS = 3
"""So long a program is given to end by itself."""


def mark_of(folder: Path) -> dict[str, str]:
    """What the programs of the clone in ``folder`` bear in their environment."""
    return {VARIABLE: str(folder.absolute())}


def end_marked(folder: Path) -> None:
    """End every program that bears the mark of ``folder``: those of other users only as root."""
    wanted = str(folder.absolute())
    for _ in range(3):  # one that was just being started may come to light after its parent
        found = list(_marked(wanted))
        if not found:
            return
        for process in found:
            with contextlib.suppress(psutil.Error):
                process.terminate()
        _, alive = psutil.wait_procs(found, timeout=_SECONDS)
        for process in alive:
            with contextlib.suppress(psutil.Error):
                process.kill()
        psutil.wait_procs(alive, timeout=_SECONDS)


def _marked(wanted: str) -> Iterator[psutil.Process]:
    for process in psutil.process_iter():
        with contextlib.suppress(psutil.Error, OSError):
            if process.environ().get(VARIABLE) == wanted and process.status() != psutil.STATUS_ZOMBIE:
                yield process
