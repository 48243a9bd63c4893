"""The file of a fleet: which sites it has, in which groups."""

from __future__ import annotations

import glob
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field, field_validator

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.site.part import Part, Text
from keenharbor.site.toml import read_toml, validated
from keenharbor.site.whereabouts import whereabouts_of

FLEET_FILE_NAME = "fleet.toml"


class GroupPart(Part):
    """Sites that are named together, by patterns of their site files. ``workers`` are those of an engine that are near
    them: with ``--cluster`` the patterns mean files there."""

    name: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]*$")]
    sites: Annotated[list[Text], Field(min_length=1)]
    workers: list[Text] = []


class LimitsPart(Part):
    """How many sites are worked on at once (0: as many as there are processors), and how long one may take."""

    at_once: Annotated[int, Field(ge=0, le=256)] = 0
    minutes: Annotated[float, Field(gt=0)] = 120


class RolloutPart(Part):
    """How a plan goes from site to site: ``first`` is the one that goes ahead (none: the first by name); after so many
    ``days`` of watch in which nothing went wrong comes a ``wave`` of so many sites, and each later one is twice as
    large."""

    first: Text | None = None
    days: Annotated[float, Field(ge=0, le=90)] = 3
    wave: Annotated[int, Field(ge=1)] = 5


class FleetFile(Part):
    """All that is said of a fleet."""

    format: Literal[1]
    group: Annotated[list[GroupPart], Field(min_length=1)]
    limits: LimitsPart = LimitsPart()
    rollout: RolloutPart = RolloutPart()

    @field_validator("group")
    @classmethod
    def _names_differ(cls, said: list[GroupPart]) -> list[GroupPart]:
        if len({g.name for g in said}) < len(said):
            raise ValueError("two groups have the same name")
        return said


@dataclass(frozen=True)
class Member:
    """A site of the fleet: its name, its site file, its groups; or what is wrong with its file."""

    name: str
    site_file: Path
    groups: tuple[str, ...]
    wrong: str = ""


def read_fleet(file: Path) -> FleetFile:
    """The fleet that a file describes. Raises `UsageError`."""
    if not file.exists():
        raise UsageError(
            "there is no file of a fleet here", where=file,
            advice=f'write one: format = 1, and [[group]] with name and sites = ["/srv/*/keenharbor.toml"], in '
            f"{FLEET_FILE_NAME}",
        )  # fmt: skip
    return validated(FleetFile, read_toml(file, "file of the fleet"), file, "file of the fleet")


def members_of(fleet: FleetFile, base: Path, groups: tuple[str, ...] = ()) -> list[Member]:
    """The sites of some groups (none: of all), each once, by name. A site file that cannot be read is one of them, with
    what is wrong. Raises `UsageError` for a group that is not there, or where there is no site."""
    known = {g.name for g in fleet.group}
    for name in groups:
        if name not in known:
            raise UsageError(f"there is no group '{name}'; there is: {', '.join(sorted(known))}")
    found: dict[Path, set[str]] = {}
    for group in fleet.group:
        if groups and group.name not in groups:
            continue
        for pattern in group.sites:
            for fits in glob.glob(str(base / pattern), recursive=True):  # noqa: PTH207  patterns may be absolute
                found.setdefault(Path(fits).resolve(), set()).add(group.name)
    if not found:
        raise UsageError("no site file fits the patterns of the fleet", where=base)
    members = []
    for path, of in found.items():
        name, wrong = path.parent.name, ""
        try:
            name = whereabouts_of(path).name
        except KeenHarborError as error:
            wrong = error.what
        members.append(Member(name, path, tuple(sorted(of)), wrong))
    return sorted(members, key=lambda m: (m.name, str(m.site_file)))
