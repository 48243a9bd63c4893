"""Writes that are there after a power cut, or not at all."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import secrets
import shutil
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any

PRIVATE_FILE = 0o600
PRIVATE_FOLDER = 0o700


def sync_folder(folder: Path) -> None:
    """Make a rename or a removal in ``folder`` durable."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def private_folder(folder: Path) -> Path:
    """Create ``folder`` (and what is missing above it) readable by the owner only; an existing one is left alone."""
    for missing in reversed([p for p in (folder, *folder.parents) if not p.exists()]):
        missing.mkdir(mode=PRIVATE_FOLDER, exist_ok=True)
    return folder


def temporary_name(final: Path) -> Path:
    """A name beside ``final`` that no other writer uses."""
    return final.with_name(f".{final.name}.{os.getpid()}-{secrets.token_hex(4)}.part")


def write_durably(path: Path, data: bytes, mode: int = PRIVATE_FILE) -> None:
    """Write ``data`` beside ``path``, force it to disk, and put it in place by one rename."""
    part = temporary_name(path)
    descriptor = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL, mode)
    try:
        with os.fdopen(descriptor, "wb") as out:
            out.write(data)
            out.flush()
            os.fsync(out.fileno())
        part.chmod(mode)
        part.replace(path)
    except BaseException:
        part.unlink(missing_ok=True)
        raise
    sync_folder(path.parent)


def write_json(path: Path, value: object) -> None:
    """Write ``value`` as indented JSON, durably."""
    write_durably(path, (json.dumps(value, indent=1, ensure_ascii=False) + "\n").encode())


def write_plain(path: Path, data: bytes) -> None:
    """Write a file that only its owner may read, whatever the umask; it need not survive a power cut."""
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW, PRIVATE_FILE)
    with os.fdopen(descriptor, "wb") as out:
        os.fchmod(descriptor, PRIVATE_FILE)
        out.write(data)


def write_summed(path: Path, value: dict[str, object]) -> None:
    """Write ``value`` as indented JSON with a sum over it, durably."""
    write_json(path, {**value, SUM: _sum_of(value)})


def read_summed(data: bytes) -> dict[str, Any]:
    """What `write_summed` wrote; also without a sum, as earlier versions wrote it. Raises ValueError when it is not
    what was written."""
    try:
        value = json.loads(data)
    except RecursionError:
        raise ValueError("it is nested too deeply") from None
    if not isinstance(value, dict):
        raise ValueError("it is no object")
    told = value.pop(SUM, None)
    if told is not None and told != _sum_of(value):
        raise ValueError("its sum does not fit")
    return value


SUM = "blake3"


def _sum_of(value: dict[str, object]) -> str:
    from blake3 import blake3  # late: a far machine has none

    return blake3(json.dumps(value, sort_keys=True).encode()).hexdigest()[:32]


def write_pieces(path: Path, pieces: Iterable[bytes]) -> None:
    """Write a new file that only its owner may read, piece by piece."""
    with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, PRIVATE_FILE), "wb") as out:
        os.fchmod(out.fileno(), PRIVATE_FILE)
        for piece in pieces:
            out.write(piece)


def remove_file(file: Path) -> None:
    """Remove a file of the tool's own; nothing happens when there is none."""
    file.unlink(missing_ok=True)


def remove_folder(folder: Path) -> None:
    """Remove a folder of the tool's own with all that is in it, as far as that can be; links in it are not followed."""
    shutil.rmtree(folder, ignore_errors=True)


def take_away(folder: Path) -> None:
    """Remove a folder of the tool's own so that it is never met half gone: renamed first, and where that was all (a
    kill), the next call for it removes the rest."""
    going = folder.with_name(f".{folder.name}.going")
    remove_folder(going)
    with contextlib.suppress(OSError):
        folder.rename(going)
    remove_folder(going)


def move_folder(folder: Path, place: Path) -> None:
    """Move a folder of the tool's own by one rename."""
    folder.rename(place)


def free_bytes(place: Path) -> int:
    """Room on the disk where ``place`` is."""
    return shutil.disk_usage(place).free


def disk_of(place: Path | str) -> str:
    """What tells the disk of ``place`` from others."""
    return str(Path(place).stat().st_dev)


_CLONE_FILE = 0x40049409
"""FICLONE of ioctl_ficlone(2): the copy shares the blocks until one of the two is written."""


def link_to(place: Path, target: Path) -> None:
    """A link at ``place`` that leads to ``target``, whatever link was there."""
    private_folder(place.parent)
    staged = temporary_name(place)
    staged.symlink_to(target)
    staged.replace(place)


def copy_file(source: Path, target: Path) -> None:
    """Copy a file of the tool's own; where the file system can, without copying what it holds."""
    with open(source, "rb") as read, open(target, "wb", opener=_private) as written:
        try:
            fcntl.ioctl(written.fileno(), _CLONE_FILE, read.fileno())
        except OSError:
            shutil.copyfileobj(read, written, 1024 * 1024)


def _private(path: str, flags: int) -> int:
    return os.open(path, flags, PRIVATE_FILE)


class Spill:
    """Pieces of bytes that are too many to be held, in a file without a name: it is gone with the last that knows it,
    also when the run is killed."""

    _LENGTH = 4

    def __init__(self) -> None:
        self._file = tempfile.TemporaryFile(dir=_roomy_folder())  # noqa: SIM115 - it lives as long as this

    def add(self, piece: bytes) -> Callable[[], bytes]:
        """Add a piece (of less than 4 GiB); returns how it is read again."""
        at = self._file.seek(0, os.SEEK_END)
        self._file.write(len(piece).to_bytes(self._LENGTH, "little"))
        self._file.write(piece)
        return lambda: self._read(at)

    def _read(self, at: int) -> bytes:
        self._file.seek(at)
        return self._file.read(int.from_bytes(self._file.read(self._LENGTH), "little"))

    def pieces(self) -> Iterator[bytes]:
        """All pieces, in the order in which they came. May go on while others read them, too."""
        at = 0
        while True:
            self._file.seek(at)
            head = self._file.read(self._LENGTH)
            if not head:
                return
            length = int.from_bytes(head, "little")
            at += self._LENGTH + length
            yield self._file.read(length)


def _roomy_folder() -> str | None:
    """Where large temporary files belong (File Hierarchy Standard 3.0, 5.15): ``/tmp`` may be memory."""
    roomy = "/var/tmp"
    return None if "TMPDIR" in os.environ or not os.access(roomy, os.W_OK) else roomy


class Reserve:
    """Room on disks that is taken before something begins that must not fail for want of it, and given back when it is
    used."""

    NAME = ".reserved-"

    def __init__(self, wanted: Sequence[tuple[Path, int]]) -> None:
        """``wanted``: folders, and how many bytes are wanted there."""
        self._wanted = wanted
        self._files: list[Path] = []

    def take(self) -> None:
        """Take it all. Raises OSError (ENOSPC) where there is too little."""
        for folder, count in self._wanted:
            file = private_folder(folder) / f"{self.NAME}{os.getpid()}-{secrets.token_hex(4)}"
            descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, PRIVATE_FILE)
            self._files.append(file)
            try:
                os.posix_fallocate(descriptor, 0, count)
            finally:
                os.close(descriptor)

    def give_back(self, folder: Path | None = None) -> bool:
        """Let others have it, or that in ``folder`` alone; whether there was any."""
        freed = [f for f in self._files if folder is None or f.parent == folder]
        for file in freed:
            with contextlib.suppress(OSError):
                file.unlink(missing_ok=True)
            self._files.remove(file)
        return bool(freed)
