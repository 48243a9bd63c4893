"""Passes connections on, between the inside of a clone's network and the outside. A program of its own:

    python relay.py LISTEN=CONNECT …       with tcp:PORT (on loopback) or unix:PATH on either side

It says ``ready`` when it listens, and ends when its standard input does: with the program that started it, however that
ends."""

from __future__ import annotations

import asyncio
import contextlib
import sys
from pathlib import Path

_LARGEST_HELD = 1 << 20


class _End(asyncio.Protocol):
    """One end of a connection: what comes in goes out at the other end."""

    def __init__(self, other: _End | None = None) -> None:
        self.other = other
        self.transport: asyncio.Transport | None = None
        self.held: list[bytes] = []
        self.ended = False

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        self.transport = transport
        transport.set_write_buffer_limits(high=_LARGEST_HELD)
        for data in self.held:
            transport.write(data)
        if self.ended:
            self.finish()

    def data_received(self, data: bytes) -> None:
        if self.other is not None:
            self.other.send(data)

    def send(self, data: bytes) -> None:
        if self.transport is None:
            self.held.append(data)
        else:
            self.transport.write(data)

    def finish(self) -> None:
        """No more is to be sent."""
        self.ended = True
        if self.transport is not None and not self.transport.is_closing():
            with contextlib.suppress(OSError, NotImplementedError):
                self.transport.write_eof()

    def eof_received(self) -> bool:
        if self.other is not None:
            self.other.finish()
        return True

    def pause_writing(self) -> None:
        if self.other is not None and self.other.transport is not None:
            self.other.transport.pause_reading()

    def resume_writing(self) -> None:
        if self.other is not None and self.other.transport is not None:
            self.other.transport.resume_reading()

    def connection_lost(self, error: Exception | None) -> None:
        if self.other is not None and self.other.transport is not None:
            self.other.transport.close()


class _Entrance(_End):
    """The end at which somebody has come in: it opens the other one."""

    def __init__(self, goal: str) -> None:
        super().__init__()
        self._goal = goal

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        super().connection_made(transport)
        self.other = _End(self)
        self._task = asyncio.ensure_future(self._open(self.other))

    async def _open(self, other: _End) -> None:
        loop = asyncio.get_running_loop()
        kind, _, place = self._goal.partition(":")
        try:
            if kind == "unix":
                await loop.create_unix_connection(lambda: other, place)
            else:
                await loop.create_connection(lambda: other, "127.0.0.1", int(place))
        except OSError:
            if self.transport is not None:
                self.transport.abort()


async def _run(pairs: list[tuple[str, str]]) -> None:
    loop = asyncio.get_running_loop()
    for listen, goal in pairs:
        kind, _, place = listen.partition(":")
        if kind == "unix":
            with contextlib.suppress(FileNotFoundError):
                Path(place).unlink()
            await loop.create_unix_server(lambda goal=goal: _Entrance(goal), place)  # type: ignore[misc]
        else:
            await loop.create_server(lambda goal=goal: _Entrance(goal), "127.0.0.1", int(place), backlog=256)  # type: ignore[misc]
    sys.stdout.write("ready\n")
    sys.stdout.flush()
    reader = asyncio.StreamReader()
    await loop.connect_read_pipe(lambda: asyncio.StreamReaderProtocol(reader), sys.stdin)
    await reader.read()


def main(words: list[str]) -> None:
    """Pass connections on until standard input ends."""
    pairs = [(listen, goal) for listen, _, goal in (word.partition("=") for word in words)]
    asyncio.run(_run(pairs))


if __name__ == "__main__":
    main(sys.argv[1:])
