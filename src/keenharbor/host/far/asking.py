"""Asking the helper on a far machine, from any thread: in lanes, whose questions are answered in their order.

Whatever comes back is checked: a far side that talks nonsense is told of, and takes no more memory than another."""

from __future__ import annotations

import asyncio
import contextlib
import itertools
import queue
import sqlite3
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.base.text import shorten, visible
from keenharbor.host.far.connecting import Door, LineError, LineLostError, LoopThread
from keenharbor.host.far.frames import (
    HEAD_LENGTH,
    MOST_ON_THE_WAY,
    PART_SIZE,
    Frame,
    FrameError,
    length_of,
    packed,
    unpacked,
)
from keenharbor.host.far.sent import FIRST, program
from keenharbor.host.lease import HeldError
from keenharbor.host.programs import ProgramError

if TYPE_CHECKING:
    from asyncssh import SSHClientConnection, SSHClientProcess

ALIVE_SECONDS = 15.0
"""So often the helper is told that it is still wanted, and asked whether it is there."""
SILENT_SECONDS = 75.0
"""When nothing has come for so long, it is not."""
_TAKEN_AT_ONCE = MOST_ON_THE_WAY // 3
_MOST_WAITING = MOST_ON_THE_WAY + 4
CHANGING = frozenset(("change", "changed", "write", "overwrite", "run", "ask", "environment", "install", "connect",
                      "execute_many"))  # fmt: skip
"""What may change what stands over there; of `CHANGING_TREES`, too."""
CHANGING_TREES = frozenset(("remove", "prune", "clear", "make_root", "relink"))


class NoHelperError(LineError):
    """The machine has nothing that the helper runs on."""


def raised(told: Any, where: str) -> Exception:
    """The error that the helper told (see `keenharbor.host.far.helper.told_error`)."""
    match told:
        case ["os", int(number), str(words), str() | None as file]:
            return OSError(number, words, file) if file is not None else OSError(number, words)
        case ["held", str(what), place, advice]:
            return HeldError(visible(what), where=_text(place), advice=_text(advice))
        case ["usage", str(what), place, advice]:
            return UsageError(visible(what), where=_text(place) or where, advice=_text(advice))
        case ["own", str(what), place, advice]:
            return KeenHarborError(visible(what), where=_text(place) or where, advice=_text(advice))
        case ["program", str(words)]:
            return ProgramError(words)
        case ["database", str(name), str(words)]:
            kind = getattr(sqlite3, name, sqlite3.DatabaseError)
            proper = isinstance(kind, type) and issubclass(kind, sqlite3.Error)
            return kind(words) if proper else sqlite3.DatabaseError(words)
        case ["unicode", str(words)]:
            return UnicodeEncodeError("utf-8", "", 0, 1, words)
        case ["other", str(words)]:
            return LineError(f"the helper on the far machine failed: {shorten(visible(words), 300)}", where=where)
    return nonsense(where)


def _text(value: object) -> str | None:
    return visible(value) if isinstance(value, str) else None


def nonsense(where: str) -> LineError:
    """What is raised when the far side says what no helper says."""
    return LineError(
        "the far machine answers what the tool's helper never would; nothing of it was used", where=where,
        advice="make sure that it is the right machine: 'keenharbor reach' shows how it is reached",
    )  # fmt: skip


@dataclass
class Pending:
    """A question that was sent."""

    asking: Asking
    number: int
    arrived: queue.Queue[Frame | Exception]
    untold: int = 0

    def _next(self) -> Frame:
        found = self.arrived.get()
        if isinstance(found, Exception):
            self.asking.forget(self.number)
            raise found
        return found

    def parts(self) -> Iterator[Frame]:
        """The parts of the answer as they come; `result` is what is told at its end."""
        while True:
            frame = self._next()
            kind = frame.values[1]
            if kind == "part":
                self.untold += 1
                if self.untold >= _TAKEN_AT_ONCE:
                    self.asking.tell_taken(self.number, self.untold)
                    self.untold = 0
                yield Frame(frame.values[2], frame.body)
                continue
            self.asking.forget(self.number)
            if kind == "error":
                raise raised(frame.values[2], self.asking.told)
            self.result: Any = frame.values[2]
            self.body = frame.body
            return

    def answer(self) -> Any:
        """What is told at its end, where no parts are wanted."""
        for _ in self.parts():
            raise nonsense(self.asking.told)
        return self.result


class Lane:
    """Questions that are answered in their order. By one thread at a time."""

    def __init__(self, asking: Asking, number: int) -> None:
        self._asking, self._number = asking, number

    def begin(self, what: str, *given: Any, body: bytes = b"") -> Pending:
        """Ask, and go on."""
        return self._asking.begin(self._number, what, given, body)

    def ask(self, what: str, *given: Any, body: bytes = b"") -> Any:
        """Ask, and wait for the answer."""
        return self.begin(what, *given, body=body).answer()

    def tell(self, what: str, *given: Any, body: bytes = b"") -> None:
        """Say what is not answered."""
        self._asking.send([self._number, 0, what, list(given)], body)

    def ask_with(self, what: str, *given: Any, content: bytes) -> Any:
        """Ask with a content of any size; how long it is, is the last that is given."""
        waiting = self.begin(what, *given, len(content), body=content[:PART_SIZE])
        for at in range(PART_SIZE, len(content), PART_SIZE):
            self.tell("piece", body=content[at : at + PART_SIZE])
        return waiting.answer()

    def end(self) -> None:
        """There will be no more in it."""
        with contextlib.suppress(LineError):
            self.tell("end")


class Asking:
    """One helper on a far machine, for as long as its line holds."""

    def __init__(
        self, thread: LoopThread, door: Door, pace: Callable[[int], float], changed: Callable[[], None]
    ) -> None:
        """``pace`` is told how many bytes went over the line, and says how long to wait; ``changed`` is called before
        anything is asked for that may change something over there."""
        self._thread, self._door, self._pace, self.changed = thread, door, pace, changed
        self._numbers = itertools.count(1)
        self._lanes = itertools.count(1)
        self._calls: dict[int, Pending] = {}
        self._process: SSHClientProcess[bytes] | None = None
        self._tasks: list[asyncio.Task[None]] = []
        self.lost: LineError | None = None
        self.facts: Any = {}
        """What the helper told of its machine."""
        self.sent = self.received = 0
        self._heard = time.monotonic()

    @property
    def told(self) -> str:
        return self._door.told

    async def start(self, connection: SSHClientConnection, python: str) -> None:
        """Begin. Raises `NoHelperError` where the machine cannot run it."""
        import asyncssh

        command = f"exec {python} -I -S -c '{FIRST}'"
        try:
            process = await connection.create_process(command, encoding=None)
        except asyncssh.ChannelOpenError as error:
            raise NoHelperError(f"{self.told} runs no programs for this user: {error.reason}") from None
        self._process = process
        try:
            process.stdin.write(program())
            head = await asyncio.wait_for(self._first(process), 60)
        except (TimeoutError, asyncio.IncompleteReadError, FrameError, asyncssh.Error, OSError):
            said = b""
            with contextlib.suppress(Exception):
                said = await asyncio.wait_for(process.stderr.read(2000), 2)
            process.close()
            words = shorten(visible(said.decode("utf-8", "replace").strip().splitlines()[-1]), 200) if said else ""
            raise NoHelperError(
                f"{self.told} cannot run the tool's helper" + (f": {words}" if words else ""),
                advice="a Python from 3.9 on is wanted there for all but files; 'python' under [line] names it",
            ) from None
        self.facts = head.values[2] if isinstance(head.values, list) and len(head.values) == 3 else {}
        self._tasks = [asyncio.ensure_future(self._listen(process)), asyncio.ensure_future(self._stay_alive())]

    async def _first(self, process: SSHClientProcess[bytes]) -> Frame:
        """The first answer, which shows that the helper is there: before any other question is sent."""
        process.stdin.write(packed(Frame([0, 0, "hello", []])))
        flags, length = length_of(await process.stdout.readexactly(HEAD_LENGTH))
        if length > 100_000:
            raise FrameError("what came is no message of the helper")
        return unpacked(flags, await process.stdout.readexactly(length))

    async def _listen(self, process: SSHClientProcess[bytes]) -> None:
        import asyncssh

        error: LineError
        self._heard = time.monotonic()
        try:
            while True:
                flags, length = length_of(await process.stdout.readexactly(HEAD_LENGTH))
                whole = await self._whole(process, length)
                self.received += length + HEAD_LENGTH
                wait = self._pace(length)
                if wait > 0:
                    await asyncio.sleep(wait)
                self._arrived(unpacked(flags, whole))
        except (FrameError, TypeError, ValueError, KeyError, IndexError):
            error = nonsense(self.told)
        except (asyncio.IncompleteReadError, asyncssh.Error, OSError):
            error = LineLostError(
                f"the line to {self.told} broke", advice="try again; what was begun on live tells 'keenharbor settle'"
            )
        self._end_with(error)
        process.close()

    async def _whole(self, process: SSHClientProcess[bytes], length: int) -> bytes:
        """The next bytes, as they come: what is announced and never comes takes no memory."""
        parts = []
        while length:
            part = await process.stdout.read(min(length, PART_SIZE))
            if not part:
                raise asyncio.IncompleteReadError(b"", length)
            self._heard = time.monotonic()
            parts.append(part)
            length -= len(part)
        return b"".join(parts)

    def _arrived(self, frame: Frame) -> None:
        values = frame.values
        if values == [0, "alive", None]:
            return
        if not isinstance(values, list) or len(values) != 3 or values[1] not in ("part", "done", "error"):
            raise ValueError("no answer")
        pending = self._calls.get(values[0])
        if pending is None:
            return  # nobody wants it any more
        if pending.arrived.qsize() > _MOST_WAITING:
            raise ValueError("more than was asked for")
        pending.arrived.put(frame)

    async def _stay_alive(self) -> None:
        while self.lost is None:
            await asyncio.sleep(ALIVE_SECONDS)
            with contextlib.suppress(LineError):
                await self._send(packed(Frame([0, 0, "alive"])))
            if time.monotonic() - self._heard > SILENT_SECONDS:
                self._end_with(LineLostError(
                    f"{self.told} says nothing any more, though its line holds",
                    advice="see whether the machine is overloaded, or its disk does not answer",
                ))  # fmt: skip
                if self._process is not None:
                    self._process.close()

    def _end_with(self, error: LineError) -> None:
        if self.lost is None:
            self.lost = error
        for pending in [*self._calls.values()]:
            pending.arrived.put(error)

    async def _send(self, data: bytes) -> None:
        import asyncssh

        if self.lost is not None:
            raise self.lost
        assert self._process is not None
        try:
            self._process.stdin.write(data)
            await self._process.stdin.drain()
        except (asyncssh.Error, OSError, ConnectionError):
            lost = LineLostError(f"the line to {self.told} broke")
            self._end_with(lost)
            raise lost from None
        self.sent += len(data)
        wait = self._pace(len(data))
        if wait > 0:
            await asyncio.sleep(wait)

    # -- from other threads ------------------------------------------------------------------------------------

    def send(self, values: Any, body: bytes = b"") -> None:
        """Send a message."""
        self._thread.do(self._send(packed(Frame(values, body))))

    def lane(self) -> Lane:
        """A new lane."""
        return Lane(self, next(self._lanes))

    def begin(self, lane: int, what: str, given: tuple[Any, ...], body: bytes) -> Pending:
        """Ask in a lane."""
        number = next(self._numbers)
        if what in CHANGING or (what == "tree" and given[2] in CHANGING_TREES):
            self.changed()
        pending = self._calls[number] = Pending(self, number, queue.Queue())
        try:
            self.send([lane, number, what, list(given)], body)
        except BaseException:
            self._calls.pop(number, None)
            raise
        return pending

    def forget(self, number: int) -> None:
        """What comes of this question is not wanted any more."""
        self._calls.pop(number, None)

    def drop(self, number: int) -> None:
        """Say so to the helper, too."""
        self.forget(number)
        with contextlib.suppress(LineError):
            self.send([0, number, "drop"])

    def tell_taken(self, number: int, count: int) -> None:
        """Let the helper send as many parts more."""
        with contextlib.suppress(LineError):
            self.send([0, number, "taken", count])

    def close(self) -> None:
        """End the helper; nothing is left of it there."""

        async def end() -> None:
            if self._process is not None:
                with contextlib.suppress(Exception):
                    self._process.stdin.write_eof()
                    await asyncio.wait_for(self._process.wait_closed(), 10)
            for task in self._tasks:
                task.cancel()

        with contextlib.suppress(Exception):
            self._thread.do(end(), 15)
        self._end_with(LineLostError("the line was closed"))
