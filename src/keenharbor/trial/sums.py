"""Sums of what a trial has left, so that a damaged, missing or swapped part is noticed."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path

from blake3 import blake3

from keenharbor.base.durable import write_json

NAME = "sums.json"
_PARTS = ("result.json", "plan.toml", "report.html", "junit.xml", "seen/*.zst", "pictures/*")


def write_sums(folder: Path) -> None:
    """Note the sums of all that is in a trial's folder now."""
    files = {f.relative_to(folder).as_posix(): _sum(f) for pattern in _PARTS for f in sorted(folder.glob(pattern))}
    said = {"trial": folder.name, "files": files}
    write_json(folder / NAME, {**said, "sum": _sum_of(said)})


def forget_parts(folder: Path, parts: tuple[str, ...]) -> None:
    """Take parts that were removed or moved away on purpose out of the sums; all else counts as before."""
    if damages_of_sums(folder):
        return
    try:
        files = json.loads((folder / NAME).read_bytes())["files"]
    except FileNotFoundError:
        return
    kept = {n: s for n, s in files.items() if n.partition("/")[0] not in parts}
    said = {"trial": folder.name, "files": kept}
    write_json(folder / NAME, {**said, "sum": _sum_of(said)})


def damages_of_sums(folder: Path) -> list[str]:
    """What is wrong with the sums themselves. A trial of an earlier version has none: nothing is said of it."""
    try:
        _read(folder)
    except FileNotFoundError:
        return [f"{NAME}: it is missing"] if _has_sums(folder) else []
    except (OSError, ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return [f"{NAME}: it is not what was written"]
    return []


def _read(folder: Path) -> dict[str, str]:
    said = json.loads((folder / NAME).read_bytes())
    told, files = said.pop("sum"), said["files"]
    if told != _sum_of(said) or said["trial"] != folder.name or not isinstance(files, dict):
        raise ValueError
    return files


def damages_of(folder: Path) -> list[str]:
    """What is not as it was noted, in words."""
    wrong = damages_of_sums(folder)
    if wrong or not (folder / NAME).exists():
        return wrong
    found = []
    for name, wanted in _read(folder).items():
        try:
            problem = "" if _sum(folder / name) == wanted else "it is not what was written"
        except OSError:
            problem = "it is missing, or cannot be read"
        found += [f"{name}: {problem}"] if problem else []
    return found


def _has_sums(folder: Path) -> bool:
    """Whether the trial that ended there is of a version that notes them."""
    try:
        return "sealed" in json.loads((folder / "result.json").read_bytes())["isolation"]
    except (OSError, ValueError, KeyError, TypeError):
        return False


def _sum(file: Path) -> str:
    return blake3(file.read_bytes()).hexdigest()


def _sum_of(said: Mapping[str, object]) -> str:
    return blake3(json.dumps(said, sort_keys=True).encode()).hexdigest()[:32]
