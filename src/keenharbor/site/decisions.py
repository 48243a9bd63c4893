"""Decisions about extensions that were made before, and those that stand in a file."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import asdict, dataclass
from pathlib import Path

from keenharbor.base.durable import private_folder, read_summed, write_summed
from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.base.text import now, stamp
from keenharbor.site.toml import read_toml

_NAME = "decisions.json"


@dataclass(frozen=True)
class Remembered:
    """What was decided of one extension, and when."""

    decision: str
    at: str


def remembered(work: Path) -> dict[str, Remembered]:
    """The decisions that are remembered for a site, by extension."""
    try:
        told = read_summed((work / _NAME).read_bytes())
        return {str(n): Remembered(str(d["decision"]), str(d["at"])) for n, d in told.items()}
    except (FileNotFoundError, NotADirectoryError):
        return {}
    except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise DamagedError(
            f"the remembered decisions cannot be read: {error}",
            where=work / _NAME,
            advice="remove the file, and decide again",
        ) from None


def remember(work: Path, decisions: Mapping[str, str], forget: Iterable[str] = ()) -> None:
    """Keep ``decisions`` for later runs, and let go of those of the names in ``forget``."""
    before = remembered(work)
    dropped = set(forget)
    kept = {n: d for n, d in before.items() if n not in dropped}
    for name, decision in decisions.items():
        if name not in kept or kept[name].decision != decision:
            kept[name] = Remembered(decision, stamp(now()))
    if kept != before:
        write_summed(private_folder(work) / _NAME, {n: asdict(d) for n, d in sorted(kept.items())})


def decisions_in(file: Path) -> dict[str, str]:
    """The decisions in a TOML file: ``NAME = "DECISION"``, at the top or under ``[decisions]``."""
    said = read_toml(file, "file of decisions")
    table = said.get("decisions", said)
    if not isinstance(table, dict) or not all(isinstance(v, str) for v in table.values()):
        raise UsageError('the file of decisions wants NAME = "DECISION"', where=file)
    return dict(table)
