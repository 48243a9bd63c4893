"""What a trial has seen so far, written after each step: so that it can be gone on with, and asked who did it.

WORK/trials/ID/seen/before.zst, seen/1.zst, seen/2.zst …   JSON, packed with Zstandard
WORK/trials/ID/checkpoints/                                a store of its own
"""

from __future__ import annotations

import dataclasses
from collections.abc import Collection
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TypeVar

import msgspec
import zstandard

from keenharbor.base.durable import move_folder, private_folder, take_away, write_durably
from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.compare import Look, Noise, Observation
from keenharbor.trial.gallery import KeptShot, Shots
from keenharbor.trial.result import StepRecord
from keenharbor.trial.sums import forget_parts

Read = TypeVar("Read")


@dataclass
class SeenBefore:
    """The unchanged clone: its look, what is noise, its times, its logs, and where the trial started from. ``address``
    is that of the clone, which stands in its checkpoints."""

    snapshot: str
    initial: str
    address: str
    look: Look
    noise: Noise
    times: dict[str, list[float]]
    log_lines: list[str]
    shots: Shots | None = None


@dataclass
class SeenStep:
    """What was observed after one step: by looking at the pages, and by comparing its two checkpoints. ``step`` is as
    the plan has it, ``versions`` those that it moved on, ``log_lines`` all that the logs had until then. The look is
    ``partial`` where some pages stood for all. ``begun_from`` is the checkpoint from just before the step."""

    step: dict[str, Any]
    record: StepRecord
    look: Look | None = None
    observations: list[Observation] = field(default_factory=list)
    of_step: list[Observation] = field(default_factory=list)
    versions: dict[str, str] = field(default_factory=dict)
    log_lines: list[str] = field(default_factory=list)
    shots: dict[str, KeptShot] = field(default_factory=dict)
    partial: bool = False
    begun_from: str | None = None

    @property
    def name(self) -> str:
        return self.record.name


class TrialRecord:
    """The record of one trial, in its folder."""

    def __init__(self, folder: Path, before: SeenBefore, steps: list[SeenStep]) -> None:
        self.folder, self.before, self.steps = folder, before, steps

    @property
    def checkpoints(self) -> Path:
        """The folder of the store of its checkpoints."""
        return self.folder / "checkpoints"

    @classmethod
    def begin(cls, folder: Path, before: SeenBefore) -> TrialRecord:
        """A record with no step yet."""
        _write(folder / "seen/before.zst", before)
        return cls(folder, before, [])

    def add(self, seen: SeenStep) -> None:
        """Note a step that was carried out."""
        self.steps.append(seen)
        _write(self.folder / f"seen/{len(self.steps)}.zst", seen)

    def change_before(self) -> None:
        """Note anew what is known of the unchanged clone."""
        _write(self.folder / "seen/before.zst", self.before)

    def change(self, number: int) -> None:
        """Note anew what is known of a step (by its number, from 0)."""
        _write(self.folder / f"seen/{number + 1}.zst", self.steps[number])

    def continued(self, folder: Path, kept: int) -> TrialRecord:
        """The record as the beginning of another trial in ``folder``, with its first ``kept`` steps; the checkpoints go
        there."""
        private_folder(folder)
        move_folder(self.checkpoints, folder / "checkpoints")
        if (self.folder / "pictures").is_dir():
            move_folder(self.folder / "pictures", folder / "pictures")
        forget_parts(self.folder, ("pictures",))
        made = TrialRecord.begin(folder, self.before)
        for seen in self.steps[:kept]:
            made.add(seen)
        return made

    def give_back(self, folder: Path) -> bool:
        """Take back what `continued` has moved into ``folder``; whether there was anything."""
        taken = (folder / "checkpoints").is_dir() and not self.checkpoints.exists()
        if taken:
            for part in ("checkpoints", "pictures"):
                if (folder / part).is_dir():
                    move_folder(folder / part, self.folder / part)
        return taken


def newest_record(trials: Path) -> str | None:
    """The newest trial that can be gone on with, whether or not it came to an end; None when there is none."""
    found = [
        f.parent.parent
        for f in trials.glob("*/seen/before.zst")
        if (f.parent.parent / "checkpoints/store.json").exists()
    ]
    return max((f.name for f in found), default=None)


def _write(file: Path, value: object) -> None:
    private_folder(file.parent)
    write_durably(file, zstandard.compress(msgspec.json.encode(value), 3))


def read_record(folder: Path) -> TrialRecord:
    """The record of the trial in ``folder``. Raises `UsageError` where there is none (any more), `DamagedError` when it
    cannot be read."""
    if not (folder / "seen/before.zst").exists() or not (folder / "checkpoints/store.json").exists():
        raise UsageError(
            "the checkpoints of this trial are not kept any more: only the newest trial's are", where=folder,
            advice="keenharbor trial run",
        )  # fmt: skip
    try:
        before = _read(folder / "seen/before.zst", SeenBefore)
        steps: list[SeenStep] = []
        while (file := folder / f"seen/{len(steps) + 1}.zst").exists():
            steps.append(_read(file, SeenStep))
    except (OSError, msgspec.MsgspecError, zstandard.ZstdError, ValueError) as error:
        raise DamagedError(
            f"what the trial has seen cannot be read: {error}", where=folder, advice="keenharbor trial run"
        ) from None
    return TrialRecord(folder, before, steps)


def _read(file: Path, kind: type[Read]) -> Read:
    return msgspec.json.decode(
        zstandard.ZstdDecompressor().decompress(file.read_bytes(), max_output_size=2**31), type=kind
    )


def forget_older(trials: Path, kept: Collection[str]) -> None:
    """Remove the checkpoints and looks of all trials but those ``kept``: results and reports stay."""
    for folder in trials.iterdir():
        if folder.name not in kept and folder.is_dir() and (folder / "result.json").exists():
            for part in ("checkpoints", "seen", "pictures"):
                take_away(folder / part)
            forget_parts(folder, ("seen", "pictures"))


def steps_in_common(record: TrialRecord, steps: list[dict[str, Any]]) -> int:
    """How many of the first steps of a plan were carried out in this trial as they stand, and went well."""
    count = 0
    for seen, wanted in zip(record.steps, steps, strict=False):
        if seen.step != wanted or seen.record.problem is not None:
            break
        count += 1
    return count


def as_plain(step: Any) -> dict[str, Any]:
    """A step as it is noted."""
    found: dict[str, object] = step.model_dump(mode="json") if hasattr(step, "model_dump") else dataclasses.asdict(step)
    return found
