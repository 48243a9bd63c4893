"""A place behind SSH's file transfer (SFTP), by asyncssh: keys, the agent, and the user's own configuration of SSH
count as they do everywhere; a host that is not known, or has another key than before, is not spoken to."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import re
import threading
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar
from urllib.parse import urlsplit

from keenharbor.place.carriers import MOST_NAMES, CarrierError, Names, NotThereError, Pace, Whither, is_plain, no_pace

if TYPE_CHECKING:
    from asyncssh import SFTPClient, SSHClientConnection

T = TypeVar("T")
_LARGEST_WRITE = 255 * 1024
_USUAL_WRITE = 32 * 1024
_AT_ONCE = 16
_SECONDS = 30
_FULL = "free some space there, or let old ones go: keenharbor place thin"


_QUICK_CIPHERS = "^aes128-gcm@openssh.com,aes256-gcm@openssh.com"
"""Before the others: with what processors do themselves a megabyte costs a third."""


def names_ciphers(config: Path) -> bool:
    """Whether the user's configuration of SSH says which ciphers are to be used."""
    try:
        return bool(re.search(r"(?im)^\s*(ciphers\b|include\b)", config.read_text(errors="replace")))
    except OSError:
        return False


class SftpCarrier:
    """Objects as files below a folder (``sftp://USER@HOST:PORT/FOLDER``; ``/~/FOLDER`` from the user's own). One
    connection, over which several requests go at once; it is made anew when it broke. A server writes what comes in
    order, so that what a cut line left of an object is its beginning."""

    resumes = True

    def __init__(self, whither: Whither, *, makes: bool) -> None:
        parts = urlsplit(whither.url)
        self._whither, self._host, self._port = whither, parts.hostname or "", parts.port
        self._user = whither.user or parts.username
        self._root = whither.path.removeprefix("/~/") or "."
        self._made: set[str] = set()
        self._begun: set[str] = set()
        self._connection: SSHClientConnection | None = None
        self._client: SFTPClient | None = None
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, name="sftp", daemon=True)
        self._thread.start()
        self._opening = asyncio.Lock()
        logging.getLogger("asyncio").setLevel(logging.ERROR)  # a line that breaks is told of by what waits for it
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
        import asyncssh

        async with self._opening:
            if self._client is None:
                there = self._whither
                config = Path("~/.ssh/config").expanduser()
                quick = () if names_ciphers(config) else _QUICK_CIPHERS
                self._connection = await asyncssh.connect(  # what is () is as the user's configuration says
                    self._host, port=self._port or (), username=self._user or (), password=there.password,
                    client_keys=[str(there.key_file)] if there.key_file is not None else (),
                    known_hosts=str(there.known_hosts) if there.known_hosts is not None else (),
                    config=[str(config)] if config.is_file() else None, connect_timeout=_SECONDS,
                    encryption_algs=quick, login_timeout=_SECONDS, keepalive_interval=15, keepalive_count_max=4,
                )  # fmt: skip
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
            return asyncio.run_coroutine_threadsafe(run(), self._loop).result()
        except asyncssh.SFTPNoSuchFile as error:
            raise NotThereError(error.reason) from None
        except (asyncssh.SFTPPermissionDenied, asyncssh.SFTPNoSpaceOnFilesystem, asyncssh.SFTPQuotaExceeded) as error:
            advice = None if isinstance(error, asyncssh.SFTPPermissionDenied) else _FULL
            raise CarrierError(f"the place refuses: {error.reason}", passing=False, advice=advice) from None
        except asyncssh.HostKeyNotVerifiable as error:
            raise CarrierError(
                f"the key of {self._host} is not known, or is another than before: {error.reason}", passing=False,
                advice=f"make sure that it is the right one ('ssh {self._host}' shows it and notes it), or name a file "
                "by 'known_hosts' of the place",
            ) from None  # fmt: skip
        except asyncssh.PermissionDenied:
            raise CarrierError(
                f"{self._host} does not let '{self._user or 'you'}' in", passing=False, where=self._whither.told,
                advice="'key_file' of the place names a key of SSH, 'password' a secret by env:NAME or file:PATH",
            ) from None  # fmt: skip
        except asyncssh.SFTPFailure as error:
            raise CarrierError(f"the place: {error.reason}") from None
        except (OSError, asyncssh.Error, asyncio.CancelledError, ValueError) as error:
            self._broken(used)
            raise CarrierError(f"the line to {self._host}: {str(error) or type(error).__name__}") from None

    def _broken(self, used: SFTPClient | None) -> None:
        """Give up a connection; another that was made meanwhile stays."""
        if used is not self._client:
            return
        connection, self._connection, self._client = self._connection, None, None
        if connection is not None:
            self._loop.call_soon_threadsafe(connection.abort)

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
            asyncio.run_coroutine_threadsafe(end(), self._loop).result(10)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(10)
        if not self._thread.is_alive():
            self._loop.close()
