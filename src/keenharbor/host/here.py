"""This machine as a host."""

from __future__ import annotations

import contextlib
from pathlib import Path

from keenharbor.host.environment import EnvironmentsHere
from keenharbor.host.lease import held
from keenharbor.host.programs import Programs, ProgramsHere
from keenharbor.host.protocol import Endpoint, Environments, Files, ReadFiles
from keenharbor.host.reading import ReadTree
from keenharbor.host.sqlitefile import SqliteFiles
from keenharbor.host.writing import FileTree


class Here:
    """The machine on which the tool runs. Leases are files of the ``work`` folder."""

    is_here = True
    told = "this machine"

    def __init__(self, work: Path) -> None:
        self._work = work
        self._programs = ProgramsHere()

    @property
    def programs(self) -> Programs:
        return self._programs

    @property
    def environments(self) -> Environments:
        return EnvironmentsHere()

    def reading(self, place: str, *, leads_out: bool = False) -> ReadFiles:
        return ReadTree(place, leads_out=leads_out)

    def writing(self, place: str) -> Files:
        return FileTree(place)

    def reach(self, there: Endpoint) -> Endpoint:
        """Nothing lies in between."""
        return there

    @property
    def sqlite_files(self) -> SqliteFiles | None:
        """They are opened where they lie."""
        return None

    def lease(
        self, name: str, what: str, wait_seconds: float = 0.0, *, doing: str = "", anew: bool = False
    ) -> contextlib.AbstractContextManager[int]:
        if anew:
            (self._work / name).unlink(missing_ok=True)
        return held(self._work / name, what, wait_seconds, doing=doing)

    def note(self, name: str, content: bytes | None) -> None:
        """What is kept here of a site is kept in ``work``."""

    def noted(self, name: str) -> bytes | None:
        return None
