"""A far machine as a host (see `keenharbor.host.protocol.Host`)."""

from __future__ import annotations

import contextlib
import hashlib
import itertools
import os
import posixpath
import socket
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from keenharbor.base.text import now, stamp, visible
from keenharbor.host.addresses import Address
from keenharbor.host.far.asking import NoHelperError
from keenharbor.host.far.connecting import Door, LineError
from keenharbor.host.far.contents import KnownContents
from keenharbor.host.far.files import FarFiles, FarReading
from keenharbor.host.far.floor import FloorFiles, FloorReading
from keenharbor.host.far.line import Line, LineSettings, line_to
from keenharbor.host.far.programs import FarEnvironments, FarPrograms
from keenharbor.host.far.refused import NoEnvironments, NoPrograms, NoSqlite
from keenharbor.host.far.sqlite import FarSqlite
from keenharbor.host.lease import HeldError
from keenharbor.host.programs import Programs, is_running
from keenharbor.host.protocol import Endpoint, Environments, Files, ReadFiles
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
        self._by_helper: bool | None = None
        self.lacking = ""

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
        line = line_to(self._settings)
        line.endings[id(self._known)] = self._known.keep
        return line

    @property
    def told(self) -> str:
        """The machine, for people."""
        return self._settings.door.told

    @property
    def by_helper(self) -> bool:
        """Whether the helper runs there; else there is file transfer alone. Raises `LineError`."""
        if self._by_helper is None:
            self._by_helper = self._settings.helper
            if self._by_helper:
                try:
                    self.line.repeated(self.line.asking)
                except NoHelperError as error:
                    self.lacking = error.what
                    self._by_helper = False
        return self._by_helper

    def facts(self) -> dict[str, Any]:
        """What the machine offers, as its helper found it; the user's folder alone where there is none."""
        if self._facts is None:
            if self.by_helper:
                found = self.line.repeated(self.line.asking).facts
                self._facts = found if isinstance(found, dict) else {}
            else:
                self._facts = {"home": FloorReading(self.line, ".").real("")}
        return self._facts

    @property
    def programs(self) -> Programs:
        return FarPrograms(self.line) if self.by_helper else NoPrograms(self.told)

    @property
    def environments(self) -> Environments:
        return FarEnvironments(self.line, self.state_folder) if self.by_helper else NoEnvironments(self.told)

    @property
    def sqlite_files(self) -> SqliteFiles:
        return FarSqlite(self.line) if self.by_helper else NoSqlite(self.told)

    def reading(self, place: str, *, leads_out: bool = False) -> ReadFiles:
        if self.by_helper:
            return FarReading(self.line, place, self._known, leads_out=leads_out)
        return FloorReading(self.line, place, leads_out=leads_out)

    def writing(self, place: str) -> Files:
        return FarFiles(self.line, place, self._known) if self.by_helper else FloorFiles(self.line, place)

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
        if not self.by_helper:
            with self._lock_file(folder, name, what, doing):
                yield number
            return
        self.line.hold(number, posixpath.join(folder, name), what, wait_seconds, doing)
        try:
            yield number
        finally:
            self.line.let_go(number)

    @contextlib.contextmanager
    def _lock_file(self, folder: str, name: str, what: str, doing: str) -> Iterator[None]:
        """Where nothing runs that could hold a lock, a file says who works there. One of a run of this computer that is
        not there any more is taken over."""
        files = FloorFiles(self.line, folder)
        files.make_root()
        own = f"{socket.gethostname()}\t{os.getpid()}\t{stamp(now())}\t{doing}"
        try:
            files.add(name, own.encode())
        except OSError:
            told = self.noted(name)
            if told is None:
                raise
            host, pid, since, theirs = (told.decode("utf-8", "replace").split("\t") + [""] * 4)[:4]
            if host != socket.gethostname() or (pid.isdigit() and is_running(int(pid))):
                raise HeldError(
                    f"{what} is in use by another run: {visible(theirs) or 'it'} runs since {visible(since)}, on "
                    f"{visible(host)}",
                    where=f"{self.told}:{folder}/{name}",
                    advice="wait until it has ended; if it was killed, remove that file",
                ) from None
            files.write(name, own.encode(), 0o600)
        try:
            yield
        finally:
            with contextlib.suppress(OSError, LineError):
                files.remove(name)
                files.remove_empty()

    def note(self, name: str, content: bytes | None) -> None:
        """Keep a text beside the lease (None: no more)."""
        files = self.writing(self.state_folder)
        if content is None:
            with contextlib.suppress(FileNotFoundError, NotADirectoryError):
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
