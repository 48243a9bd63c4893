"""A far machine as a host (see `keenharbor.host.protocol.Host`)."""

from __future__ import annotations

import atexit
import contextlib
import hashlib
import itertools
import posixpath
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from keenharbor.host.addresses import Address
from keenharbor.host.far.connecting import Door
from keenharbor.host.far.contents import KnownContents
from keenharbor.host.far.files import FarFiles, FarReading
from keenharbor.host.far.line import Line, LineSettings, line_to
from keenharbor.host.far.programs import FarEnvironments, FarPrograms
from keenharbor.host.far.sqlite import FarSqlite
from keenharbor.host.protocol import Endpoint, Files, ReadFiles
from keenharbor.host.sqlitefile import SqliteFiles

STATE_FOLDER = ".keenharbor"
"""In the far user's own folder; there while something of live is held or open, and only then."""
_numbers = itertools.count(1)


def settings_for(
    address: Address, *, password: str | None, key_file: Path | None, known_hosts: Path | None, python: str,
    rate: float, files_only: bool,
) -> LineSettings:  # fmt: skip
    """How the machine of ``address`` is reached."""
    door = Door(address.host, address.port, address.user, password, key_file, known_hosts)
    return LineSettings(door, python, rate, not files_only)


class There:
    """A machine that is reached over a line. ``work`` is the folder here of what is kept of the site; ``top`` the
    site's folder there."""

    is_here = False

    def __init__(self, settings: LineSettings, work: Path, top: str) -> None:
        self._settings, self._work, self.top = settings, work, top
        self._known = KnownContents(work / "far-contents.db")
        self._facts: dict[str, Any] | None = None
        atexit.register(self._known.keep)

    @classmethod
    def of(cls, settings: LineSettings, work: Path, folder: str) -> There:
        """The same for a ``folder`` that may be one of the user's own (``/~/…``)."""
        there = cls(settings, work, folder)
        if folder == "/~" or folder.startswith("/~/"):
            there.top = posixpath.normpath(posixpath.join(str(there.facts().get("home", "/")), folder[3:]))
        return there

    @property
    def line(self) -> Line:
        """The line to it."""
        return line_to(self._settings)

    @property
    def told(self) -> str:
        """The machine, for people."""
        return self._settings.door.told

    def facts(self) -> dict[str, Any]:
        """What the machine offers, as its helper found it."""
        if self._facts is None:
            found = self.line.repeated(lambda: self.line.lane().ask("hello"))
            self._facts = found if isinstance(found, dict) else {}
        return self._facts

    @property
    def programs(self) -> FarPrograms:
        return FarPrograms(self.line)

    @property
    def environments(self) -> FarEnvironments:
        return FarEnvironments(self.line)

    @property
    def sqlite_files(self) -> SqliteFiles:
        return FarSqlite(self.line)

    def reading(self, place: str, *, leads_out: bool = False) -> ReadFiles:
        return FarReading(self.line, place, self._known, leads_out=leads_out)

    def writing(self, place: str) -> Files:
        return FarFiles(self.line, place, self._known)

    def reach(self, there: Endpoint) -> Endpoint:
        return self.line.reach(there)

    @property
    def state_folder(self) -> str:
        """Where on the machine it stands that something of the site is held or open."""
        home = str(self.facts().get("home", "/"))
        return posixpath.join(home, STATE_FOLDER, hashlib.sha256(self.top.encode("utf-8", "replace")).hexdigest()[:16])

    @contextlib.contextmanager
    def lease(
        self, name: str, what: str, wait_seconds: float = 0.0, *, doing: str = "", anew: bool = False
    ) -> Iterator[int]:
        """As the protocol has it; what is yielded is its number there."""
        number = next(_numbers)
        folder = self.state_folder
        self.line.hold(number, posixpath.join(folder, name), what, wait_seconds, doing)
        try:
            yield number
        finally:
            self.line.let_go(number, folder)

    def note(self, name: str, content: bytes | None) -> None:
        """Keep a text beside the lease (None: no more)."""
        files = self.writing(self.state_folder)
        if content is None:
            with contextlib.suppress(FileNotFoundError):
                files.remove(name)
            return
        files.make_root()
        files.write(name, content, 0o600, durable=True)

    def noted(self, name: str) -> bytes | None:
        """What was kept there; None where nothing is."""
        try:
            with self.reading(self.state_folder).open(name) as kept:
                return kept.read(1 << 20)
        except OSError:
            return None
