"""A line with a delay and a rate, which can be cut: a relay of TCP on loopback, in a process of its own."""

from __future__ import annotations

import asyncio
import contextlib
import multiprocessing
import time
from collections.abc import Iterator
from dataclasses import dataclass
from multiprocessing.connection import Connection

_PIECE = 16 * 1024
_QUEUE_SECONDS = 0.1
"""What a router holds back before the sender feels it."""


@dataclass(frozen=True)
class Shape:
    """Seconds one way; bytes a second in each direction (0: as fast as it goes)."""

    delay: float = 0.0
    rate: float = 0.0


class Relay:
    """What goes on in the process."""

    def __init__(self, port: int, shape: Shape) -> None:
        self._port, self._shape = port, shape
        self._passed = [0, 0]
        self._open: set[asyncio.StreamWriter] = set()
        self._cut = False

    async def serve(self, orders: Connection) -> None:
        server = await asyncio.start_server(self._accept, "127.0.0.1", 0)
        orders.send(server.sockets[0].getsockname()[1])
        loop = asyncio.get_running_loop()
        while True:
            order = await loop.run_in_executor(None, orders.recv)
            if order == "cut":  # all that is open, and nothing new until it is mended
                self._cut = True
                for writer in [*self._open]:
                    writer.transport.abort()
            elif order == "mend":
                self._cut = False
            elif order == "counts":
                orders.send(list(self._passed))
                continue
            elif order == "end":
                return
            orders.send("done")

    async def _accept(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        if self._cut:
            writer.transport.abort()
            return
        try:
            there, back = await asyncio.open_connection("127.0.0.1", self._port)
        except OSError:
            writer.transport.abort()
            return
        self._open |= {writer, back}
        try:
            await asyncio.gather(self._carry(reader, back, 0), self._carry(there, writer, 1))
        except asyncio.CancelledError:
            return
        finally:
            self._open -= {writer, back}

    async def _carry(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, way: int) -> None:
        waiting: asyncio.Queue[tuple[float, bytes]] = asyncio.Queue()
        free_at = time.monotonic()

        async def deliver() -> None:
            while True:
                due, data = await waiting.get()
                await asyncio.sleep(due - time.monotonic())
                if not data:
                    with contextlib.suppress(OSError):
                        writer.write_eof()
                    return
                writer.write(data)
                await writer.drain()

        delivery = asyncio.ensure_future(deliver())
        try:
            while data := await reader.read(_PIECE):
                self._passed[way] += len(data)
                now = time.monotonic()
                free_at = max(free_at, now) + (len(data) / self._shape.rate if self._shape.rate else 0.0)
                waiting.put_nowait((free_at + self._shape.delay, data))
                if free_at - now > _QUEUE_SECONDS:
                    await asyncio.sleep(free_at - now - _QUEUE_SECONDS / 2)
        except OSError:
            pass
        waiting.put_nowait((max(free_at, time.monotonic()) + self._shape.delay, b""))
        with contextlib.suppress(OSError):
            await delivery


def _run(port: int, shape: Shape, orders: Connection) -> None:
    asyncio.run(Relay(port, shape).serve(orders))


class ShapedLine:
    """The relay, from outside."""

    def __init__(self, orders: Connection, port: int) -> None:
        self._orders, self.port = orders, port

    def _order(self, what: str) -> object:
        self._orders.send(what)
        return self._orders.recv()

    def cut(self) -> None:
        """Cut what is open; nothing gets through until `mend`."""
        self._order("cut")

    def mend(self) -> None:
        self._order("mend")

    def passed(self) -> tuple[int, int]:
        """Bytes to there, and from there."""
        found = self._order("counts")
        assert isinstance(found, list)
        return int(found[0]), int(found[1])


@contextlib.contextmanager
def shaped_line(port: int, shape: Shape) -> Iterator[ShapedLine]:
    """A line to ``port`` on loopback."""
    ours, theirs = multiprocessing.Pipe()
    process = multiprocessing.get_context("spawn").Process(target=_run, args=(port, shape, theirs), daemon=True)
    process.start()
    try:
        yield ShapedLine(ours, ours.recv())
    finally:
        with contextlib.suppress(OSError):
            ours.send("end")
        process.join(2)
        process.kill()
