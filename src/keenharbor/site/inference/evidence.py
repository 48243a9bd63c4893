"""What was worked out, from where, and how sure it is."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum


class Sureness(StrEnum):
    """``read``: it stands there, or was seen to be so. ``likely``: several signs speak for it. ``guessed``: one does.
    ``not found``: the maintainer has to say it."""

    READ = "read"
    LIKELY = "likely"
    GUESSED = "guessed"
    MISSING = "not found"


_WANTED_BY = {
    "site.address": "every command",
    "core": "ready", "core.version_file": "ready", "runtime": "ready", "runtime.version": "ready",
    "extensions": "ready, if it has any", "themes": "ready, if it has any",
    "extensions.switch": "ready", "runtime.launchers": "snapshot drill, clone make, trial run",
    "serve": "snapshot drill, clone make, trial run", "maintenance": "cutover",
    "look.log_in": "a trial that looks behind the log-in",
}  # fmt: skip


@dataclass(frozen=True)
class Entry:
    """One thing about the site; ``evidence`` says from where: file and line, table and column, or why it was guessed.
    An empty ``key`` marks a remark that does not stand in the site file."""

    key: str
    value: str
    sure: Sureness
    evidence: str

    def as_json(self) -> dict[str, str]:
        return {"key": self.key, "value": self.value, "sure": self.sure.value, "evidence": self.evidence}


def wanted_by(entries: Iterable[Entry]) -> dict[str, list[str]]:
    """The keys of what was not found, by the stage that wants them first."""
    stages: dict[str, list[str]] = {}
    for entry in entries:
        if entry.sure is Sureness.MISSING:
            stages.setdefault(_WANTED_BY.get(entry.key, "some commands"), []).append(entry.key)
    return stages
