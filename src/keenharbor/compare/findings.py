"""Observations (one difference in one place) and findings (observations that belong together)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from blake3 import blake3


class Weight(StrEnum):
    """How much a difference matters: ``damage`` fails a trial, ``doubt`` asks for a person, ``note`` is told only."""

    DAMAGE = "damage"
    DOUBT = "doubt"
    NOTE = "note"

    @property
    def rank(self) -> int:
        return ("damage", "doubt", "note").index(self.value)


@dataclass(frozen=True)
class Observation:
    """One difference: its kind, where (a block, a file, a table), the page it was seen on, and both sides."""

    kind: str
    place: str
    weight: Weight
    text: str
    page: str = ""
    before: str = ""
    after: str = ""

    @property
    def identity(self) -> tuple[str, str, str]:
        """What makes it the same difference in another look."""
        return (self.kind, self.place, self.page)


@dataclass(frozen=True)
class Finding:
    """Observations of one kind, in one place, brought in by one step.

    ``step`` is the plan's step at whose checkpoint it first showed (None: no step, two states were compared);
    ``hidden_since`` an earlier step from which on it could not have been seen, because the page did not load.
    ``changes`` are digests of what went and what came on its pages, each once: the same change has the same one.
    """

    id: str
    kind: str
    place: str
    weight: Weight
    text: str
    pages: tuple[str, ...] = ()
    before: str = ""
    after: str = ""
    step: str | None = None
    hidden_since: str | None = None
    evidence: tuple[str, ...] = field(default=())
    changes: tuple[str, ...] = ()

    def as_json(self) -> dict[str, object]:
        return {
            "id": self.id, "kind": self.kind, "place": self.place, "weight": self.weight.value, "text": self.text,
            "pages": list(self.pages), "before": self.before, "after": self.after, "step": self.step,
            "hidden_since": self.hidden_since, "evidence": list(self.evidence),
            "changes": list(self.changes),
        }  # fmt: skip

    @classmethod
    def from_json(cls, v: dict[str, Any]) -> Finding:
        told = {**v, "weight": Weight(v["weight"]), "pages": tuple(v["pages"]), "evidence": tuple(v["evidence"])}
        told["changes"] = tuple(v.get("changes", ()))
        return cls(**told)


def group(observations: Iterable[tuple[Observation, str | None, str | None]]) -> list[Finding]:
    """Findings from (observation, step, hidden since), worst first; ids are stable for the same findings."""
    bundles: dict[tuple[str, str, str | None], list[tuple[Observation, str | None]]] = {}
    for seen, step, hidden in observations:
        bundles.setdefault((seen.kind, seen.place, step), []).append((seen, hidden))
    found = []
    for (kind, place, step), members in bundles.items():
        worst = min((m[0] for m in members), key=lambda o: o.weight.rank)
        pages = tuple(sorted({m[0].page for m in members if m[0].page}))
        text = f"{len(pages)} pages fail: {place}" if kind == "page-fails" and len(pages) > 1 else worst.text
        identity = "-".join(part for part in (kind, _slug(place)) if part)
        found.append(
            Finding(
                identity,
                kind,
                place,
                worst.weight,
                text,
                pages,
                worst.before,
                worst.after,
                step,
                members[0][1],
                changes=tuple(sorted({change_of(m[0]) for m in members})),
            )
        )
    found = _folded(found)
    found.sort(key=severity)
    return _with_unique_ids(found)


def severity(finding: Finding) -> tuple[int, int, str, str]:
    """Sorts findings: the worst first, then those on most pages."""
    return (finding.weight.rank, -len(finding.pages), finding.kind, finding.place)


def change_of(seen: Observation) -> str:
    """A digest of what went and what came, without what both sides have at either end."""
    return blake3("\0".join((seen.kind, *what_changed(seen.before, seen.after))).encode()).hexdigest()[:12]


def what_changed(before: str, after: str) -> tuple[str, str]:
    """What went and what came, without the words that both have at either end."""
    a, b = before.split(), after.split()
    while a and b and a[0] == b[0]:
        a, b = a[1:], b[1:]
    while a and b and a[-1] == b[-1]:
        a, b = a[:-1], b[:-1]
    return " ".join(a), " ".join(b)


MOST_ALIKE = 3
"""So many new or redefined tables and indexes of one step are told one by one; more are told together."""


def _folded(findings: list[Finding]) -> list[Finding]:
    bundles: dict[tuple[str, str | None], list[Finding]] = {}
    for finding in findings:
        if finding.kind in ("schema-new", "schema-changed") and finding.weight is Weight.NOTE:
            bundles.setdefault((finding.kind, finding.step), []).append(finding)
    folded = [f for f in findings if (f.kind, f.step) not in bundles or len(bundles[f.kind, f.step]) <= MOST_ALIKE]
    for (kind, step), members in bundles.items():
        if len(members) > MOST_ALIKE:
            # A table's indexes come and go with it: tables first.
            names = sorted((m.place for m in members), key=lambda p: (not p.startswith("table "), p))
            what = "are new" if kind == "schema-new" else "were redefined"
            text = f"{len(members)} definitions {what}: {', '.join(names[:4])} …"
            folded.append(Finding(kind, kind, "definitions", Weight.NOTE, text, after=", ".join(names), step=step))
    return folded


def _slug(text: str) -> str:
    return "-".join("".join(c if c.isalnum() else " " for c in text.lower()).split())[:50]


def _with_unique_ids(findings: list[Finding]) -> list[Finding]:
    seen: dict[str, int] = {}
    done = []
    for finding in findings:
        seen[finding.id] = seen.get(finding.id, 0) + 1
        number = seen[finding.id]
        identity = finding.id if number == 1 else f"{finding.id}-{number}"
        done.append(Finding(**{**finding.__dict__, "id": identity}))
    return done


def verdict_of(findings: Iterable[Finding]) -> str:
    """``fail`` with any damage, ``review`` with any doubt, else ``pass``."""
    weights = {f.weight for f in findings}
    return "fail" if Weight.DAMAGE in weights else "review" if Weight.DOUBT in weights else "pass"
