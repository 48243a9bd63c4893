"""What a judgement is made of: things that were checked, and decisions."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Literal


class Verdict(StrEnum):
    """Whether something stands in the way."""

    BLOCKED = "blocked"
    CAUTION = "caution"
    CLEAR = "clear"

    @property
    def rank(self) -> int:
        return ("blocked", "caution", "clear").index(self.value)


@dataclass(frozen=True)
class Check:
    """One thing that was judged: what, how, why, and what to do about it; ``along`` is the distribution (and its
    version) that must move, where it says so."""

    subject: str
    verdict: Verdict
    reason: str
    remedy: str = ""
    along: tuple[str, str] | None = None


@dataclass(frozen=True)
class Decision:
    """What becomes of an extension or theme: ``keep``, ``update``, ``replace`` (by ``other``) or ``remove``.

    ``open`` says that nobody has decided and there is no sound default; ``proposal`` is then what could be done
    (``proposed_runtime``: it is to judge for that one). ``off``:
    it is switched off ``meanwhile``, or ``for good``.
    """

    name: str
    kind: str
    action: str
    version: str | None = None
    other: str | None = None
    reason: str = ""
    open: bool = False
    proposal: str = ""
    proposed_runtime: str = ""
    off: Literal["", "meanwhile", "for good"] = ""
