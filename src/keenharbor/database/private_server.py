"""A database server of one's own: on a socket in a folder, reachable for nobody else, gone without a trace.

For clones, drills, the demonstration and tests. The server's programs are those installed on the machine.
"""

from __future__ import annotations

import contextlib
import json
import os
import pwd
import signal
import tempfile
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from pathlib import Path

from keenharbor.base.durable import private_folder, remove_folder, write_json
from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.database.engines import open_database
from keenharbor.database.protocol import DatabasePlace
from keenharbor.database.servers import RECIPES, Folders, ServerRecipe
from keenharbor.host.programs import Running, clean_environment, find_program, run_program, runs
from keenharbor.host.sealing import Sealing, arranged, parts_here, program_places

START_SECONDS = 60.0
_LONGEST_SOCKET = 90
"""Longer paths of sockets are refused by the system (sun_path, unix(7)); the servers add a name to it."""


def missing_program(engine: str) -> str | None:
    """The program that a private server of ``engine`` needs and that is not installed; None when all are."""
    try:
        _programs(engine)
    except UsageError as error:
        return error.what
    return None


def _recipe(engine: str) -> ServerRecipe:
    if engine not in RECIPES:
        raise UsageError(f"there is no private server for the engine '{engine}'")
    return RECIPES[engine]


def _programs(engine: str) -> list[str]:
    recipe = _recipe(engine)
    found = []
    for program in recipe.programs:
        place = find_program(program, recipe.search_path())
        if place is None:
            raise UsageError(
                f"the program {program} is not installed",
                advice=f"install the {engine} server, or name another database server in the site file",
            )
        found.append(str(place))
    return found


@dataclass
class PrivateServer:
    """A server in ``folder``; what is written down of it is enough to end and remove it after a crash. Its programs get
    ``variables`` in their environment, by which they can be found. Its program is sealed where ``sealed_from`` is
    given: what is run as SQL in a clone must not read or write elsewhere by the server's hand."""

    engine: str
    folder: str
    socket_folder: str
    pid: int | None = None
    pid_started: float | None = None
    data: str | None = None
    variables: dict[str, str] = field(default_factory=dict)
    sealed_from: list[str] | None = None

    def __post_init__(self) -> None:
        self._process: Running | None = None

    @classmethod
    def make(
        cls, engine: str, folder: Path, variables: dict[str, str] | None = None,
        note: Callable[[PrivateServer], object] = lambda server: None, sealed_from: list[str] | None = None,
    ) -> PrivateServer:  # fmt: skip
        """Prepare a new server in ``folder`` and start it. ``note`` is told of it before anything is run, to write it
        down. Raises `UsageError` when it is not installed."""
        install, _ = _programs(engine)
        private_folder(folder)  # whoever reaches the socket is let in
        socket_folder = folder
        if len(os.fsencode(folder)) > _LONGEST_SOCKET:
            socket_folder = Path(tempfile.mkdtemp(prefix="harbor-socket-"))
        server = cls(engine, str(folder), str(socket_folder), variables=variables or {}, sealed_from=sealed_from)
        try:
            folders = server._folders
            server._recipe.choose_data(folders)
            server.socket_folder, server.data = folders.socket, folders.data
            note(server)
            server._prepare(server._recipe.prepare_command(install, folders))
            server.start()
        except BaseException:
            server.remove()
            raise
        return server

    @property
    def _recipe(self) -> ServerRecipe:
        return _recipe(self.engine)

    @property
    def _folders(self) -> Folders:
        return Folders(self.folder, self.socket_folder, self.data)

    def _prepare(self, command: list[str]) -> None:
        user = self._recipe.user()
        shown = (
            command if user is None else ["setpriv", f"--reuid={user}", f"--regid={user}", "--clear-groups", *command]
        )
        environment = clean_environment() | self.variables
        ran = run_program(
            shown, folder=Path(self.data or self.folder), time_limit=START_SECONDS, environment=environment
        )
        if ran.code != 0:
            raise KeenHarborError(
                f"a private {self.engine} server cannot be prepared: {ran.output.strip()[-400:]}", where=self.folder
            )

    @property
    def place(self) -> DatabasePlace:
        """The server with the name of the database left open."""
        return self._recipe.place(self._folders)

    def start(self) -> None:
        """Start the server and wait until it answers. Raises `KeenHarborError` when it does not."""
        _, program = _programs(self.engine)
        user = self._recipe.user()
        command = self._recipe.serve_command(program, self._folders)
        told = {"PATH": os.environ.get("PATH", ""), "LC_ALL": "C", **self.variables}
        sealed = self._sealed(program, user)
        process = Running(
            [*sealed, *command], folder="/", log=Path(self.folder) / "server.log", environment=told,
            user=None if sealed else user,
        )  # fmt: skip
        self._process = process
        self.pid = process.pid
        self.pid_started = process.started
        self._wait(process)

    def _sealed(self, program: str, user: str | None) -> tuple[str, ...]:
        """What its program is started with, to run sealed: it sees its own folders and no network."""
        parts = parts_here()
        if self.sealed_from is None or not (parts.root or parts.landlock):
            return ()
        own = private_folder(Path(self.folder) / "seal")
        temporary = Path(self.data or self.folder) / "seal-tmp"
        if not temporary.exists():
            private_folder(temporary)
            if user is not None:
                owner = pwd.getpwnam(user)
                os.chown(temporary, owner.pw_uid, owner.pw_gid)
        writable = tuple(dict.fromkeys((self.folder, self.socket_folder, self.data or self.folder)))
        visible, hidden = arranged(program_places(program), writable, self.sealed_from)
        network = "open" if parts.no_network else "none"
        return Sealing(own, visible, writable, hidden, str(temporary), network=network, user=user).prefix()

    def _wait(self, process: Running) -> None:
        deadline = time.monotonic() + START_SECONDS
        server = open_database(self.place.with_name(self.place.kind.first_database))
        while True:
            try:
                server.version()
                return
            except KeenHarborError as error:
                if process.ended() or time.monotonic() > deadline:
                    tail = (Path(self.folder) / "server.log").read_text(encoding="utf-8", errors="replace")[-400:]
                    raise KeenHarborError(
                        f"the private {self.engine} server does not start: {tail.strip() or error.what}",
                        where=self.folder,
                    ) from error
                time.sleep(0.03)

    @property
    def running(self) -> bool:
        """Whether its process runs; one that only took over its number does not count."""
        return runs(self.pid, self.pid_started)

    def stop(self) -> None:
        """End the server."""
        if not self.running or self.pid is None:
            return
        for sign in (self._recipe.stop_signal, signal.SIGKILL):
            with contextlib.suppress(ProcessLookupError):
                os.killpg(self.pid, sign)
            end = time.monotonic() + 10
            while self.running and time.monotonic() < end:
                if self._process is not None:
                    self._process.ended()
                time.sleep(0.02)
            if not self.running:
                break
        if self._process is not None:
            self._process.wait()
        self.pid, self._process = None, None

    def remove(self) -> None:
        """End the server and remove every trace of it."""
        self.stop()
        for folder in {self.folder, self.socket_folder, self.data or self.folder}:
            remove_folder(Path(folder))

    def run_sql(self, statement: str) -> None:
        """Run a statement on the server, outside any database of a site."""
        self._recipe.run_sql(self.place, statement)

    def write(self, file: Path) -> None:
        """Write down what is needed to find the server again."""
        write_json(file, self.as_json())

    @classmethod
    def read(cls, file: Path) -> PrivateServer:
        """The server that was written down."""
        return cls(**json.loads(file.read_bytes()))

    def as_json(self) -> dict[str, object]:
        return asdict(self)

    def __enter__(self) -> PrivateServer:
        return self

    def __exit__(self, *_: object) -> None:
        self.remove()
