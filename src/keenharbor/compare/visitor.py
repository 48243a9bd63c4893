"""Visiting a site: one keep-alive connection, cookies like a browser's, nothing outside the address ever asked for.

Built on the standard library's HTTP client, which costs less than half of a full-featured one for each of the
thousands of small requests that a look is made of (measured in ``benchmarks/``).
"""

from __future__ import annotations

import codecs
import http.client
import io
import re
import socket
import ssl
import time
from collections.abc import Mapping
from dataclasses import dataclass
from http.cookies import CookieError, SimpleCookie
from types import TracebackType
from typing import Any
from urllib.parse import urlencode, urlsplit

LARGEST_BODY = 16 * 1024 * 1024
MOST_SECONDS = 60.0
"""So long an answer may take as a whole."""


class VisitError(Exception):
    """No answer, or none that HTTP allows."""


@dataclass(frozen=True)
class Answer:
    """What came back: status, headers, body (cut at `LARGEST_BODY`), and the path that was asked for."""

    path: str
    status: int
    headers: http.client.HTTPMessage
    content: bytes

    def header(self, name: str) -> str:
        return self.headers.get(name, "")

    @property
    def text(self) -> str:
        """The body as text, by the charset that the header names (UTF-8 when none or an unknown one)."""
        named = re.search(r"charset=[\"']?([\w-]+)", self.header("Content-Type"), re.IGNORECASE)
        try:
            return self.content.decode(_charset(named[1]) if named else "utf-8", "replace")
        except (LookupError, UnicodeError, ValueError):
            return self.content.decode("utf-8", "replace")


_NO_CHARSETS = frozenset(("idna", "punycode", "unicode_escape", "raw_unicode_escape", "undefined", "mbcs", "oem"))


def _charset(label: str) -> str:
    """The codec of a label, if pages are written in it. Raises LookupError for one that is something else."""
    name = codecs.lookup(label).name.replace("-", "_")
    if name in _NO_CHARSETS:
        raise LookupError(label)
    return name


class _Timed(io.RawIOBase):
    """What a server sends, up to a moment: one that sends a byte now and then would never be done."""

    def __init__(self, inner: io.RawIOBase, sock: socket.socket, idle: float, seconds: float) -> None:
        self._inner, self._socket, self._idle = inner, sock, idle
        self._until = time.monotonic() + seconds

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int | None:
        left = self._until - time.monotonic()
        if left <= 0:
            raise TimeoutError("the answer takes too long")
        self._socket.settimeout(min(self._idle, left))
        return self._inner.readinto(buffer)

    def close(self) -> None:
        self._inner.close()
        super().close()


class Visitor:
    """A visitor of one address. ``headers`` go with every request."""

    def __init__(self, address: str, headers: Mapping[str, str] | None = None, timeout: float = 20) -> None:
        self.address = address
        parts = urlsplit(address)
        self._host, self._port, self._secure = parts.hostname or "", parts.port, parts.scheme == "https"
        self.own_headers = dict(headers or {})
        self._headers = {"User-Agent": "KeenHarbor", "Accept": "text/html, */*;q=0.5", **(headers or {})}
        self._timeout = timeout
        self._connection: http.client.HTTPConnection | None = None
        self._cookies: dict[str, str] = {}
        self._count = [0]
        self.pause = 0.0
        """So many seconds are left between one answer and the next request."""
        self._answered = 0.0

    def rest(self) -> None:
        """Wait until the next request may be sent; whoever measures the time of an answer begins behind it."""
        left = self._answered + self.pause - time.monotonic()
        if left > 0:
            time.sleep(left)

    @property
    def sent(self) -> int:
        """How many requests were sent by this visitor and those who are `another`."""
        return self._count[0]

    def __enter__(self) -> Visitor:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._close()

    def another(self) -> Visitor:
        """One more, known by the same cookies from here on each for itself."""
        made = Visitor(self.address, self.own_headers, self._timeout)
        made.remember(self._cookies)
        made._count, made.pause = self._count, self.pause
        return made

    def close(self) -> None:
        """End the connection; the next visit makes another one."""
        self._close()

    def get(self, path: str, fresh: bool = True) -> Answer:
        """One page, not following redirects. ``fresh`` asks caches to step aside (RFC 9111, 5.2.1.4)."""
        return self._ask("GET", path, {"Cache-Control": "no-cache"} if fresh else {}, None)

    def post(self, path: str, fields: Mapping[str, str]) -> Answer:
        """Submit a form."""
        kind = {"Content-Type": "application/x-www-form-urlencoded"}
        return self._ask("POST", path, kind, urlencode(fields).encode())

    def forget(self) -> None:
        """Drop cookies: be another visitor."""
        self._cookies.clear()

    @property
    def cookies(self) -> dict[str, str]:
        """What the site has given this visitor to be known by."""
        return dict(self._cookies)

    def remember(self, cookies: Mapping[str, str]) -> None:
        """Be known by these, too."""
        self._cookies.update(cookies)

    def _close(self) -> None:
        if self._connection is not None:
            self._connection.close()
            self._connection = None

    def _ask(self, method: str, path: str, headers: Mapping[str, str], body: bytes | None) -> Answer:
        sent = {**self._headers, **headers}
        if self._cookies:
            sent["Cookie"] = "; ".join(f"{k}={v}" for k, v in self._cookies.items())
        # A server may close a kept connection just as we ask: once more on a new one, then it is an error.
        for last in (self._connection is None, True):
            try:
                answer = self._once(method, path, sent, body)
            except (http.client.RemoteDisconnected, BrokenPipeError, ConnectionResetError) as error:
                self._close()
                if last:
                    raise VisitError(f"{type(error).__name__}: {error}") from error
            except (http.client.HTTPException, OSError, ValueError) as error:
                self._close()
                raise VisitError(f"{type(error).__name__}: {error}") from error
            else:
                self._keep_cookies(answer)
                return answer
        raise AssertionError("unreachable")

    def _once(self, method: str, path: str, headers: Mapping[str, str], body: bytes | None) -> Answer:
        if self.pause:
            self.rest()
        if self._connection is None:
            if self._secure:
                # The maintainer's own site, often on a staging certificate: who it is is not the question here.
                context = ssl._create_unverified_context()
                self._connection = http.client.HTTPSConnection(
                    self._host, self._port, timeout=self._timeout, context=context
                )
            else:
                self._connection = http.client.HTTPConnection(self._host, self._port, timeout=self._timeout)
        self._count[0] += 1
        self._connection.response_class = self._timed  # type: ignore[assignment]
        self._connection.request(method, path, body, dict(headers))
        response = self._connection.getresponse()
        content = response.read(LARGEST_BODY)
        self._answered = time.monotonic()
        if not response.isclosed():
            self._close()
            if response.length and len(content) < LARGEST_BODY:
                raise VisitError(f"the answer was cut: {response.length} bytes are missing")
        return Answer(path, response.status, response.headers, content)

    def _timed(self, sock: socket.socket, *more: Any, **named: Any) -> http.client.HTTPResponse:
        """An answer that comes to its end in time, whatever is sent."""
        response = http.client.HTTPResponse(sock, *more, **named)
        inner: Any = response.fp
        timed = _Timed(inner.detach(), sock, self._timeout, max(MOST_SECONDS, self._timeout))
        response.fp = io.BufferedReader(timed)
        return response

    def _keep_cookies(self, answer: Answer) -> None:
        for line in answer.headers.get_all("Set-Cookie", []):
            try:
                for name, morsel in SimpleCookie(line).items():
                    self._cookies[name] = morsel.value
            except CookieError:
                continue
