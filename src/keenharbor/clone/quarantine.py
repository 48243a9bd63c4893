"""A network of its own for the programs of a clone: they reach themselves, and nothing else.

Where the system allows it (Linux network namespaces; see network_namespaces(7)), whatever the clone's code asks of the
outside finds nobody there. Two ways lead in and out: requests to the clone's server, and mail to its mail box, each
passed on by `relay`."""

from __future__ import annotations

import contextlib
import sys
import tempfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from keenharbor.base.durable import remove_folder
from keenharbor.base.errors import KeenHarborError
from keenharbor.clone import relay
from keenharbor.host import seal
from keenharbor.host.programs import Running, clean_environment, end_program
from keenharbor.host.sealing import parts_here


def not_permitted() -> str:
    """Why no network of its own can be had here, in words; empty when it can."""
    return parts_here().no_network


@dataclass(frozen=True)
class HolderFacts:
    """What is written down of a quarantine, so that it can be ended after a crash: its processes, the folder of its
    sockets, the number of its network, by which whatever runs in it is found."""

    pids: tuple[int, ...]
    started: tuple[float, ...]
    folder: str
    network: int = 0

    def end(self) -> None:
        """End what is left of it."""
        for pid, started in zip(self.pids, self.started, strict=True):
            end_program(pid, started, 0.5)
        if Path(self.folder).name.startswith(FOLDER):
            remove_folder(Path(self.folder))


FOLDER = "harbor-net-"


def start_relay(before: Sequence[str], words: Sequence[str], variables: Mapping[str, str]) -> Running:
    """Start a `relay`, by the program ``before`` if there is one, and wait until it listens. Raises
    `KeenHarborError`."""
    # What makes a network replaces itself by the relay, so that this is the process within.
    command = [*before, sys.executable, "-I", "-S", str(Path(relay.__file__)), *words]
    process = Running(command, folder="/", environment=dict(variables), talks=True)
    try:
        process.ask_ready()
    except KeenHarborError as error:
        process.stop()
        raise KeenHarborError(f"the clone's network cannot be set up: {error.what}") from None
    return process


class Quarantine:
    """A network in which only the ``port`` of the clone's server answers, from outside, and only the mail box, from
    inside."""

    def __init__(
        self, port: int, mail_port: int, variables: Mapping[str, str] | None = None,
        note: Callable[[HolderFacts], object] = lambda facts: None, within: Sequence[str] = (),
    ) -> None:  # fmt: skip
        """``within`` are more ways for `relay`, which begin in the network and end at a socket. Its processes get
        ``variables`` in their environment; ``note`` is told of its folder before they are
        started."""
        # Sockets have short names; a clone's folder may not.
        self._folder = Path(tempfile.mkdtemp(prefix=FOLDER))
        note(HolderFacts((), (), str(self._folder)))
        self._variables = clean_environment() | dict(variables or {})
        self._processes: list[Running] = []
        try:
            web, mail = f"unix:{self._folder}/web", f"unix:{self._folder}/mail"
            own_network = [sys.executable, "-I", "-S", str(seal.__file__), "--network"]
            inside = self._start(own_network, f"{web}=tcp:{port}", f"tcp:{mail_port}={mail}", *within)
            self._start([], f"tcp:{port}={web}", f"{mail}=tcp:{mail_port}")
        except BaseException:
            self.end()
            raise
        self.holder = inside.pid
        """The process whose network a sealed program joins."""
        network = 0
        with contextlib.suppress(OSError):
            network = Path(f"/proc/{inside.pid}/ns/net").stat().st_ino
        self.facts = HolderFacts(
            tuple(p.pid for p in self._processes),
            tuple(p.started or 0.0 for p in self._processes),
            str(self._folder),
            network,
        )

    def _start(self, before: Sequence[str], *words: str) -> Running:
        process = start_relay(before, words, self._variables)
        self._processes.append(process)
        return process

    @property
    def stands(self) -> bool:
        """Whether both of its processes run: somebody may have ended them."""
        return not any(p.ended() for p in self._processes)

    def end(self) -> None:
        """End it; what still runs within has no network any more."""
        for process in self._processes:
            process.stop()
        remove_folder(self._folder)
