"""What was worked out, from where, and how sure it is."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Sureness(StrEnum):
    """``read``: it stands there, or was seen to be so. ``likely``: several signs speak for it. ``guessed``: one does.
    ``not found``: the maintainer has to say it."""

    READ = "read"
    LIKELY = "likely"
    GUESSED = "guessed"
    MISSING = "not found"


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
