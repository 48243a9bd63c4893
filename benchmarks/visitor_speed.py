"""Requests a second of the visitor against httpx, on a small page of a local server, in turn.

Run: python benchmarks/visitor_speed.py   (needs httpx, which the tests and the demo use)
"""

from __future__ import annotations

import http.server
import threading
import time
from statistics import median

import httpx

from keenharbor.compare import Visitor

PAGE = b"<html><body>" + b"<p>seed</p>" * 100
REQUESTS, ROUNDS = 300, 7


class Handler(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    disable_nagle_algorithm = True

    def do_GET(self) -> None:
        self.send_response(200)
        self.send_header("Content-Length", str(len(PAGE)))
        self.send_header("Content-Type", "text/html")
        self.end_headers()
        self.wfile.write(PAGE)

    def log_message(self, format: str, *args: object) -> None: ...


def main() -> None:
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    address = f"http://127.0.0.1:{server.server_port}"
    ours, theirs = [], []
    with Visitor(address) as visitor, httpx.Client(base_url=address, trust_env=False) as client:
        for _ in range(ROUNDS):
            began = time.process_time()
            for _ in range(REQUESTS):
                visitor.get("/")
            ours.append((time.process_time() - began) / REQUESTS)
            began = time.process_time()
            for _ in range(REQUESTS):
                client.get("/")
            theirs.append((time.process_time() - began) / REQUESTS)
    print(
        f"visitor {1e3 * median(ours):.2f} ms, httpx {1e3 * median(theirs):.2f} ms of processor time a request (server "
        f"included)"
    )
    print(f"ratio {median(ours) / median(theirs):.2f}")


if __name__ == "__main__":
    main()
