"""Files that are only ever appended to: one JSON object a line, each with a sum over itself and the line before, so
that a line that was changed, cut or taken out is noticed."""

from __future__ import annotations

import errno
import fcntl
import json
import os
from collections.abc import Mapping, Set
from dataclasses import dataclass
from pathlib import Path

from blake3 import blake3

from keenharbor.base.durable import PRIVATE_FILE, private_folder

_TAIL = 64 * 1024
SUM = "sum"


@dataclass(frozen=True)
class Line:
    """One line that is sound: its number (from 1) and what it says."""

    number: int
    said: dict[str, str]


@dataclass(frozen=True)
class Chain:
    """A file's sound lines, and what is wrong with which of the others."""

    lines: tuple[Line, ...]
    damaged: tuple[tuple[int, str], ...] = ()


def append_line(file: Path, said: Mapping[str, str]) -> None:
    """Add a line; it is on disk when this returns. Raises OSError; then nothing was added."""
    private_folder(file.parent)
    descriptor = os.open(file, os.O_RDWR | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW, PRIVATE_FILE)
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX)  # a line's sum goes over the line before
        size = os.fstat(descriptor).st_size
        tail = os.pread(descriptor, _TAIL, max(0, size - _TAIL))
        before = tail.rstrip(b"\n").rpartition(b"\n")[2]
        line = json.dumps({**said, SUM: _sum(before, said)}).encode() + b"\n"
        # A line that a crash cut off is ended, so that this one stands by itself.
        whole = (b"\n" if tail and not tail.endswith(b"\n") else b"") + line
        try:
            if os.write(descriptor, whole) != len(whole):
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), str(file))
            os.fsync(descriptor)
        except OSError:
            os.ftruncate(descriptor, size)
            raise
    finally:
        os.close(descriptor)


def _sum(before: bytes, said: Mapping[str, str]) -> str:
    digest = blake3(before)
    digest.update(json.dumps(dict(said), sort_keys=True).encode())
    return digest.hexdigest()[:32]


def read_chain(file: Path, needed: Set[str], optional: Set[str] = frozenset()) -> Chain:
    """The file, line by line; each says the ``needed`` and may say the ``optional``. A damaged line is told of and
    passed over. Lines of earlier versions, without a sum, stand only before the first that has one."""
    try:
        raw = file.read_bytes()
    except (FileNotFoundError, NotADirectoryError):
        return Chain(())
    except OSError as error:
        return Chain((), ((1, f"it cannot be read: {error.strerror}"),))
    lines: list[Line] = []
    damaged: list[tuple[int, str]] = []
    before, with_sums = b"", False
    for number, text in enumerate(raw.split(b"\n"), 1):
        if not text.strip():
            continue
        said, problem, summed = _read_line(text, before, with_sums)
        if said is not None and not needed <= said.keys() <= needed | optional:
            said, problem = None, "it is no such entry"
        before, with_sums = text, with_sums or summed
        if said is not None:
            lines.append(Line(number, said))
        else:
            damaged.append((number, problem))
    return Chain(tuple(lines), tuple(damaged))


def _read_line(text: bytes, before: bytes, with_sums: bool) -> tuple[dict[str, str] | None, str, bool]:
    """What a line says, if it is sound; what is wrong with it; whether it has a sum."""
    try:
        said = json.loads(text)
    except (ValueError, RecursionError):
        return None, "it is no entry", False
    if not isinstance(said, dict) or not all(isinstance(v, str) for v in said.values()):
        return None, "it is no entry", False
    told = said.pop(SUM, None)
    if told is None:
        return (None, "it has no sum", False) if with_sums else (said, "", False)
    if told != _sum(before, said):
        # Either this line or the one before was changed. Its own words may be right, and count as little as its sum
        # does.
        return None, "its sum is not that of it and the line before: one was changed, or a line is missing", True
    return said, "", True
