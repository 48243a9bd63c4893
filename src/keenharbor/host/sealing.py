"""How programs are sealed off: what each may read and write, and what of it this machine allows.

`Sealing` is told to `keenharbor.host.seal`, a small program that seals itself off and then becomes the program that is
wanted."""

from __future__ import annotations

import contextlib
import functools
import json
import marshal
import os
import sys
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

import psutil

from keenharbor.base.durable import private_folder, write_durably
from keenharbor.host import seal
from keenharbor.host.programs import ProgramError, ask_program

SYSTEM = ("/usr", "/lib", "/lib32", "/lib64", "/libx32", "/bin", "/sbin", "/opt", "/etc")
"""Where programs, libraries and their settings stand on Linux (Filesystem Hierarchy Standard 3.0, hier(7))."""
_SECRETS = ("/etc/shadow", "/etc/shadow-", "/etc/gshadow", "/etc/gshadow-", "/etc/sudoers", "/etc/sudoers.d",
    "/etc/ssh",
            "/etc/ssl/private")  # fmt: skip
_SECONDS = 15
_PAUSE = 0.1


@dataclass(frozen=True)
class SealParts:
    """What this machine allows. ``root``: a root of its own; ``landlock``: the version of its interface, 0 for none;
    ``groups``: folders in which control groups for the number of processes and for memory can be made; ``no_network``:
    why no network of its own can be had, empty where it can."""

    root: bool
    landlock: int
    groups: dict[str, str]
    no_network: str = ""

    def what_is_open(self) -> list[str]:
        """In words, what programs that are sealed here can do nevertheless, worst first."""
        found = []
        if not self.root and not self.landlock:
            found.append("files outside the clone: this kernel has no Landlock, and the system allows no mounts")
        elif not self.root:
            found.append(
                "sockets of other programs on this machine, and modes and times of files: the system allows no mounts"
            )
        if self.landlock < 6:
            found.append("signals and abstract sockets: this kernel's Landlock is too old for them")
        own_users = os.geteuid() != 0 and (self.root or not self.no_network)
        if not self.groups.get("pids") and not own_users:
            found.append("the number of its processes: no control group can be made")
        return found


@functools.cache
def parts_here() -> SealParts:
    """Found out once a run, by trying."""
    try:
        said = json.loads(
            ask_program([sys.executable, "-I", "-S", seal.__file__, "--probe"], seconds=_SECONDS, told=b"")
        )
    except (ProgramError, ValueError):
        return SealParts(False, 0, {}, "the system cannot be asked")
    reason = f"the system does not allow it: {said['network']}" if said["network"] else ""
    return SealParts(not said["root"], int(said["landlock"]), _group_folders(), reason)


def _group_folders() -> dict[str, str]:
    """Where control groups can be made, by controller (cgroups(7)): version 1 has a hierarchy each, version 2 one for
    all."""
    found: dict[str, str] = {}
    try:
        lines = Path("/proc/self/cgroup").read_text(encoding="utf-8").splitlines()
        mounts = [line.split() for line in Path("/proc/self/mounts").read_text(encoding="utf-8").splitlines()]
    except OSError:
        return found
    for line in lines:
        _, controllers, inside = line.split(":", 2)
        for _, place, kind, options, *_ in mounts:
            names = controllers.split(",") if controllers else []
            if kind == "cgroup" and names and set(names) <= set(options.split(",")):
                folder = os.path.normpath(place + inside)
                folder = folder if os.path.isdir(folder) else place  # what a container sees is only a part
                found |= {n: folder for n in names if n in ("pids", "memory") and os.access(folder, os.W_OK)}
            elif kind == "cgroup2" and not names:
                folder = os.path.normpath(place + inside)
                with contextlib.suppress(OSError):
                    offered = Path(folder, "cgroup.subtree_control").read_text(encoding="utf-8").split()
                    if os.access(folder, os.W_OK):
                        found |= {n: folder for n in offered if n in ("pids", "memory") and n not in found}
    return found


@dataclass(frozen=True)
class Limits:
    """Of all programs of one clone together: how many there may be at once, and bytes of memory; bytes on disk that
    they may add; 0 for no limit."""

    processes: int = 0
    memory: int = 0
    disk: int = 0


@dataclass(frozen=True)
class Sealing:
    """What sealed programs get: ``readable`` and ``writable`` places; ``hidden`` ones that lie within a readable place;
    ``temporary``, a folder that is theirs alone, which stands for the system's temporary one with ``own_tmp``; the
    ``holder`` of the network that they join (None: the ``network`` is ``open`` or ``none``); ``ports`` that they may be
    reached at and reach where the network is open."""

    folder: Path
    readable: tuple[str, ...]
    writable: tuple[str, ...]
    hidden: tuple[str, ...]
    temporary: str
    holder: int | None = None
    network: str = "open"
    ports: dict[str, list[int]] | None = None
    limits: Limits = field(default_factory=Limits)
    control_groups: tuple[str, ...] = ()
    user: str | None = None
    own_tmp: bool = True

    def prefix(self, name: str = "seal.spec") -> tuple[str, ...]:
        """What a command is started with, to run sealed; writes down what it needs, as ``name``."""
        parts = parts_here()
        new_root = private_folder(self.folder / "root")
        limits = {
            "processes": self.limits.processes, "file_bytes": self.limits.disk,
            # Without a control group no program gets more than all of them together may have; see `LimitWatch`.
            "program_bytes": 0 if parts.groups.get("memory") else self.limits.memory,
        }  # fmt: skip
        spec = {
            "parts": {"root": parts.root, "landlock": parts.landlock > 0}, "readable": list(self.readable),
            "writable": list(self.writable), "hidden": list(self.hidden), "temporary": self.temporary,
            "new_root": str(new_root), "holder": self.holder, "network": self.network, "ports": self.ports,
            "limits": limits, "control_groups": list(self.control_groups), "user": self.user,
            "shared_memory": ["/dev/shm"], "own_tmp": self.own_tmp,
        }  # fmt: skip
        file = self.folder / name
        write_durably(file, marshal.dumps(spec))
        return (sys.executable, "-I", "-S", seal.__file__, str(file), "--")


def program_places(program: str) -> list[str]:
    """What a program needs to be read to run: where it is installed, by each name and link on the way to it, and where
    its interpreter is, if it is a script."""
    found: list[str] = []
    seen: set[str] = set()
    left = [os.path.abspath(program)]
    while left:
        path = left.pop()
        if path in seen or not os.path.lexists(path):
            continue
        seen.add(path)
        found.append(_installed_in(path))
        if os.path.islink(path):
            left.append(os.path.normpath(os.path.join(os.path.dirname(path), os.readlink(path))))
        left.append(os.path.realpath(path))
        left.extend(_interpreter(path))
    return sorted(set(found))


def _installed_in(path: str) -> str:
    """The folder of a program's installation: above ``bin``; a program that stands by itself is its file alone."""
    folder = os.path.dirname(path)
    above = os.path.dirname(folder)
    if os.path.basename(folder) in ("bin", "sbin") and above.count("/") > 1:
        return above
    return path


def _interpreter(path: str) -> Iterator[str]:
    try:
        with open(path, "rb") as file:
            first = file.readline(400)
            rest = file.read(4096) if first.startswith(b"#!") else b""
    except OSError:
        return
    if first.startswith(b"#!"):
        words = first[2:].decode("utf-8", "replace").split()
        if words:
            yield words[0]
        # A launcher is a few lines that become another program; which one stands there as a path.
        for word in rest.decode("utf-8", "replace").replace('"', " ").replace("'", " ").split():
            if word.startswith("/") and os.access(word, os.X_OK) and os.path.isfile(word):
                yield word


def own_interpreter() -> list[str]:
    """What a small program in the tool's own language needs."""
    return sorted({*program_places(sys.executable), sys.prefix, sys.base_prefix})


def arranged(
    readable: Iterable[str], writable: Iterable[str], hidden: Iterable[str]
) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """What is readable, without what is hidden: something readable that lies in a hidden place stays so, since it was
    named; one in which the whole of a hidden place would be opened again does not. And the hidden ones that matter."""
    apart = {os.path.realpath(h) for h in hidden} | {os.path.abspath(h) for h in hidden}
    apart |= set(_SECRETS)
    wanted = {os.path.abspath(p) for p in (*SYSTEM, *readable)}
    wanted = {p for p in wanted if p not in apart and p != "/"}
    inside = {h for h in apart if any(h.startswith(p.rstrip("/") + "/") for p in wanted)}
    return tuple(sorted(wanted)), tuple(sorted(inside - {os.path.abspath(w) for w in writable}))


def in_system_tmp(places: Iterable[str]) -> bool:
    """Whether any of ``places`` lies in the system's temporary folder: programs cannot be given that for their own
    then."""
    return any(os.path.realpath(p).startswith(("/tmp/", "/var/tmp/")) for p in places)


class ControlGroups:
    """Control groups for the programs of one clone, as far as they can be made here."""

    def __init__(self, name: str, limits: Limits) -> None:
        self.folders: list[str] = []
        for kind, file, most in (
            ("pids", "pids.max", limits.processes),
            ("memory", "memory.max", limits.memory),
        ):
            parent = parts_here().groups.get(kind)
            if parent is None or not most:
                continue
            folder = os.path.join(parent, name)
            files = (file, "memory.limit_in_bytes") if kind == "memory" else (file,)
            with contextlib.suppress(OSError):
                os.makedirs(folder, exist_ok=True)
                there = next(f for f in files if os.path.exists(os.path.join(folder, f)))
                with open(os.path.join(folder, there), "w") as out:
                    out.write(str(most))
                if folder not in self.folders:
                    self.folders.append(folder)

    def programs(self) -> list[int]:
        """The processes in them."""
        return group_programs(self.folders)


def group_programs(folders: Iterable[str]) -> list[int]:
    """The processes in control groups."""
    found: set[int] = set()
    for folder in folders:
        with contextlib.suppress(OSError, ValueError):
            found |= {int(n) for n in Path(folder, "cgroup.procs").read_text().split()}
    return sorted(found)


def remove_groups(folders: Iterable[str]) -> None:
    """Remove control groups, once nobody is in them."""
    for folder in folders:
        for _ in range(20):
            try:
                os.rmdir(folder)
            except FileNotFoundError:
                break
            except OSError:
                time.sleep(0.05)
            else:
                break


class LimitWatch:
    """Ends the programs of a clone when they have added more to the disk than they may, while a ``with`` block lasts;
    and where no control group bounds their memory, when they hold more of it (``memory`` measures that).

    The disk's own figure is looked at often, which costs nothing; the folders are measured when that has moved, and now
    and then. What is written in between is bounded by what a disk takes in a tenth of a second, or where others free as
    much at the same time, in half a second."""

    def __init__(
        self, folders: Sequence[str], limits: Limits, end: Callable[[], object], memory: Callable[[], int]
    ) -> None:
        self._folders, self._limits, self._end_programs, self._memory = folders, limits, end, memory
        self._watches_memory = bool(limits.memory) and not parts_here().groups.get("memory")
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None
        self.over: Literal["disk", "memory"] | None = None
        """Why they were ended, if they were."""

    def __enter__(self) -> LimitWatch:
        if self._limits.disk or self._watches_memory:
            self._before = _bytes_in(self._folders)
            self._thread = threading.Thread(target=self._watch, daemon=True)
            self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        if self._thread is not None:
            self._thread.join()

    def _watch(self) -> None:
        measured, next_time = self._used(), 0.0
        while not self._stop.wait(_PAUSE):
            used, began, most = self._used(), time.monotonic(), self._limits.disk
            if self._watches_memory and self._memory() > self._limits.memory:
                self._end("memory")
            # Others on the disk may remove what these add: so the folders are measured now and then whatever it says.
            if most and (used - measured > most // 8 or began > next_time):
                measured = used
                if _bytes_in(self._folders) - self._before > most:
                    self._end("disk")
                next_time = time.monotonic() + max(0.5, 20 * (time.monotonic() - began))

    def _end(self, why: Literal["disk", "memory"]) -> None:
        self.over = self.over or why
        self._end_programs()

    def _used(self) -> int:
        found = os.statvfs(self._folders[0])
        return (found.f_blocks - found.f_bfree) * found.f_frsize


def _bytes_in(folders: Iterable[str]) -> int:
    """What folders take on disk, each hard link counted once."""
    total, seen = 0, set()
    left = list(folders)
    while left:
        try:
            with os.scandir(left.pop()) as listing:
                for item in listing:
                    facts = item.stat(follow_symlinks=False)
                    if item.is_dir(follow_symlinks=False):
                        left.append(item.path)
                    elif facts.st_nlink == 1 or facts.st_ino not in seen:
                        seen.add(facts.st_ino)
                        total += facts.st_blocks * 512
        except OSError:
            continue
    return total


def in_network(network: int) -> list[int]:
    """The processes in the network with that number (``st_ino`` of ``/proc/PID/ns/net``)."""
    found = []
    for pid in psutil.pids():
        with contextlib.suppress(OSError):
            if os.stat(f"/proc/{pid}/ns/net").st_ino == network:
                found.append(pid)
    return found
