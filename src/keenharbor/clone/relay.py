"""Passes connections on, between the inside of a clone's network and the outside. A program of its own:

    python relay.py LISTEN=CONNECT …       with tcp:PORT (on loopback) or unix:PATH on either side

It says ``ready`` when it listens, and ends when its standard input does: with the program that started it, however that
ends. Four of them are started for a trial, so it imports little; a thread a direction blocks where its reader is slow,
and so holds no more than one piece of what is sent."""

from __future__ import annotations

import contextlib
import os
import socket
import struct
import sys
import threading

_PIECE = 1 << 16
_MOST = 256
"""So many connections at once: what a clone's programs hold open is theirs, and costs this side two threads each."""
_LOOPBACK = "127.0.0.1"


def _connected(goal: str) -> socket.socket:
    kind, _, place = goal.partition(":")
    if kind == "unix":
        made = socket.socket(socket.AF_UNIX)
        made.connect(place)
    else:
        made = socket.create_connection((_LOOPBACK, int(place)))
        made.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    return made


def _listening(place: str) -> socket.socket:
    kind, _, where = place.partition(":")
    if kind == "unix":
        with contextlib.suppress(FileNotFoundError):
            os.unlink(where)  # noqa: PTH108 - pathlib takes as long to import as all else
        made = socket.socket(socket.AF_UNIX)
        made.bind(where)
    else:
        made = socket.socket(socket.AF_INET)
        made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        made.bind((_LOOPBACK, int(where)))
    made.listen(_MOST)
    return made


def _pass_on(source: socket.socket, target: socket.socket) -> None:
    """Until the source sends no more, which the target is told; an end that breaks off ends both."""
    try:
        while piece := source.recv(_PIECE):
            target.sendall(piece)
        target.shutdown(socket.SHUT_WR)
    except OSError:
        for end in (source, target):
            _end(end)


def _end(one: socket.socket) -> None:
    with contextlib.suppress(OSError):  # it has ended
        one.shutdown(socket.SHUT_RDWR)


def _serve(outer: socket.socket, goal: str, places: threading.Semaphore) -> None:
    with outer, contextlib.ExitStack() as ended:
        ended.callback(places.release)
        if outer.family != socket.AF_UNIX:
            outer.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        try:
            inner = _connected(goal)
        except OSError:
            # Nobody is there: that is said as the system says it, by a reset.
            outer.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
            return
        with inner:
            back = threading.Thread(target=_pass_on, args=(inner, outer), daemon=True)
            back.start()
            _pass_on(outer, inner)
            back.join()


def _accept(server: socket.socket, goal: str) -> None:
    places = threading.Semaphore(_MOST)
    while places.acquire():
        outer, _ = server.accept()
        threading.Thread(target=_serve, args=(outer, goal, places), daemon=True).start()


def main(words: list[str]) -> None:
    """Pass connections on until standard input ends."""
    threading.stack_size(256 * 1024)
    pairs = [(listen, goal) for listen, _, goal in (word.partition("=") for word in words)]
    for server, goal in [(_listening(listen), goal) for listen, goal in pairs]:
        threading.Thread(target=_accept, args=(server, goal), daemon=True).start()
    sys.stdout.write("ready\n")
    sys.stdout.flush()
    sys.stdin.buffer.read()
    os._exit(0)  # connections that are open end with it


if __name__ == "__main__":
    main(sys.argv[1:])
