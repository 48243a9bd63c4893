"""Programs and environments of a far machine, by the helper there: none outlives the line."""

from __future__ import annotations

import contextlib
import secrets
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from keenharbor.base.errors import UsageError
from keenharbor.host.entries import Entry
from keenharbor.host.far.asking import nonsense
from keenharbor.host.far.connecting import LineError
from keenharbor.host.far.files import PIECE, FarChanging, FarFiles
from keenharbor.host.far.line import Line
from keenharbor.host.programs import Ran, Running


def _ran(told: Any, where: str) -> Ran:
    match told:
        case [str(command), int() | None as code, str(output), int() | float() as seconds]:
            return Ran(command, code, output, float(seconds))
    raise nonsense(where)


class FarPrograms:
    """See `keenharbor.host.programs.Programs`. Variables are set beside those that the far user has."""

    can_run = True

    def __init__(self, line: Line) -> None:
        self._line = line

    def run(
        self, command: Sequence[str], *, folder: str, time_limit: float, environment: Mapping[str, str] | None = None,
        keep_open: Sequence[int] = (),
    ) -> Ran:  # fmt: skip
        with self._line.own_lane() as lane:
            told = lane.ask(
                "run", list(command), folder, time_limit, None if environment is None else dict(environment),
                list(keep_open),
            )  # fmt: skip
        return _ran(told, self._line.door.told)

    def start(self, command: Sequence[str], *, folder: str, log: Path, environment: Mapping[str, str]) -> Running:
        raise UsageError(
            "a program that goes on is not left behind on a far machine", where=self._line.door.told,
            advice="let the machine's own means start it, and name that under [live] reload",
        )  # fmt: skip

    def exists(self, program: str) -> bool:
        return self.place_of(program) is not None

    def place_of(self, name: str, path: str | None = None) -> str | None:
        found = self._line.repeated(lambda: self._line.lane().ask("program", name, path))
        return found if isinstance(found, str) else None

    def ask(
        self, command: Sequence[str], *, seconds: float, told: bytes = b"", environment: Mapping[str, str] | None = None
    ) -> bytes:
        with self._line.own_lane() as lane:
            waiting = lane.begin(
                "ask", list(command), seconds, None if environment is None else dict(environment), len(told),
                body=told[: 1 << 20],
            )  # fmt: skip
            for at in range(1 << 20, len(told), 1 << 20):
                lane.tell("piece", body=told[at : at + (1 << 20)])
            waiting.answer()
            return waiting.body

    def variables(self) -> dict[str, str]:
        """None beside those that the far user has."""
        return {}


def _send(changes: FarChanging, path: str, file: Path) -> None:
    facts = file.stat()
    pieces = range(0, facts.st_size, PIECE)
    entry = Entry(path, "file", 0o600, facts.st_mtime_ns, facts.st_size, objects=tuple(map(str, pieces)))
    with file.open("rb") as source:

        def read(at: str) -> bytes:
            source.seek(int(at))
            return source.read(PIECE)

        changes.write_there(entry, read)


class FarEnvironments:
    """See `keenharbor.host.protocol.Environments`."""

    def __init__(self, line: Line, state: str) -> None:
        """``state`` is a folder over there for what stands there for a while."""
        self._line, self._state = line, state

    def _ask(self, what: str, *given: Any) -> Any:
        with self._line.own_lane() as lane:
            return lane.ask("environment", what, list(given))

    def _text(self, what: str, *given: Any) -> str | None:
        found = self._ask(what, *given)
        return found if isinstance(found, str) else None

    def around(self, packages: str) -> str | None:
        return self._line.repeated(lambda: self._text("around", packages))

    def inside(self, environment: str, place: str) -> str | None:
        return self._line.repeated(lambda: self._text("inside", environment, place))

    def make(self, source: str, target: str, place: str = "") -> None:
        self._ask("make", source, target, place)

    def rename_inside(self, environment: str, place: str) -> None:
        self._ask("rename_inside", environment, place)

    def install(
        self, environment: str, wants: Sequence[str], removes: Sequence[str], wheelhouse: str | None,
        time_limit: float, variables: Mapping[str, str] | None = None, prefix: Sequence[str] = (),
    ) -> Ran:  # fmt: skip
        with self._wheels(wheelhouse if wants else None) as place, self._line.own_lane() as lane:
            told = lane.ask(
                "install", environment, list(wants), list(removes), place, time_limit, dict(variables or {}),
                list(prefix),
            )  # fmt: skip
        return _ran(told, self._line.door.told)

    @contextlib.contextmanager
    def _wheels(self, wheelhouse: str | None) -> Iterator[str | None]:
        """The folder of wheels, which is one of this machine, over there for the time of the block."""
        if wheelhouse is None:
            yield None
            return
        files = FarFiles(self._line, self._state, None)
        files.make_root()
        folder = f"wheels-{secrets.token_hex(4)}"
        try:
            with files.changing() as changes:
                changes.make_folder(folder)
                for wheel in sorted(Path(wheelhouse).iterdir()):
                    if wheel.is_file():
                        _send(changes, f"{folder}/{wheel.name}", wheel)
            yield f"{self._state}/{folder}"
        finally:
            with contextlib.suppress(LineError, OSError):
                files.clear(folder, keep=False)
                self._line.lane().ask("tidy", self._state)

    def put_in_place(self, new: str, home: str, kept_as: str) -> None:
        self._ask("put_in_place", new, home, kept_as)

    def kept(self, home: str) -> list[str]:
        found = self._line.repeated(lambda: self._ask("kept", home))
        return [str(f) for f in found] if isinstance(found, list) else []

    def remove(self, environment: str) -> None:
        self._ask("remove", environment)
