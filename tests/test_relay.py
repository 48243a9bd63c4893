"""The relay between the inside of a clone's network and the outside."""

from __future__ import annotations

import socket
import subprocess
import sys
import threading
from collections.abc import Iterator
from pathlib import Path

import psutil
import pytest

from keenharbor.clone import relay
from keenharbor.clone.server import free_port


@pytest.fixture
def echo() -> Iterator[int]:
    """A server that sends back all that came when no more comes."""
    with socket.create_server(("127.0.0.1", 0), backlog=400) as server:

        def answer(one: socket.socket) -> None:
            with one:
                came = b""
                while piece := one.recv(1 << 16):
                    came += piece
                one.sendall(came)

        def accept() -> None:
            try:
                while True:
                    threading.Thread(target=answer, args=(server.accept()[0],), daemon=True).start()
            except OSError:
                return

        threading.Thread(target=accept, daemon=True).start()
        yield server.getsockname()[1]


def started(*pairs: str) -> subprocess.Popen[bytes]:
    words = [sys.executable, "-I", "-S", str(relay.__file__), *pairs]
    made = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
    assert made.stdout is not None and made.stdout.readline() == b"ready\n"
    return made


def all_of(one: socket.socket) -> bytes:
    found = b""
    while piece := one.recv(1 << 16):
        found += piece
    return found


def test_all_that_is_sent_comes_through_two_relays_and_ends_with_them(echo: int, tmp_path: Path) -> None:
    place, port = tmp_path / "web.sock", free_port()
    place.touch()  # what a killed one has left is no hindrance
    inner, outer = started(f"unix:{place}=tcp:{echo}"), started(f"tcp:{port}=unix:{place}")
    sent = bytes(range(256)) * 40_000
    with socket.create_connection(("127.0.0.1", port), timeout=30) as one:
        threading.Thread(target=lambda: (one.sendall(sent), one.shutdown(socket.SHUT_WR)), daemon=True).start()
        assert all_of(one) == sent
    for made in (outer, inner):
        made.communicate(timeout=10)
        assert made.returncode == 0
    with pytest.raises(ConnectionRefusedError):
        socket.create_connection(("127.0.0.1", port), timeout=5)


def test_where_nobody_answers_the_connection_is_reset() -> None:
    port = free_port()
    made = started(f"tcp:{port}=tcp:{free_port()}")
    with socket.create_connection(("127.0.0.1", port), timeout=5) as one, pytest.raises(ConnectionResetError):
        one.sendall(b"is anybody there")
        while one.recv(100):
            pass
    made.communicate(timeout=10)


def test_connections_that_are_held_open_are_bounded(echo: int) -> None:
    port = free_port()
    made = started(f"tcp:{port}=tcp:{echo}")
    held = [socket.create_connection(("127.0.0.1", port), timeout=5) for _ in range(300)]
    for one in held:
        one.sendall(b"x")
    assert psutil.Process(made.pid).num_threads() <= 2 * relay._MOST + 3
    for one in held:
        one.shutdown(socket.SHUT_WR)
    assert [all_of(one) for one in held] == [b"x"] * 300, "those that had to wait have their turn"
    for one in held:
        one.close()
    made.communicate(timeout=10)
