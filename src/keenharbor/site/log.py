"""The log: what was done to a site, when, by whom, with what outcome. One JSON object a line, only ever appended to.

Each line ends with a sum over itself and the line before (BLAKE3), so that a line that was changed, cut or taken out is noticed.
"""

from __future__ import annotations

import fcntl
import getpass
import json
import os
from dataclasses import asdict, dataclass, fields
from pathlib import Path

from blake3 import blake3

from keenharbor.base.durable import PRIVATE_FILE, private_folder
from keenharbor.base.text import now, stamp

LOG_NAME = "log.jsonl"
_TAIL = 64 * 1024


@dataclass(frozen=True)
class LogEntry:
    """``outcome`` is a word: done, pass, fail, put back, settled …; ``detail`` a sentence."""

    at: str
    who: str
    site: str
    command: str
    outcome: str
    detail: str
    subject: str = ""


@dataclass(frozen=True)
class LogRead:
    """The entries of a log, oldest first, with the line (from 1) of each; what is wrong with which line, in words."""

    entries: tuple[LogEntry, ...]
    lines: tuple[int, ...] = ()
    damaged: tuple[tuple[int, str], ...] = ()

    def damaged_behind(self, entry: LogEntry | None) -> bool:
        """Whether a damaged line may have said something newer than ``entry``."""
        at = self.lines[self.entries.index(entry)] if entry is not None else 0
        return any(line > at for line, _ in self.damaged)


def who() -> str:
    """The user who runs this."""
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return str(os.getuid())


def append_log(work: Path, site: str, command: str, outcome: str, detail: str, subject: str = "") -> LogEntry:
    """Add an entry; it is on disk when this returns."""
    entry = LogEntry(stamp(now()), who(), site, command, outcome, detail, subject)
    private_folder(work)
    descriptor = os.open(work / LOG_NAME, os.O_RDWR | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW, PRIVATE_FILE)
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX)  # a line's sum goes over the line before
        size = os.fstat(descriptor).st_size
        tail = os.pread(descriptor, _TAIL, max(0, size - _TAIL))
        before = tail.rstrip(b"\n").rpartition(b"\n")[2]
        said = asdict(entry)
        line = json.dumps({**said, "sum": _sum(before, said)}).encode() + b"\n"
        # A line that a crash cut off is ended, so that this one stands by itself.
        whole = (b"\n" if tail and not tail.endswith(b"\n") else b"") + line
        done = os.write(descriptor, whole)
        if done != len(whole):
            os.ftruncate(descriptor, size)
            raise OSError(28, "no space left for a line of the log", str(work / LOG_NAME))
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
    return entry


def _sum(before: bytes, said: dict[str, str]) -> str:
    digest = blake3(before)
    digest.update(json.dumps(said, sort_keys=True).encode())
    return digest.hexdigest()[:32]


_FIELDS = {f.name for f in fields(LogEntry)}


def read_log(work: Path) -> LogRead:
    """The log, line by line. A damaged line is told of and passed over. Lines of earlier versions, without a sum, stand only
    before the first that has one."""
    try:
        raw = (work / LOG_NAME).read_bytes()
    except (FileNotFoundError, NotADirectoryError):
        return LogRead(())
    except OSError as error:
        return LogRead((), (), ((1, f"the log cannot be read: {error.strerror}"),))
    entries: list[LogEntry] = []
    lines: list[int] = []
    damaged: list[tuple[int, str]] = []
    before, with_sums = b"", False
    for number, line in enumerate(raw.splitlines(), 1):
        found, problem, summed = _read_line(line, before, with_sums)
        if not line.strip():
            continue
        before, with_sums = line, with_sums or summed
        if found is not None:
            entries.append(found)
            lines.append(number)
        if problem:
            damaged.append((number, problem))
    return LogRead(tuple(entries), tuple(lines), tuple(damaged))


def _read_line(line: bytes, before: bytes, with_sums: bool) -> tuple[LogEntry | None, str, bool]:
    """The entry in a line, if it is one; what is wrong with it; whether it has a sum."""
    try:
        said = json.loads(line)
    except (ValueError, RecursionError):
        return None, "it is no entry of the log", False
    if not isinstance(said, dict) or not all(isinstance(v, str) for v in said.values()):
        return None, "it is no entry of the log", False
    told = said.pop("sum", None)
    if not _FIELDS - {"subject"} <= said.keys() <= _FIELDS:
        return None, "it is no entry of the log", told is not None
    if told is None:
        return (None, "it has no sum", False) if with_sums else (LogEntry(**said), "", False)
    if told == _sum(before, said):
        return LogEntry(**said), "", True
    # Either this line or the one before was changed. Its own words may be right, and count as little as its sum does.
    return None, "its sum is not that of it and the line before: one of them was changed, or a line is missing", True
