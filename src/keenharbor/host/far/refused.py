"""What a machine cannot do that offers file transfer alone: refused by name, with the way out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from keenharbor.base.errors import UsageError
from keenharbor.host.programs import Ran, Running
from keenharbor.host.sqlitefile import SqliteConnection

_WAY_OUT = (
    "a Python from 3.9 on and a shell for this user over there would do ('keenharbor reach' shows what is lacking)"
)


def refused(what: str, where: str, advice: str = _WAY_OUT) -> UsageError:
    """That ``what`` cannot be done by file transfer alone."""
    return UsageError(f"by file transfer alone {what}", where=where, advice=advice)


class NoPrograms:
    """See `keenharbor.host.programs.Programs`."""

    can_run = False

    def __init__(self, told: str) -> None:
        self._told = told

    def run(
        self, command: Sequence[str], *, folder: str, time_limit: float, environment: Mapping[str, str] | None = None,
        keep_open: Sequence[int] = (),
    ) -> Ran:  # fmt: skip
        raise refused(f"'{' '.join(command)}' cannot be run", self._told)

    def start(self, command: Sequence[str], *, folder: str, log: Path, environment: Mapping[str, str]) -> Running:
        raise refused(f"'{' '.join(command)}' cannot be started", self._told)

    def exists(self, program: str) -> bool:
        return False

    def place_of(self, name: str, path: str | None = None) -> str | None:
        return None

    def ask(
        self, command: Sequence[str], *, seconds: float, told: bytes = b"", environment: Mapping[str, str] | None = None
    ) -> bytes:
        raise refused(f"'{command[0]}' cannot be asked", self._told)

    def variables(self) -> dict[str, str]:
        return {}


class NoEnvironments:
    """See `keenharbor.host.protocol.Environments`."""

    def __init__(self, told: str) -> None:
        self._told = told

    def around(self, packages: str) -> str | None:
        return None

    def inside(self, environment: str, place: str) -> str | None:
        return None

    def make(self, source: str, target: str, place: str = "") -> None:
        raise refused("no virtual environment can be made", self._told)

    def rename_inside(self, environment: str, place: str) -> None:
        raise refused("no virtual environment can be changed", self._told)

    def install(
        self, environment: str, wants: Sequence[str], removes: Sequence[str], wheelhouse: str | None,
        time_limit: float, variables: Mapping[str, str] | None = None, prefix: Sequence[str] = (),
    ) -> Ran:  # fmt: skip
        raise refused("nothing can be installed", self._told)

    def put_in_place(self, new: str, home: str, kept_as: str) -> None:
        raise refused("no virtual environment can be changed", self._told)

    def kept(self, home: str) -> list[str]:
        return []

    def remove(self, environment: str) -> None:
        raise refused("no virtual environment can be changed", self._told)


class NoSqlite:
    """See `keenharbor.host.sqlitefile.SqliteFiles`: a file that is copied while it is written is no database."""

    def __init__(self, told: str) -> None:
        self._told = told

    def _refuse(self) -> UsageError:
        return refused(
            "a database in a file cannot be read as a whole", self._told,
            'to look after the files alone, say engine = "none" under [database]; ' + _WAY_OUT,
        )  # fmt: skip

    def connect(self, path: str, mode: str, seconds: float) -> SqliteConnection:
        raise self._refuse()

    def is_file(self, path: str) -> bool:
        raise self._refuse()

    def may_be_made(self, path: str) -> bool:
        raise self._refuse()

    def may_read(self, path: str) -> bool:
        raise self._refuse()

    def size(self, path: str) -> int:
        raise self._refuse()

    def remove(self, path: str) -> None:
        raise self._refuse()

    def stand(self, path: str) -> str | None:
        raise self._refuse()
