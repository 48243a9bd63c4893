"""What a trial found, kept as ``WORK/trials/ID/result.json``."""

from __future__ import annotations

import dataclasses
import json
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any

from keenharbor.base.durable import write_json
from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.base.text import duration, parse_stamp, plural
from keenharbor.compare import Finding, Look, Noise, Observation, Slower, Weight, severity, verdict_of
from keenharbor.trial.accepted import AcceptedPart, sort_out
from keenharbor.trial.causes import entries, entry_of
from keenharbor.trial.sums import NAME, damages_of, write_sums


@dataclass(frozen=True)
class StepRecord:
    """How one step went: seconds, tries, output, and what its checkpoint holds against the one before."""

    name: str
    facts: str
    problem: str | None
    tries: int
    seconds: float
    output: str
    files_changed: int
    rows_changed: int
    checkpoint: str


@dataclass(frozen=True)
class Isolation:
    """The proof that the clone could not touch live: digests of live before and after, what differs between them
    (``only_visitors``: only where visitors write), what was rewritten, what of live was left in the clone, mail caught;
    ``not_blocked`` says why the clone's programs could reach the outside (empty: they could not), ``switched_off``
    which extensions were off in it, ``open_parts`` what could not be sealed off of its programs beside the network."""

    live_before: str
    live_after: str
    differences: tuple[str, ...]
    only_visitors: bool
    rewritten_files: int
    rewritten_cells: dict[str, int]
    traces: tuple[str, ...]
    mails: tuple[dict[str, str], ...]
    not_blocked: str = ""
    switched_off: tuple[str, ...] = ()
    open_parts: tuple[str, ...] = ()

    @property
    def sealed(self) -> bool:
        """Whether the clone's programs are proven to have reached nothing but the clone."""
        return not self.not_blocked and not self.open_parts

    @property
    def untouched(self) -> bool:
        return self.live_before == self.live_after


TOOL = "tool"
"""Where the tool's version stands among what a trial went by."""


@dataclass(frozen=True)
class WayBackTried:
    """Whether the old site came up with what was carried, and why not (``problem``); how long that took; the rows by
    table, the files, and what had no place or was changed on both sides."""

    works: bool
    seconds: float
    carried: Mapping[str, Mapping[str, int]]
    files: int = 0
    aside: int = 0
    conflicts: int = 0
    problem: str = ""

    @property
    def rows(self) -> int:
        return sum(sum(count.values()) for count in self.carried.values())

    @property
    def told(self) -> str:
        """In a sentence."""
        if not self.works:
            return f"the way back does not work: {self.problem}"
        if not self.seconds:
            return "the way back had nothing to carry: nothing was written"
        carried = f"carries {plural(self.rows, 'row')}" + (f" and {plural(self.files, 'file')}" if self.files else "")
        aside = f"; {plural(self.aside, 'change')} had no place in the old site" if self.aside else ""
        return f"the way back works, takes {duration(self.seconds)}, {carried}{aside}"

    def observed(self) -> list[Observation]:
        """What a verdict is to say of it."""
        if self.works:
            return []
        return [Observation("way-back-fails", "site", Weight.DAMAGE, self.told)]


@dataclass(frozen=True)
class TrialResult:
    """A whole trial. ``healed`` are findings that showed after a step and were gone at the end; ``accepted`` those that
    somebody has agreed to; ``remarks`` say what it could not see; ``went_on_with`` how many steps it took over from an
    earlier trial; ``with_pictures`` that its pages were photographed; ``titles`` what the pages of findings are
    called; ``described`` are digests of the site file's tables (`SiteFile.rehearsed`) and the tool's version."""

    id: str
    site: str
    plan_file: str
    plan_digest: str
    snapshot: str
    started_at: str
    seconds: float
    verdict: str
    findings: tuple[Finding, ...]
    healed: tuple[Finding, ...]
    slower: tuple[Slower, ...]
    steps: tuple[StepRecord, ...]
    noise: tuple[str, ...]
    pages: int
    isolation: Isolation
    clone: str | None
    known: tuple[tuple[str, str, str], ...] = field(default=())
    timings: dict[str, list[list[float]]] = field(default_factory=dict)
    accepted: tuple[Finding, ...] = ()
    remarks: tuple[str, ...] = ()
    went_on_with: int = 0
    with_pictures: bool = False
    titles: dict[str, str] = field(default_factory=dict)
    way_back: WayBackTried | None = None
    described: dict[str, str] = field(default_factory=dict)

    def differs(self, live: Look, noise: Noise) -> Collection[tuple[str, str, str]]:
        """Identities of the differences that it has shown, whatever ``live`` looks like."""
        return self.known

    @property
    def started(self) -> datetime:
        return parse_stamp(self.started_at)

    def as_json(self) -> dict[str, object]:
        told = dataclasses.asdict(self)
        told |= {
            "entries": [e.as_json() for e in entries(self.findings)],
            "findings": [f.as_json() for f in self.findings],
            "healed": [f.as_json() for f in self.healed],
            "accepted": [f.as_json() for f in self.accepted],
            "slower": [s.as_json() for s in self.slower],
        }
        told["isolation"] |= {"untouched": self.isolation.untouched, "sealed": self.isolation.sealed}
        return told

    @classmethod
    def from_json(cls, v: dict[str, Any]) -> TrialResult:
        isolation: dict[str, Any] = {
            k: tuple(x) if isinstance(x, list) else x
            for k, x in v["isolation"].items()
            if k not in ("untouched", "sealed")
        }
        return cls(
            **{
                **{k: x for k, x in v.items() if k != "entries"},
                "findings": tuple(Finding.from_json(f) for f in v["findings"]),
                "healed": tuple(Finding.from_json(f) for f in v["healed"]),
                "accepted": tuple(Finding.from_json(f) for f in v.get("accepted", ())),
                "remarks": tuple(v.get("remarks", ())),
                "slower": tuple(Slower(**{k: x for k, x in s.items() if k != "ratio"}) for s in v["slower"]),
                "steps": tuple(StepRecord(**s) for s in v["steps"]),
                "noise": tuple(v["noise"]),
                "isolation": Isolation(**isolation),
                "way_back": WayBackTried(**v["way_back"]) if v.get("way_back") else None,
                "known": tuple((k[0], k[1], k[2]) for k in v["known"]),
            }
        )


def result_schema() -> dict[str, Any]:
    """The JSON Schema of a trial's result, as ``--json`` prints it and ``result.json`` holds it
    (https://json-schema.org/draft/2020-12)."""
    from pydantic import TypeAdapter

    schema = TypeAdapter(TrialResult).json_schema()
    parts = schema["$defs"]
    for part in (schema, *parts.values()):
        if part.get("type") == "object":
            part["additionalProperties"] = False
            part["required"] = sorted(part["properties"])
    # What is worked out from the rest, for readers.
    parts["Isolation"]["properties"] |= {"untouched": {"type": "boolean"}, "sealed": {"type": "boolean"}}
    parts["Slower"]["properties"]["ratio"] = {"type": "number"}
    texts = {name: {"type": "string"} for name in ("id", "text", "weight", "noticed", "follows")}
    entry = {**texts, "step": {"type": ["string", "null"]}, "pages": {"type": "integer"},
        "findings": {"type": "array", "items": {"type": "string"}}}  # fmt: skip
    schema["properties"]["entries"] = {
        "type": "array", "description": "the findings put together by cause, in the order in which they are told",
        "items": {
            "type": "object", "properties": entry, "required": sorted(entry), "additionalProperties": False,
        },
    }  # fmt: skip
    schema["required"] = sorted([*schema["required"], "entries"])
    schema["properties"]["report"] = {"type": "string", "description": "the HTML report (only in what is printed)"}
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    return schema


def save_result(work: Path, result: TrialResult) -> Path:
    """Write a trial's result into the folder that its run has made; returns its file."""
    file = work / "trials" / result.id / "result.json"
    write_json(file, result.as_json())
    write_sums(file.parent)
    return file


def judged_anew(result: TrialResult, agreed: Iterable[AcceptedPart]) -> TrialResult:
    """The same trial with what has been agreed to since: nothing is looked at again, only the verdict may be another
    one."""
    findings, accepted = sort_out(sorted([*result.findings, *result.accepted], key=severity), agreed)
    return dataclasses.replace(result, findings=tuple(findings), accepted=tuple(accepted), verdict=verdict_of(findings))


def list_trials(work: Path) -> list[TrialResult]:
    """The trials that came to an end and can be read, newest first (see `damaged_trials`)."""
    return _read_trials(work)[0]


def damaged_trials(work: Path) -> list[str]:
    """Ids of the trials whose results cannot be read, or are not what was written; newest first."""
    return _read_trials(work)[1]


def refuse_newer_damage(work: Path, found: TrialResult | None) -> None:
    """Raise `DamagedError` when a trial that cannot be read is newer than the one that was ``found``: that one is not
    to be taken for the newest in silence."""
    newer = [t for t in damaged_trials(work) if found is None or t > found.id]
    if newer:
        raise DamagedError(
            f"the result of trial {newer[0]} is damaged, and it is the newest", where=work / "trials" / newer[0],
            advice="keenharbor trial run, or name another trial",
        )  # fmt: skip


def _read_trials(work: Path) -> tuple[list[TrialResult], list[str]]:
    found: list[TrialResult] = []
    damaged: list[str] = []
    for file in (work / "trials").glob("*/result.json"):
        try:
            result = TrialResult.from_json(json.loads(file.read_bytes()))
        except (OSError, ValueError, KeyError, TypeError, AttributeError, RecursionError):
            damaged.append(file.parent.name)
            continue
        wrong = result.id != file.parent.name or any(
            d.startswith(("result.json", NAME)) for d in damages_of(file.parent)
        )
        if wrong:
            damaged.append(file.parent.name)
        else:
            found.append(result)
    return sorted(found, key=lambda r: r.started_at, reverse=True), sorted(damaged, reverse=True)


def find_trial(work: Path, wanted: str = "newest") -> TrialResult:
    """The trial by id, by the beginning of one, or ``newest``."""
    known = list_trials(work)
    if wanted == "newest":
        refuse_newer_damage(work, known[0] if known else None)
    fit = known[:1] if wanted == "newest" else [r for r in known if r.id.startswith(wanted)]
    if len(fit) != 1:
        raise UsageError(
            f"there is no trial '{wanted}'" if not fit else f"several trials begin with '{wanted}'",
            where=work / "trials",
            advice="'keenharbor trial run' makes one",
        )
    return fit[0]


def find_finding(result: TrialResult, wanted: str) -> Finding:
    """A finding of a trial by its name, or the beginning of one. Raises `UsageError` that lists those there are."""
    known = [*result.findings, *result.accepted, *result.healed]
    fit = [f for f in known if f.id == wanted] or [f for f in known if f.id.startswith(wanted)]
    if len(fit) != 1:
        listed = ", ".join(f.id for f in known[:8]) or "none"
        raise UsageError(
            f"trial {result.id} has no finding '{wanted}'" if not fit else f"several findings begin with '{wanted}'",
            advice=f"one of: {listed}" + (" …" if len(known) > 8 else ""),
        )
    return fit[0]


def find_findings(
    result: TrialResult, named: Sequence[str], causes: Sequence[str], kinds: Collection[str], steps: Collection[str],
    notes: bool,
) -> list[Finding]:  # fmt: skip
    """The findings that count of a trial: those that are named, all that have the same cause as one of ``causes``, and
    those of ``kinds`` brought in by ``steps`` (of any
    where one of the two is empty; none where both are); with ``notes`` those that are only told, too."""
    for step in steps:
        if step not in {s.name for s in result.steps}:
            raise UsageError(f"trial {result.id} has no step '{step}'", advice="keenharbor trial show")
    chosen = {f.id: f for f in (find_finding(result, w) for w in named)}
    for wanted in causes:
        entry = entry_of(result.findings, find_finding(result, wanted).id)
        chosen |= {f.id: f for f in (entry.findings if entry is not None else ())}
    for finding in result.findings:
        fits = (not kinds or finding.kind in kinds) and (not steps or finding.step in steps)
        if (kinds or steps) and fits and (notes or finding.weight is not Weight.NOTE):
            chosen.setdefault(finding.id, finding)
    if not chosen:
        raise UsageError(
            f"trial {result.id} has no such finding"
            if named or causes or kinds or steps
            else "what is to be accepted?",
            advice="keenharbor trial accept FINDING … --because '…', or by --cause, --kind, --step",
        )
    return list(chosen.values())
