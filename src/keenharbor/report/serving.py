"""The report on loopback, with buttons that accept: for one person, on this machine, as long as the command runs."""

from __future__ import annotations

import hmac
import secrets
from collections.abc import Callable
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import parse_qs

from keenharbor.base.errors import KeenHarborError
from keenharbor.base.text import visible

_MOST_SENT = 64 * 1024
_POLICY = "default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'; img-src data:; form-action 'self'"

Accept = Callable[[str, str], None]
"""Accepts a cause, named by one of its findings, for a reason. Raises `KeenHarborError` with what is wrong."""


@dataclass
class ReportServer:
    """Serves what ``page`` gives (told of what went wrong last, if anything did) under an address that nobody can
    guess; requests that name another host, or know it not, get nothing."""

    page: Callable[[str], str]
    accept: Accept
    port: int = 0

    def __post_init__(self) -> None:
        self._word = secrets.token_urlsafe(24)
        self._problem = ""
        self._server = ThreadingHTTPServer(("127.0.0.1", self.port), self._handler())
        self.port = self._server.server_address[1]

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.port}/{self._word}/"

    def serve(self) -> None:
        """Until it is interrupted, or `close`d."""
        try:
            self._server.serve_forever(poll_interval=0.2)
        finally:
            self._server.server_close()

    def close(self) -> None:
        self._server.shutdown()

    def _handler(self) -> type[BaseHTTPRequestHandler]:
        outer = self

        class Handler(BaseHTTPRequestHandler):
            def log_message(self, format: str, *args: object) -> None:
                pass

            def _knows(self, path: str) -> bool:
                own = f"127.0.0.1:{outer.port}"
                told = self.path.encode("utf-8", "replace")
                return self.headers.get("Host") == own and hmac.compare_digest(told, f"/{outer._word}/{path}".encode())

            def _answer(self, status: int, text: str = "", place: str = "") -> None:
                body = text.encode("utf-8")
                self.send_response(status)
                for name, value in (
                    ("Content-Type", "text/html; charset=utf-8"), ("Content-Length", str(len(body))),
                    ("Content-Security-Policy", _POLICY), ("Cache-Control", "no-store"),
                    ("Referrer-Policy", "no-referrer"), ("X-Frame-Options", "DENY"), ("Location", place),
                ):  # fmt: skip
                    if value:
                        self.send_header(name, value)
                self.end_headers()
                self.wfile.write(body)

            def do_GET(self) -> None:
                if not self._knows(""):
                    self._answer(404)
                    return
                problem, outer._problem = outer._problem, ""
                self._answer(200, outer.page(problem))

            def do_POST(self) -> None:
                size = self.headers.get("Content-Length", "")
                if not self._knows("accept") or not size.isdigit() or int(size) > _MOST_SENT:
                    self._answer(404)
                    return
                sent = parse_qs(self.rfile.read(int(size)).decode("utf-8", "replace"))
                finding, because = (sent.get(key, [""])[0] for key in ("finding", "because"))
                try:
                    outer.accept(finding, because)
                except KeenHarborError as error:
                    outer._problem = visible(error.what)
                self._answer(303, place=f"/{outer._word}/")

        return Handler
