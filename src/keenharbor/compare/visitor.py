"""Visiting a site: one keep-alive connection, cookies like a browser's, nothing outside the address ever asked for.

Built on the standard library's HTTP client, which costs less than half of a full-featured one for each of the
thousands of small requests that a look is made of (measured in ``benchmarks/``).
"""

from __future__ import annotations

import http.client
import re
import ssl
from collections.abc import Mapping
from dataclasses import dataclass
from http.cookies import CookieError, SimpleCookie
from types import TracebackType
from urllib.parse import urlencode, urlsplit

LARGEST_BODY = 16 * 1024 * 1024


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
            return self.content.decode(named[1] if named else "utf-8", "replace")
        except LookupError:
            return self.content.decode("utf-8", "replace")


class Visitor:
    """A visitor of one address. ``headers`` go with every request."""

    def __init__(self, address: str, headers: Mapping[str, str] | None = None, timeout: float = 20) -> None:
        self.address = address
        parts = urlsplit(address)
        self._host, self._port, self._secure = parts.hostname or "", parts.port, parts.scheme == "https"
        self._headers = {"User-Agent": "KeenHarbor", "Accept": "text/html, */*;q=0.5", **(headers or {})}
        self._timeout = timeout
        self._connection: http.client.HTTPConnection | None = None
        self._cookies: dict[str, str] = {}

    def __enter__(self) -> Visitor:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
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
        if self._connection is None:
            if self._secure:
                # The maintainer's own site, often on a staging certificate: who it is is not the question here.
                context = ssl._create_unverified_context()
                self._connection = http.client.HTTPSConnection(
                    self._host, self._port, timeout=self._timeout, context=context
                )
            else:
                self._connection = http.client.HTTPConnection(self._host, self._port, timeout=self._timeout)
        self._connection.request(method, path, body, dict(headers))
        response = self._connection.getresponse()
        content = response.read(LARGEST_BODY)
        if not response.isclosed():
            self._close()
            if response.length and len(content) < LARGEST_BODY:
                raise VisitError(f"the answer was cut: {response.length} bytes are missing")
        return Answer(path, response.status, response.headers, content)

    def _keep_cookies(self, answer: Answer) -> None:
        for line in answer.headers.get_all("Set-Cookie", []):
            try:
                for name, morsel in SimpleCookie(line).items():
                    self._cookies[name] = morsel.value
            except CookieError:
                continue
