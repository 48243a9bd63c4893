"""What the site's logs say of errors: which kinds there were until a moment, and what came after it."""

from __future__ import annotations

import contextlib
import re
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field

from blake3 import blake3

from keenharbor.site.survey import ERROR_LINE
from keenharbor.site.view import SiteView
from keenharbor.tree import Entry
from keenharbor.trial.observing import log_place

MOST_READ = 8 * 1024 * 1024
"""Bytes of a log that are read, its last ones."""
_HEAD = 256
_LONGEST_LINE = 2000
MOST_KINDS = 5000


@dataclass(frozen=True)
class LogEnd:
    """Where a log ended: its size in bytes, and a digest of its first ones, by which one is known that was begun
    anew."""

    size: int
    head: str


@dataclass
class LoggedErrors:
    """Lines that speak of an error: how many of each kind, one of each, and in which log."""

    counts: Counter[str] = field(default_factory=Counter)
    lines: dict[str, str] = field(default_factory=dict)
    logs: dict[str, str] = field(default_factory=dict)
    ends: dict[str, LogEnd] = field(default_factory=dict)


def kind_of(line: str) -> str:
    """What lines have in common that tell of the same: all but numbers, times, paths, names in quotes, digests."""
    return log_place(re.sub(r"\d+", "#", line).lstrip("# :,.TZ-[]+"))


def errors_in_logs(site: SiteView, since: Mapping[str, LogEnd] | None = None) -> LoggedErrors:
    """The errors in the logs of a site; those that came ``since`` the logs ended there."""
    found = LoggedErrors()
    for path, entry in sorted(site.scan().entries.items()):
        if entry.area == "logs" and entry.kind == "file":
            with contextlib.suppress(OSError):
                _read(site, entry, None if since is None else since.get(path), found)
    return found


def _read(site: SiteView, entry: Entry, since: LogEnd | None, found: LoggedErrors) -> None:
    with site.files.open(entry.path) as log:
        first = log.read(_HEAD)
        # A log that has grown begins as it did; one that is shorter, or begins otherwise, was begun anew.
        known = since is not None and entry.size >= since.size and _digest(first[: since.size]) == since.head
        begin = since.size if known and since is not None else 0
        found.ends[entry.path] = LogEnd(entry.size, _digest(first))
        log.seek(max(begin, entry.size - MOST_READ))
        for line in log:
            if not ERROR_LINE.search(line):
                continue
            text = line[:_LONGEST_LINE].decode("utf-8", "replace").strip()
            kind = kind_of(text)
            if kind in found.counts or len(found.counts) < MOST_KINDS:
                found.counts[kind] += 1
                found.lines[kind], found.logs[kind] = text, entry.path


def _digest(head: bytes) -> str:
    return blake3(head).hexdigest()[:16]
