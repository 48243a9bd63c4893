"""What the programs of a clone are sealed into: the clone, the system's programs, and what the site file says that they
need."""

from __future__ import annotations

import os
from pathlib import Path

import psutil

from keenharbor.base.durable import private_folder
from keenharbor.host.sealing import (
    Limits,
    Sealing,
    arranged,
    in_system_tmp,
    own_interpreter,
    parts_here,
    program_places,
)
from keenharbor.site.view import SiteView

_MIB = 1024 * 1024
_ROOM = 2048 * _MIB


def limits_of(live: SiteView, bytes_held: int) -> Limits:
    """How much the programs of a clone may take that holds so many bytes."""
    part = live.model.clone
    memory = part.memory_mib * _MIB or psutil.virtual_memory().total * 3 // 4
    return Limits(part.processes, memory, part.disk_mib * _MIB or 2 * bytes_held + _ROOM)


def needed_places(live: SiteView) -> list[str]:
    """What a clone's programs need to read beside the clone and the system: the runtimes that the site file names, with
    their packages, what its commands name, what it says that they need."""
    base, model = live.site_file.absolute().parent, live.model
    found = [place for p in model.runtime.launchers.values() for place in program_places(p)]
    if model.runtime.packages is not None:
        found.append(live.packages_place())
    wheelhouse = live.wheelhouse()
    found += [wheelhouse] if wheelhouse is not None else []
    commands = [model.serve.command if model.serve else None, *model.commands.as_lists()]
    for word in (w for command in commands if command for w in command):
        if word.startswith("/") and Path(word).is_file():
            found += program_places(word)
    found += [os.path.normpath(base / named) for named in model.clone.needs]
    return [*found, *own_interpreter()]


def live_secrets(live: SiteView) -> list[str]:
    """Where anything of live is that a clone has no business with, wherever it lies."""
    base, model = live.site_file.absolute().parent, live.model
    found = [
        live.place,
        str(live.site_file),
        str(live.work),
        str(live.store_folder),
        str(Path.home()),
        "/root",
        "/home",
    ]
    named = [model.settings.file if model.settings else None,
             model.database.settings.file if model.database.settings else None]  # fmt: skip
    found += [os.path.realpath(f"{live.place}/{n}") for n in named if n is not None]
    found += [str(base / n) for n in (model.database.password_file,) if n is not None]
    found += [live.database.socket] if live.database.socket else []
    if live.database.file is not None:
        found += [f"{live.database.file}{end}" for end in ("", "-wal", "-shm", "-journal")]
    return found


def sealing_for(
    folder: Path, live: SiteView, root: str, *, more_writable: tuple[str, ...], sockets: tuple[str, ...],
    limits: Limits,
    groups: tuple[str, ...], ports: dict[str, list[int]], holder: int | None, own_socket: str = "",
) -> Sealing:  # fmt: skip
    """For the programs of the clone in ``folder``, whose files are in ``root``; ``sockets`` are folders of those of its
    own database server, ``own_socket`` the one on a server that it shares (with live, it may be); ``ports`` are what it
    may be reached at, and reach, where it has no network of its own."""
    temporary = private_folder(folder / "tmp")
    writable = (root, str(folder / "outbox"), str(temporary), *more_writable)
    readable = [str(folder / "programs"), *sockets, *needed_places(live)]
    if not parts_here().root:
        private_folder(temporary / "home")
    visible, hidden = arranged(readable, writable, [s for s in live_secrets(live) if s != own_socket])
    return Sealing(
        folder, visible, writable, hidden, str(temporary), holder, "open", None if holder else ports, limits, groups,
        own_tmp=has_own_tmp(live),
    )  # fmt: skip


def has_own_tmp(live: SiteView) -> bool:
    """Whether a clone's programs see a folder of their own where the system's temporary one is."""
    return parts_here().root and not in_system_tmp(live_secrets(live))
