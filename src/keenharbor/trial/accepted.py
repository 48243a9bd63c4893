"""Findings that a person has agreed to, with the reason: a file beside the plan, to be read and reviewed.

Each entry holds for findings of one kind in one place, brought in by one step (or by any), on the pages that were
looked at when it was written, or with the same changes on others; until its day has come."""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Literal

import tomlkit
from pydantic import Field

from keenharbor.base.durable import write_durably
from keenharbor.base.errors import UsageError
from keenharbor.base.text import today
from keenharbor.compare import Finding
from keenharbor.site.part import Part, Text
from keenharbor.site.toml import read_toml, validated

HEAD = """\
# Findings of trials that somebody has agreed to, and why. A finding that an entry fits does not count any more, until
# the day that 'until' names. On other pages it still holds as long as what went and what came is the same ('changes');
# another change, or one that another step brings in, is asked about again.
format = 1
"""
DAYS = 90
MOST_CHANGES = 40
"""Where a finding has more changes of its own an agreement holds for its pages alone."""
NEVER = {
    "step-failed": "the steps behind it were never rehearsed; correct the plan, then 'keenharbor trial resume'",
    "live-changed": "the trial has to be run again, on a live that stands still",
}
"""Kinds of findings that no agreement can make good, and what is to be done instead."""


class AcceptedPart(Part):
    """One agreement."""

    finding: Text
    kind: Text
    place: str
    step: str | None = None
    pages: list[str] = []
    changes: list[str] = []
    because: Text
    who: str = ""
    on: datetime.date
    until: datetime.date

    def fits(self, finding: Finding, day: datetime.date) -> bool:
        """Whether it speaks of ``finding``, and still holds."""
        return (
            day <= self.until
            and (self.kind, self.place) == (finding.kind, finding.place)
            and (self.step is None or self.step == finding.step)
            and (
                set(finding.pages) <= set(self.pages)
                or (bool(finding.changes) and set(finding.changes) <= set(self.changes))
            )
        )


class AcceptedFile(Part):
    """All agreements of one plan."""

    format: Literal[1]
    accepted: list[AcceptedPart] = Field(default_factory=list)


def accepted_file(plan_file: Path) -> Path:
    """Where the agreements of a plan are kept: ``upgrade-accepted.toml``."""
    return plan_file.with_name(f"{plan_file.stem}-accepted.toml")


def read_accepted(plan_file: Path) -> list[AcceptedPart]:
    """The agreements of a plan; none where there is no file. Raises `UsageError` with file and line."""
    file = accepted_file(plan_file)
    if not file.exists():
        return []
    return validated(AcceptedFile, read_toml(file, "file of accepted findings"), file, "accepted findings").accepted


def accept(
    plan_file: Path, findings: Sequence[Finding], because: str, who: str, days: int = DAYS
) -> list[AcceptedPart]:
    """Write an agreement down for each finding; an earlier one for the same finding is replaced. Raises `UsageError`
    without a reason, and for a finding that no agreement can make good."""
    if not because.strip():
        raise UsageError("why is it accepted?", advice="keenharbor trial accept FINDING --because '…'")
    for finding in findings:
        if finding.kind in NEVER:
            raise UsageError(f"{finding.id} cannot be accepted: {NEVER[finding.kind]}")
    day = today()
    made = [
        AcceptedPart(
            finding=finding.id, kind=finding.kind, place=finding.place, step=finding.step, pages=list(finding.pages),
            changes=list(finding.changes) if len(finding.changes) <= MOST_CHANGES else [],
            because=because.strip(), who=who, on=day, until=day + datetime.timedelta(days=days),
        )
        for finding in findings
    ]  # fmt: skip
    again = {(m.kind, m.place, m.step) for m in made}
    kept = [a for a in read_accepted(plan_file) if (a.kind, a.place, a.step) not in again]
    document = tomlkit.parse(HEAD)
    entries = tomlkit.aot()
    for part in [*kept, *made]:
        table = tomlkit.table()
        for key, value in part.model_dump().items():
            if value not in (None, "", []):
                table[key] = value
        entries.append(table)
    document["accepted"] = entries
    write_durably(accepted_file(plan_file), tomlkit.dumps(document).encode())
    return made


def sort_out(findings: Iterable[Finding], agreed: Iterable[AcceptedPart]) -> tuple[list[Finding], list[Finding]]:
    """Findings that count, and those that were accepted."""
    parts, day = list(agreed), today()
    counting: list[Finding] = []
    accepted: list[Finding] = []
    for finding in findings:
        (accepted if any(a.fits(finding, day) for a in parts) else counting).append(finding)
    return counting, accepted
