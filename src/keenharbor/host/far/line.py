"""The line to a far machine: opened when it is needed, and anew when it broke; one for all that a command does."""

from __future__ import annotations

import asyncio
import atexit
import contextlib
import os
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from keenharbor.base.durable import remove_folder
from keenharbor.host.far.asking import Asking, Lane
from keenharbor.host.far.connecting import Door, LineError, LineLostError, LoopThread, connected, line_error
from keenharbor.host.protocol import Endpoint, Facts

if TYPE_CHECKING:
    from asyncssh import SFTPClient, SSHClientConnection, SSHListener

T = TypeVar("T")
Listing = tuple[dict[str, Facts | None], dict[str, bytes]]
"""What each name in a folder is, links followed, and what is in the small files."""
TABLE = "[line] of the site file"
_TRIES = 4
_FIRST_PAUSE = 0.5


@dataclass(frozen=True)
class LineSettings:
    """How a machine is reached: the door; ``python`` its interpreter for the helper; ``rate`` bytes a second at most
    (0: as fast as it goes); ``helper`` whether programs of ours may be run there."""

    door: Door
    python: str = "python3"
    rate: float = 0.0
    helper: bool = True


class Line:
    """One machine. Several threads may use it."""

    def __init__(self, settings: LineSettings) -> None:
        self.settings = settings
        self.door = settings.door
        self._thread = LoopThread("line")
        self._opening = threading.Lock()
        self._connection: SSHClientConnection | None = None
        self._packing: SSHClientConnection | None = None
        self._asking: Asking | None = None
        self._sftp: SFTPClient | None = None
        self._sftp_opening: asyncio.Lock | None = None
        self._own = threading.local()
        self._passages: dict[Endpoint, Endpoint] = {}
        self._listeners: list[SSHListener] = []
        self._held: dict[int, tuple[Any, ...]] = {}
        self._folders: list[str] = []
        self._due = 0.0
        self.changed = 0
        """How often something was asked for that may change what stands there."""
        self.listings: dict[tuple[str, bool, str], tuple[float, int, Listing]] = {}
        """What folders hold, as it was told lately (see `keenharbor.host.far.files.FarReading`)."""
        self.opened = 0
        self.closed = False
        self.endings: dict[int, Callable[[], None]] = {}
        """What is called when it is closed."""

    # -- the helper --------------------------------------------------------------------------------------------

    def asking(self) -> Asking:
        """The helper there. Raises `LineError`."""
        with self._opening:
            if self._asking is not None and self._asking.lost is None:
                return self._asking
            asking = Asking(self._thread, self.door, self._pace, self._note_change)
            python = self.settings.python

            async def begin(fresh: bool) -> None:
                await asking.start(await self._connected(fresh), python)

            try:
                self._thread.do(begin(self._asking is not None))
            except LineError:
                raise
            except BaseException as error:
                raise self._told(error) from None
            self._asking = asking
            self.opened += 1
            if self._held:  # what was held on the line that broke is held again, or somebody else has it now
                lane = asking.lane()
                for number, given in self._held.items():
                    lane.ask("hold", number, *given)
                lane.end()
            return asking

    def lane(self) -> Lane:
        """The lane of this thread."""
        asking = self.asking()
        if getattr(self._own, "asking", None) is not asking:
            self._own.asking, self._own.lane = asking, asking.lane()
        found: Lane = self._own.lane
        return found

    @contextlib.contextmanager
    def own_lane(self) -> Iterator[Lane]:
        """A lane for the time of the block, beside that of the thread."""
        lane = self.asking().lane()
        try:
            yield lane
        finally:
            lane.end()

    def repeated(self, work: Callable[[], T]) -> T:
        """What ``work`` returns, which only reads: tried anew a few times where the line broke."""
        pause = _FIRST_PAUSE
        for left in reversed(range(_TRIES)):
            try:
                return work()
            except LineLostError:
                if not left:
                    raise
            time.sleep(pause)
            pause *= 2
        raise AssertionError("unreachable")

    def hold(self, number: int, *given: Any) -> None:
        """Hold a lease there; see `keenharbor.host.far.helper`."""
        self.lane().ask("hold", number, *given)
        self._held[number] = given

    def let_go(self, number: int) -> None:
        """Let it go. What cannot be told to the far side any more went with the line."""
        self._held.pop(number, None)
        with contextlib.suppress(LineError):
            if self._asking is not None and self._asking.lost is None:
                self.lane().ask("let_go", number)

    def _note_change(self) -> None:
        self.changed += 1
        self.listings.clear()

    def _pace(self, count: int) -> float:
        """How long to wait behind so many bytes, in seconds."""
        if not self.settings.rate:
            return 0.0
        now = time.monotonic()
        self._due = max(self._due, now - 0.1) + count / self.settings.rate
        return self._due - now

    # -- connections -------------------------------------------------------------------------------------------

    async def _connected(self, fresh: bool = False) -> SSHClientConnection:
        if fresh and self._connection is not None:
            self._connection.abort()
            self._connection = None
        if self._connection is None or self._connection.is_closed():
            self._connection = await connected(self.door)
        return self._connection

    def _told(self, error: BaseException) -> LineError:
        return line_error(error, self.door, TABLE)

    async def transfer(self) -> SFTPClient:
        """File transfer over the line; to be called in its thread."""
        if self._sftp is None or self._connection is None or self._connection.is_closed():
            if self._sftp_opening is None:
                self._sftp_opening = asyncio.Lock()
            async with self._sftp_opening:
                if self._sftp is None or self._connection is None or self._connection.is_closed():
                    connection = await self._connected()
                    self._sftp = await connection.start_sftp_client()
        return self._sftp

    def do(self, work: Any) -> Any:
        """Carry out a coroutine in the line's thread. Raises `LineError` where the line breaks."""
        import asyncssh

        try:
            return self._thread.do(work)
        except (asyncssh.SFTPConnectionLost, asyncssh.SFTPNoConnection, asyncssh.ConnectionLost) as error:
            self._sftp = None
            raise LineLostError(f"the line to {self.door.told} broke: {error}") from None
        except asyncssh.SFTPError:
            raise
        except (TimeoutError, OSError, asyncssh.Error, ValueError) as error:
            self._sftp = None
            raise self._told(error) from None

    def reach(self, there: Endpoint) -> Endpoint:
        """A socket in a folder of this user's that leads to a server over there; what goes through is packed. Raises
        `LineError` where the machine does not forward."""
        with self._opening:
            if self._packing is not None and self._packing.is_closed():
                self._passages.clear()
            if there not in self._passages:
                self._passages[there] = self._passage(there)
            return self._passages[there]

    def _passage(self, there: Endpoint) -> Endpoint:
        import asyncssh

        async def open_it() -> Endpoint:
            if self._packing is None or self._packing.is_closed():
                self._packing = await connected(self.door, packs=True)
            connection = self._packing
            # Whether the machine forwards is seen when it is tried, and not when somebody waits for a database.
            folder = self._private_folder()
            if there.socket:
                here = f"{folder}/{there.socket.rpartition('/')[2]}"
                _, probe = await connection.open_unix_connection(there.socket)
                listener = await connection.forward_local_path(here, there.socket)
            else:
                host = there.host or "127.0.0.1"
                here = f"{folder}/.s.PGSQL.{there.port}"  # as one kind of driver wants it; others take any name
                _, probe = await connection.open_connection(host, there.port)
                listener = await connection.forward_local_path_to_port(here, host, there.port)
            probe.close()
            self._listeners.append(listener)
            return Endpoint(socket=here)

        where = there.socket or f"{there.host}:{there.port}"
        try:
            return self._thread.do(open_it())
        except asyncssh.ChannelOpenError as error:
            forbidden = error.code == asyncssh.OPEN_ADMINISTRATIVELY_PROHIBITED or self._answers_there(there)
            reason = error.reason or "it is refused"
            raise LineError(
                f"{self.door.told} forwards nothing to its database at {where}: {reason}" if forbidden
                else f"no database server answers at {where} on {self.door.told}: {reason}",
                advice="the machine's SSH server could allow it to this user: 'AllowTcpForwarding local' and "
                "'AllowStreamLocalForwarding local' (for a socket), with 'PermitOpen' for that one server"
                if forbidden else "make sure that the database's server runs there",
            ) from None  # fmt: skip
        except (TimeoutError, OSError, asyncssh.Error, ValueError) as error:
            raise self._told(error) from None

    def _answers_there(self, there: Endpoint) -> bool:
        """Whether the far user gets at a server: then it is the line that does not lead to it."""
        if self._asking is None or self._asking.lost is not None:
            return False
        lane = self._asking.lane()
        try:
            return lane.ask("answers", there.host or "127.0.0.1", there.port, there.socket) is True
        except LineError:
            return False
        finally:
            lane.end()

    def _private_folder(self) -> str:
        """Where sockets stand: whoever reaches one is taken for this user over there."""
        self._folders.append(tempfile.mkdtemp(prefix="harbor-line-"))
        return self._folders[-1]

    def close(self) -> None:
        """End everything; nothing is left there."""
        if self.closed:
            return
        self.closed = True
        for ending in self.endings.values():
            ending()
        if self._asking is not None:
            self._asking.close()

        async def end() -> None:
            for listener in self._listeners:
                listener.close()
            for connection in (self._connection, self._packing):
                if connection is not None:
                    connection.close()
                    with contextlib.suppress(Exception):
                        await asyncio.wait_for(connection.wait_closed(), 3)

        with contextlib.suppress(Exception):
            self._thread.do(end(), 8)
        self._thread.end()
        for folder in self._folders:
            remove_folder(Path(folder))


_lines: dict[tuple[int, LineSettings], Line] = {}
_guard = threading.Lock()


def line_to(settings: LineSettings) -> Line:
    """The line to a machine that this process has, or will have when it needs it."""
    with _guard:
        key = (os.getpid(), settings)
        if key not in _lines or _lines[key].closed:
            if not _lines:
                atexit.register(close_lines)
            _lines[key] = Line(settings)
        return _lines[key]


def close_lines() -> None:
    """End all lines of this process."""
    with _guard:
        for (owner, _), line in [*_lines.items()]:
            if owner == os.getpid():
                line.close()
        _lines.clear()
