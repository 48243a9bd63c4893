"""The log: what was done to a site, when, by whom, with what outcome. Only ever appended to (see
`keenharbor.base.chain`)."""

from __future__ import annotations

import getpass
import os
from dataclasses import asdict, dataclass, fields
from pathlib import Path

from keenharbor.base.chain import append_line, read_chain
from keenharbor.base.runs import run_id
from keenharbor.base.text import now, stamp

LOG_NAME = "log.jsonl"


@dataclass(frozen=True)
class LogEntry:
    """``outcome`` is a word: done, pass, fail, put back, settled …; ``detail`` a sentence; ``subject`` the id of what
    it is about; ``place`` the file that was written elsewhere; ``run`` the id of the run, which what it starts has,
    too."""

    at: str
    who: str
    site: str
    command: str
    outcome: str
    detail: str
    subject: str = ""
    place: str = ""
    run: str = ""


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


def append_log(
    work: Path, site: str, command: str, outcome: str, detail: str, subject: str = "", place: str = ""
) -> LogEntry:  # fmt: skip
    """Add an entry; it is on disk when this returns."""
    entry = LogEntry(stamp(now()), who(), site, command, outcome, detail, subject, place, run_id())
    append_line(work / LOG_NAME, asdict(entry))
    return entry


_OPTIONAL = {"subject", "place", "run"}
_NEEDED = {f.name for f in fields(LogEntry)} - _OPTIONAL


def read_log(work: Path) -> LogRead:
    """The log; a damaged line is told of and passed over."""
    chain = read_chain(work / LOG_NAME, _NEEDED, _OPTIONAL)
    return LogRead(
        tuple(LogEntry(**line.said) for line in chain.lines), tuple(line.number for line in chain.lines), chain.damaged
    )
