"""Starting a site's own server for a clone, and ending it."""

from __future__ import annotations

import contextlib
import secrets
import socket
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from types import TracebackType

from keenharbor.base.errors import KeenHarborError
from keenharbor.compare.visitor import VisitError, Visitor
from keenharbor.host.ports import port_is_taken
from keenharbor.host.programs import Running, clean_environment


def free_port() -> int:
    """A loopback port that nobody listens on now, from below those that the system gives to outgoing connections: such
    a one could be given away before it is used."""
    end = _first_outgoing_port()
    for _ in range(_ATTEMPTS if end > _FIRST_PORT else 0):
        port = _FIRST_PORT + secrets.randbelow(end - _FIRST_PORT)
        with socket.socket() as probe, contextlib.suppress(OSError):
            probe.bind(("127.0.0.1", port))
            return port
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


_FIRST_PORT, _ATTEMPTS = 20_000, 50


def _first_outgoing_port() -> int:
    """The beginning of the range that Linux takes for them (ip(7)); elsewhere that of RFC 6335, section 6."""
    try:
        return int(Path("/proc/sys/net/ipv4/ip_local_port_range").read_text().split()[0])
    except (OSError, ValueError, IndexError):
        return 49152


class Server:
    """A site's server on a loopback port; `start` returns when it answers. With a ``prefix`` it runs in a network of
    its own, in which the port is passed on."""

    def __init__(
        self, command: Sequence[str], root: str, port: int, *, ready_path: str, start_seconds: float, log: Path,
        prefix: Sequence[str] = (), variables: Mapping[str, str] | None = None,
    ) -> None:  # fmt: skip
        self._command = [*prefix, *command]
        self._relayed = bool(prefix)
        self._variables = clean_environment() if variables is None else dict(variables)
        self._root = root
        self._ready_path = ready_path
        self._start_seconds = start_seconds
        self._log = log
        self._process: Running | None = None
        self.port = port

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    @property
    def process(self) -> Running | None:
        """What runs."""
        return self._process

    def start(self) -> None:
        """Start it and wait for its first answer, whatever that is. Raises `KeenHarborError` when none comes."""
        if not self._relayed and port_is_taken(self.port):
            raise KeenHarborError(
                f"port {self.port} is taken by another program", where=self.address, advice="name another port, or none"
            )
        before = self._log.stat().st_size if self._log.exists() else 0
        try:
            self._process = Running(self._command, folder=self._root, log=self._log, environment=self._variables)
        except OSError as error:
            raise KeenHarborError(f"the site cannot be started: {error}", where=self._command[0]) from error
        deadline = time.monotonic() + self._start_seconds
        while True:
            try:
                with Visitor(self.address, timeout=5) as visitor:
                    visitor.get(self._ready_path)
                return
            except VisitError:
                pass
            ended = self._process.ended()
            if ended or time.monotonic() > deadline:
                self.stop()
                with self._log.open("rb") as log:
                    log.seek(before)
                    lines = log.read().decode("utf-8", "replace").splitlines()
                said = [line.strip() for line in lines if any(c.isalnum() for c in line)]
                reason = "it ended at once" if ended else f"no answer in {self._start_seconds:.0f} s"
                raise KeenHarborError(
                    f"the site does not start: {reason}" + (f": {said[-1]}" if said else ""), where=self._log
                )
            time.sleep(0.02)

    def stop(self) -> None:
        """End it, with all its children."""
        if self._process is not None:
            process, self._process = self._process, None
            process.stop()

    def __enter__(self) -> Server:
        self.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()
