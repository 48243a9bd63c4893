"""The log: what was done to a site, when, by whom, with what outcome. One JSON object a line, only ever appended to."""

from __future__ import annotations

import getpass
import json
import os
from dataclasses import asdict, dataclass
from pathlib import Path

from keenharbor.base.durable import PRIVATE_FILE, private_folder
from keenharbor.base.text import now, stamp

LOG_NAME = "log.jsonl"


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
    descriptor = os.open(work / LOG_NAME, os.O_WRONLY | os.O_CREAT | os.O_APPEND, PRIVATE_FILE)
    try:
        os.write(descriptor, (json.dumps(asdict(entry)) + "\n").encode())
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
    return entry


def read_log(work: Path) -> list[LogEntry]:
    """All entries, oldest first. A line that a crash cut off is passed over."""
    try:
        lines = (work / LOG_NAME).read_text(encoding="utf-8").splitlines()
    except FileNotFoundError:
        return []
    found = []
    for line in lines:
        try:
            found.append(LogEntry(**json.loads(line)))
        except (ValueError, TypeError):
            continue
    return found
