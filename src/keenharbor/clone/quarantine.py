"""A network of its own for the programs of a clone: they reach themselves, and nothing else.

Where the system allows it (Linux network namespaces, by ``unshare`` and ``nsenter`` of util-linux; see network_namespaces(7)),
whatever the clone's code asks of the outside finds nobody there. Two ways lead in and out: requests to the clone's server, and
mail to its mail box, each passed on by `relay`.
"""

from __future__ import annotations

import functools
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import psutil

from keenharbor.base.errors import KeenHarborError
from keenharbor.base.process import clean_environment, stop_group
from keenharbor.clone import relay

_SECONDS = 10


@functools.cache
def not_permitted() -> str:
    """Why no network of its own can be had here, in words; empty when it can."""
    if shutil.which("unshare") is None or shutil.which("nsenter") is None:
        return "the programs unshare and nsenter (util-linux) are not installed"
    try:
        ran = subprocess.run([*_new_network(), "true"], capture_output=True, text=True, timeout=_SECONDS, check=False)
    except (OSError, subprocess.SubprocessError) as error:
        return f"the system does not allow it: {error}"
    return (
        ""
        if ran.returncode == 0
        else f"the system does not allow it: {ran.stderr.strip().splitlines()[-1:] or ['no reason given']}"
    )


def _new_network() -> list[str]:
    return (
        ["unshare", "--net"]
        if os.geteuid() == 0
        else ["unshare", "--user", "--map-current-user", "--keep-caps", "--net"]
    )


@dataclass(frozen=True)
class HolderFacts:
    """What is written down of a quarantine, so that it can be ended after a crash: its processes, the folder of its sockets."""

    pids: tuple[int, ...]
    started: tuple[float, ...]
    folder: str

    def end(self) -> None:
        """End what is left of it."""
        for pid, started in zip(self.pids, self.started, strict=True):
            try:
                process = psutil.Process(pid)
                if abs(process.create_time() - started) < 1:
                    process.kill()
            except psutil.Error:
                continue
        shutil.rmtree(self.folder, ignore_errors=True)


class Quarantine:
    """A network in which only the ``port`` of the clone's server answers, from outside, and only the mail box, from inside."""

    def __init__(
        self, port: int, mail_port: int, variables: Mapping[str, str] | None = None,
        note: Callable[[HolderFacts], object] = lambda facts: None,
    ) -> None:  # fmt: skip
        """Its processes get ``variables`` in their environment; ``note`` is told of its folder before they are started."""
        # Sockets have short names; a clone's folder may not.
        self._folder = Path(tempfile.mkdtemp(prefix="harbor-net-"))
        note(HolderFacts((), (), str(self._folder)))
        self._variables = clean_environment() | dict(variables or {})
        self._processes: list[subprocess.Popen[bytes]] = []
        try:
            web, mail = f"unix:{self._folder}/web", f"unix:{self._folder}/mail"
            inside = self._start(_new_network(), "--loopback-up", f"{web}=tcp:{port}", f"tcp:{mail_port}={mail}")
            self._start([], f"tcp:{port}={web}", f"{mail}=tcp:{mail_port}")
        except BaseException:
            self.end()
            raise
        enter = [] if os.geteuid() == 0 else ["--user", "--preserve-credentials"]
        self.prefix: tuple[str, ...] = ("nsenter", f"--target={inside.pid}", *enter, "--net", "--")
        """What a command is started with, to run within."""
        self.facts = HolderFacts(
            tuple(p.pid for p in self._processes),
            tuple(psutil.Process(p.pid).create_time() for p in self._processes),
            str(self._folder),
        )

    def _start(self, before: Sequence[str], *words: str) -> subprocess.Popen[bytes]:
        # unshare replaces itself by the relay, so that this is the process within.
        command = [*before, sys.executable, "-I", "-S", str(Path(relay.__file__)), *words]
        process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, cwd="/", env=self._variables,
            start_new_session=True,
        )  # fmt: skip
        self._processes.append(process)
        assert process.stdout is not None and process.stderr is not None
        if process.stdout.readline().strip() != b"ready":
            said = process.stderr.read().decode("utf-8", "replace").strip().splitlines()
            raise KeenHarborError(f"the clone's network cannot be set up: {said[-1] if said else 'no reason given'}")
        return process

    def end(self) -> None:
        """End it; what still runs within has no network any more."""
        for process in self._processes:
            stop_group(process)
            for pipe in (process.stdin, process.stdout, process.stderr):
                if pipe is not None:
                    pipe.close()
        shutil.rmtree(self._folder, ignore_errors=True)
