"""Finding every program that was started for a clone, also when nobody could write down its number any more.

Each gets a variable in its environment that names the clone's folder, and hands it on to those that it starts itself.
One that has taken the variable out is found by the clone's network and by its control groups."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Collection, Iterable, Iterator
from pathlib import Path

import psutil

from keenharbor.host.sealing import group_programs, in_network

VARIABLE = "KEEN_HARBOR_CLONE"
_SECONDS = 3
"""So long a program is given to end by itself."""
_PAUSE = 0.02


def mark_of(folder: Path) -> dict[str, str]:
    """What the programs of the clone in ``folder`` bear in their environment."""
    return {VARIABLE: str(folder.absolute())}


def end_marked(
    folder: Path, network: int = 0, groups: Iterable[str] = (), *, at_once: bool = False, spare: Collection[int] = ()
) -> None:  # fmt: skip
    """End every program that bears the mark of ``folder``, or that is in its ``network`` or control ``groups``: those
    of other users only as root. With ``at_once`` none is asked first. Programs in ``spare`` and what those have started
    are left alone."""
    wanted = str(folder.absolute())
    for _ in range(3):  # one that was just being started may come to light after its parent
        found = list({p.pid: p for p in (*_marked(wanted), *_in(wanted, network, groups))}.values())
        found = [p for p in found if p.pid not in spare and _parent(p) not in spare]
        if not found:
            return
        if not at_once:
            for process in found:
                with contextlib.suppress(psutil.Error):
                    process.terminate()
            found = _still_there(found, _SECONDS)
        for process in found:
            with contextlib.suppress(psutil.Error):
                process.kill()
        _still_there(found, _SECONDS)


def memory_of_marked(folder: Path) -> int:
    """Bytes of memory that the programs of the clone in ``folder`` hold together; what several share counts once
    (proportional set size, proc_pid_smaps(5))."""
    held = 0
    for process in _marked(str(folder.absolute())):
        with contextlib.suppress(psutil.Error, OSError):
            held += int(process.memory_full_info().pss)
    return held


def _still_there(programs: Iterable[psutil.Process], seconds: float) -> list[psutil.Process]:
    """Those that have not ended once ``seconds`` have passed. They are looked at, not waited for: a child of ours would
    be taken from the code that started it, which would then hear that it ended well."""
    until = time.monotonic() + seconds
    left = list(programs)
    while left := [p for p in left if _runs(p)]:
        if time.monotonic() > until:
            break
        time.sleep(_PAUSE)
    return left


def _runs(process: psutil.Process) -> bool:
    try:
        return bool(process.is_running() and process.status() != psutil.STATUS_ZOMBIE)
    except psutil.NoSuchProcess:
        return False


def _parent(process: psutil.Process) -> int:
    try:
        return int(process.ppid())
    except psutil.Error:
        return 0


def _in(wanted: str, network: int, groups: Iterable[str]) -> Iterator[psutil.Process]:
    pids = {*group_programs(groups), *(in_network(network) if network and network != _own_network() else ())}
    for pid in pids - {os.getpid()}:
        with contextlib.suppress(psutil.Error):
            process = psutil.Process(pid)
            # A network's number may have been given to another clone's since: whose programs those are, they say.
            told = process.environ().get(VARIABLE, wanted)
            if process.status() != psutil.STATUS_ZOMBIE and told == wanted:
                yield process


def _own_network() -> int:
    """That of this process, in which none of a clone's is."""
    try:
        return Path("/proc/self/ns/net").stat().st_ino
    except OSError:
        return 0


def _marked(wanted: str) -> Iterator[psutil.Process]:
    for process in psutil.process_iter():
        with contextlib.suppress(psutil.Error, OSError):
            if process.environ().get(VARIABLE) == wanted and process.status() != psutil.STATUS_ZOMBIE:
                yield process
