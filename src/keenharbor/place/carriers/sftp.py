"""A place behind SSH's file transfer (SFTP), by asyncssh: keys, the agent, and the user's own configuration of SSH
count as they do everywhere; a host that is not known, or has another key than before, is not spoken to."""

from __future__ import annotations

import asyncio
import contextlib
import os
from collections.abc import Awaitable, Callable
from typing import TYPE_CHECKING, TypeVar
from urllib.parse import urlsplit

from keenharbor.host.far.connecting import Door, LoopThread, connected, line_error
from keenharbor.place.carriers import MOST_NAMES, CarrierError, Names, NotThereError, Pace, Whither, is_plain, no_pace

if TYPE_CHECKING:
    from asyncssh import SFTPClient, SSHClientConnection

T = TypeVar("T")
_LARGEST_WRITE = 255 * 1024
_USUAL_WRITE = 32 * 1024
_AT_ONCE = 16
_FULL = "free some space there, or let old ones go: keenharbor place thin"


class SftpCarrier:
    """Objects as files below a folder (``sftp://USER@HOST:PORT/FOLDER``; ``/~/FOLDER`` from the user's own). One
    connection, over which several requests go at once; it is made anew when it broke. A server writes what comes in
    order, so that what a cut line left of an object is its beginning."""

    resumes = True

    def __init__(self, whither: Whither, *, makes: bool) -> None:
        parts = urlsplit(whither.url)
        self._whither = whither
        self._root = whither.path.removeprefix("/~/") or "."
        self._made: set[str] = set()
        self._begun: set[str] = set()
        self._connection: SSHClientConnection | None = None
        self._client: SFTPClient | None = None
        self._door = Door(
            parts.hostname or "", parts.port, whither.user or parts.username, whither.password, whither.key_file,
            whither.known_hosts,
        )  # fmt: skip
        self._thread = LoopThread("sftp")
        self._opening = asyncio.Lock()
        try:
            self._do(lambda client: self._begin(client, makes))
        except BaseException:
            self.close()
            raise

    async def _begin(self, client: SFTPClient, makes: bool) -> None:
        if makes:
            await client.makedirs(self._root, exist_ok=True)
        elif not await client.isdir(self._root):
            raise CarrierError("the folder of the place is not there", passing=False, where=self._whither.told)

    async def _opened(self) -> SFTPClient:
        async with self._opening:
            if self._client is None:
                self._connection = await connected(self._door)
                self._client = await self._connection.start_sftp_client()
            return self._client

    def _do(self, work: Callable[[SFTPClient], Awaitable[T]]) -> T:
        """Carry out ``work`` in the thread that holds the connection, and wait for it."""

        used: SFTPClient | None = None

        async def run() -> T:
            nonlocal used
            used = await self._opened()
            return await work(used)

        import asyncssh

        try:
            return self._thread.do(run())
        except asyncssh.SFTPNoSuchFile as error:
            raise NotThereError(error.reason) from None
        except (asyncssh.SFTPPermissionDenied, asyncssh.SFTPNoSpaceOnFilesystem, asyncssh.SFTPQuotaExceeded) as error:
            advice = None if isinstance(error, asyncssh.SFTPPermissionDenied) else _FULL
            raise CarrierError(f"the place refuses: {error.reason}", passing=False, advice=advice) from None
        except (asyncssh.HostKeyNotVerifiable, asyncssh.PermissionDenied) as error:
            told = line_error(error, self._door, "the place")
            raise CarrierError(told.what, passing=False, where=self._whither.told, advice=told.advice) from None
        except asyncssh.SFTPFailure as error:
            raise CarrierError(f"the place: {error.reason}") from None
        except (OSError, asyncssh.Error, asyncio.CancelledError, ValueError) as error:
            self._broken(used)
            raise CarrierError(f"the line to {self._door.host}: {str(error) or type(error).__name__}") from None

    def _broken(self, used: SFTPClient | None) -> None:
        """Give up a connection; another that was made meanwhile stays."""
        if used is not self._client:
            return
        connection, self._connection, self._client = self._connection, None, None
        if connection is not None:
            self._thread.soon(connection.abort)

    def _path(self, name: str) -> str:
        return f"{self._root.rstrip('/')}/{name}"

    def put(self, name: str, data: bytes, pace: Pace) -> None:
        async def send(client: SFTPClient) -> None:
            path = self._path(name)
            folder = path.rpartition("/")[0]
            if folder not in self._made:
                await client.makedirs(folder, exist_ok=True)
                self._made.add(folder)
            there = await self._begun_there(client, name, path)
            self._begun.add(name)
            async with client.open(path, "xb" if there is None else "r+b", block_size=0) as file:
                begun: list[asyncio.Task[int]] = []
                waiting: set[asyncio.Task[int]] = set()
                size = min(_LARGEST_WRITE, client.limits.max_write_len or _USUAL_WRITE)
                try:
                    for at in range(there or 0, len(data), size):
                        block = data[at : at + size]
                        if pace is not no_pace:
                            await asyncio.to_thread(pace, len(block))
                        begun.append(asyncio.ensure_future(file.write(block, at)))
                        waiting.add(begun[-1])
                        if len(waiting) >= _AT_ONCE:
                            done, waiting = await asyncio.wait(waiting, return_when=asyncio.FIRST_COMPLETED)
                            for task in done:
                                task.result()
                    await asyncio.gather(*waiting)
                finally:  # of a line that broke each says the same
                    await asyncio.gather(*begun, return_exceptions=True)
                with contextlib.suppress(Exception):  # a server need not offer it
                    await file.fsync()

        self._do(send)
        self._begun.discard(name)

    async def _begun_there(self, client: SFTPClient, name: str, path: str) -> int | None:
        """How much is there of an object at which this was cut; None where there is nothing of it."""
        if name in self._begun and await client.exists(path):
            return (await client.stat(path)).size or 0
        return None

    def get(self, name: str, most: int, pace: Pace) -> bytes:
        async def fetch(client: SFTPClient) -> bytes:
            size = (await client.stat(self._path(name))).size or 0
            if size > most:
                raise CarrierError(f"'{name}' is larger than it is to be", passing=False)
            await asyncio.to_thread(pace, size)
            async with client.open(self._path(name), "rb") as file:
                content = await file.read(most + 1)
            return content if isinstance(content, bytes) else b""

        return self._do(fetch)

    def sizes(self, under: str) -> dict[str, int]:
        async def walk(client: SFTPClient) -> dict[str, int]:
            found = Names()
            folders = 0
            waiting = [under.strip("/")]
            while waiting:
                folder = waiting.pop()
                async for entry in client.scandir(self._path(folder) if folder else self._root):
                    base = os.fsdecode(entry.filename)
                    name = f"{folder}/{base}" if folder else base
                    if not is_plain(name):
                        continue
                    if entry.attrs.type == 2:
                        folders += 1
                        if folders >= MOST_NAMES:
                            raise CarrierError("the place lists more folders than any has", passing=False)
                        waiting.append(name)
                    else:
                        found.note(name, entry.attrs.size or 0)
            return found

        try:
            return self._do(walk)
        except NotThereError:
            return {}

    def remove(self, name: str) -> None:
        with contextlib.suppress(NotThereError):
            self._do(lambda client: client.remove(self._path(name)))

    def close(self) -> None:
        connection = self._connection

        async def end() -> None:
            if connection is not None:
                connection.close()
                with contextlib.suppress(Exception):
                    await asyncio.wait_for(connection.wait_closed(), 5)

        with contextlib.suppress(Exception):
            self._thread.do(end(), 10)
        self._thread.end()
