"""The gate before a clone that a person visits: a password, an end, and a word to search engines.

It stands on the clone's own address and passes requests on to its server. Who has not said the password once gets
nothing of the site; after the end nobody does. Every answer says that it is not to be indexed (RFC 9309 for
``robots.txt``; the header ``X-Robots-Tag``), and none is kept by caches on the way."""

from __future__ import annotations

import asyncio
import base64
import contextlib
import hmac
import secrets
import threading
import time
from types import TracebackType

from keenharbor.base.errors import KeenHarborError

USER = "harbor"
_COOKIE = "keenharbor-gate"
_LARGEST_HEAD = 64 * 1024
_SECONDS = 60


class Gate:
    """Listens on loopback ``port`` and passes on to ``target`` (a loopback port) for the time of a ``with`` block.
    ``until`` is the end (seconds of the epoch; None: none)."""

    def __init__(self, port: int, target: int, until: float | None = None, password: str | None = None) -> None:
        self.port, self._target, self._until = port, target, until
        self.password = password or secrets.token_urlsafe(9)
        self._token = secrets.token_urlsafe(18)
        self.let_in = 0
        self.refused = 0
        self._ready = threading.Event()
        self._problem: OSError | None = None

    def __enter__(self) -> Gate:
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()
        self._ready.wait()
        if self._problem is not None:
            raise KeenHarborError(
                f"port {self.port} is taken by another program",
                where=f"127.0.0.1:{self.port}",
                advice="close that program, or the clone",
            )
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._loop.call_soon_threadsafe(self._end.set)
        self._thread.join(timeout=5)

    def _serve(self) -> None:
        asyncio.run(self._run())

    async def _run(self) -> None:
        self._loop, self._end = asyncio.get_running_loop(), asyncio.Event()
        try:
            server = await asyncio.start_server(self._visit, "127.0.0.1", self.port, limit=_LARGEST_HEAD)
        except OSError as error:
            self._problem = error
            self._ready.set()
            return
        self._ready.set()
        async with server:
            await self._end.wait()

    async def _visit(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(OSError, asyncio.IncompleteReadError, asyncio.LimitOverrunError, TimeoutError):
            head = await asyncio.wait_for(reader.readuntil(b"\r\n\r\n"), _SECONDS)
            lines = head.decode("latin-1").split("\r\n")
            fields = {n.strip().lower(): v.strip() for n, _, v in (line.partition(":") for line in lines[1:] if line)}
            if lines[0].split(" ")[1:2] == ["/robots.txt"]:
                await self._say(writer, "200 OK", "User-agent: *\nDisallow: /\n")
            elif self._until is not None and time.time() > self._until:
                await self._say(writer, "410 Gone", "The visit of this clone has ended.\n")
            elif not self._is_known(fields):
                self.refused += 1
                wanted = 'WWW-Authenticate: Basic realm="a clone, not the live site", charset="UTF-8"\r\n'
                await self._say(
                    writer, "401 Unauthorized", "This is a clone: it wants the password of its visit.\n", wanted
                )
            else:
                self.let_in += 1
                await self._pass_on(lines, reader, writer)
        writer.close()

    def _is_known(self, fields: dict[str, str]) -> bool:
        cookies = dict(c.strip().partition("=")[::2] for c in fields.get("cookie", "").split(";"))
        if hmac.compare_digest(cookies.get(_COOKIE, ""), self._token):
            return True
        kind, _, said = fields.get("authorization", "").partition(" ")
        wanted = base64.b64encode(f"{USER}:{self.password}".encode()).decode()
        return kind.lower() == "basic" and hmac.compare_digest(said.strip().encode(), wanted.encode())

    async def _say(self, writer: asyncio.StreamWriter, status: str, text: str, more: str = "") -> None:
        body = text.encode()
        writer.write(
            f"HTTP/1.1 {status}\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Length: {len(body)}\r\n"
            f"X-Robots-Tag: noindex, nofollow\r\nCache-Control: no-store\r\n{more}Connection: close\r\n\r\n".encode()
            + body
        )
        await writer.drain()

    async def _pass_on(self, lines: list[str], reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """One request and its answer. Both sides are told to close behind it, so that nothing has to be counted."""
        server_reader, server = await asyncio.open_connection("127.0.0.1", self._target, limit=_LARGEST_HEAD)
        try:
            own = ("authorization:", "connection:", "keep-alive:")
            kept = [line for line in lines[1:] if line and not line.lower().startswith(own)]
            server.write("\r\n".join([lines[0], *kept, "Connection: close", "", ""]).encode("latin-1"))
            sending = asyncio.ensure_future(_copy(reader, server))
            answer = (await server_reader.readuntil(b"\r\n\r\n")).decode("latin-1").split("\r\n")
            own = ("connection:", "keep-alive:", "x-robots-tag:")
            kept = [line for line in answer[1:] if line and not line.lower().startswith(own)]
            added = [
                "X-Robots-Tag: noindex, nofollow", "Connection: close",
                f"Set-Cookie: {_COOKIE}={self._token}; Path=/; HttpOnly; SameSite=Lax",
            ]  # fmt: skip
            writer.write("\r\n".join([answer[0], *kept, *added, "", ""]).encode("latin-1"))
            await _copy(server_reader, writer)
            sending.cancel()
        finally:
            server.close()


async def _copy(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    while data := await reader.read(64 * 1024):
        writer.write(data)
        await writer.drain()
