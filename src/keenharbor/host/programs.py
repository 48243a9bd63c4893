"""The one place that starts other programs, to their end or in the background."""

from __future__ import annotations

import contextlib
import os
import select
import shlex
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Protocol

from keenharbor.base.errors import KeenHarborError

GENTLE_STOP_SECONDS = 2.0
LARGEST_OUTPUT = 4 * 1024 * 1024


@dataclass(frozen=True)
class Ran:
    """How a program ended: its command for display, exit code (None: stopped at the time limit), output, seconds."""

    command: str
    code: int | None
    output: str
    seconds: float

    @property
    def timed_out(self) -> bool:
        return self.code is None


class Programs(Protocol):
    """The programs of a machine."""

    can_run: bool
    """Whether any can be run there at all."""

    def run(
        self, command: Sequence[str], *, folder: str, time_limit: float, environment: Mapping[str, str] | None = None,
        keep_open: Sequence[int] = (),
    ) -> Ran:  # fmt: skip
        """Run a program to its end; see `run_program`."""

    def start(self, command: Sequence[str], *, folder: str, log: Path, environment: Mapping[str, str]) -> Running:
        """Start a program that goes on; see `Running`."""

    def exists(self, program: str) -> bool:
        """Whether the program is there."""

    def place_of(self, name: str, path: str | None = None) -> str | None:
        """Where a program is, on ``path`` (that of the user); see `find_program`."""

    def ask(
        self, command: Sequence[str], *, seconds: float, told: bytes = b"", environment: Mapping[str, str] | None = None
    ) -> bytes:
        """What a program prints when it is ``told`` something; see `ask_program`."""

    def variables(self) -> dict[str, str]:
        """What programs of a site get to see of the user's environment; see `clean_environment`."""


class ProgramsHere:
    """Those of this machine."""

    can_run = True

    def run(
        self, command: Sequence[str], *, folder: str, time_limit: float, environment: Mapping[str, str] | None = None,
        keep_open: Sequence[int] = (),
    ) -> Ran:  # fmt: skip
        return run_program(
            command, folder=Path(folder), time_limit=time_limit, environment=environment, keep_open=keep_open
        )

    def start(self, command: Sequence[str], *, folder: str, log: Path, environment: Mapping[str, str]) -> Running:
        return Running(command, folder=folder, log=log, environment=environment)

    def exists(self, program: str) -> bool:
        return Path(program).exists()

    def place_of(self, name: str, path: str | None = None) -> str | None:
        return find_program(name, path)

    def ask(
        self, command: Sequence[str], *, seconds: float, told: bytes = b"", environment: Mapping[str, str] | None = None
    ) -> bytes:
        return ask_program(command, seconds=seconds, told=told, environment=environment)

    def variables(self) -> dict[str, str]:
        return clean_environment()


def clean_environment() -> dict[str, str]:
    """What programs of a site get to see of this one's environment: no secrets, no proxies."""
    return {k: v for k, v in os.environ.items() if k in ("PATH", "LANG", "LC_ALL", "TZ", "TMPDIR", "HOME")}


def find_program(name: str, path: str | None = None) -> str | None:
    """Where a program is, on ``path`` (that of this process)."""
    return shutil.which(name, path=path)


def run_program(
    command: Sequence[str],
    *,
    folder: Path,
    time_limit: float,
    environment: Mapping[str, str] | None = None,
    keep_open: Sequence[int] = (),
) -> Ran:
    """Run ``command`` in ``folder``, standard input closed, output and errors kept together (at most
    `LARGEST_OUTPUT` bytes). A server that it leaves running in the background is left alone.

    At ``time_limit`` seconds the program and its children are asked to stop, then killed. ``keep_open``
    descriptors are inherited (see `keenharbor.host.lease`). Raises OSError when it cannot be started.
    """
    shown = shlex.join(command)
    started = time.monotonic()
    # Output goes to a file: a pipe would be held open by a server that the program leaves running behind it.
    with tempfile.TemporaryFile() as kept:
        process = subprocess.Popen(
            list(command),
            cwd=folder,
            env=None if environment is None else dict(environment),
            stdin=subprocess.DEVNULL,
            stdout=kept,
            stderr=subprocess.STDOUT,
            pass_fds=tuple(keep_open),
            start_new_session=True,
        )
        code = _to_its_end(process, time_limit)
        kept.seek(0)
        raw = kept.read(LARGEST_OUTPUT)
    return Ran(shown, code, raw.decode("utf-8", "replace"), time.monotonic() - started)


class ProgramError(Exception):
    """A program could not be started, took too long, or ended with a code; ``words`` are its own."""

    def __init__(self, words: str) -> None:
        super().__init__(words)
        self.words = words


def ask_program(
    command: Sequence[str], *, seconds: float, told: bytes = b"", environment: Mapping[str, str] | None = None
) -> bytes:
    """What a program prints when it is ``told`` something on standard input. Raises `ProgramError`."""
    with tempfile.TemporaryFile() as given, tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as errors:
        given.write(told)
        given.seek(0)
        try:
            process = subprocess.Popen(
                list(command), stdin=given, stdout=out, stderr=errors, cwd="/", start_new_session=True,
                env=None if environment is None else dict(environment),
            )  # fmt: skip
        except (OSError, ValueError) as error:
            raise ProgramError(str(error)) from None
        code = _to_its_end(process, seconds)
        if code is None:
            raise ProgramError(f"{command[0]} did not end within {seconds:g} s")
        errors.seek(0)
        if code != 0:
            words = errors.read(LARGEST_OUTPUT).decode("utf-8", "replace").strip()
            raise ProgramError(words or f"{command[0]} ended with code {code}")
        out.seek(0)
        return out.read(LARGEST_OUTPUT)


class Running:
    """A program that goes on in the background, in a session of its own. Raises OSError when it cannot be started."""

    def __init__(
        self, command: Sequence[str], *, folder: str, log: Path | None = None, environment: Mapping[str, str],
        user: str | None = None, talks: bool = False,
    ) -> None:  # fmt: skip
        """What it says is added to ``log``; as one that ``talks`` it has pipes instead (`ask_ready`)."""
        with contextlib.ExitStack() as stack:
            ends: int | IO[bytes] = subprocess.PIPE
            if log is not None:
                ends = stack.enter_context(open(log, "ab", opener=_private))
            self._process = subprocess.Popen(
                list(command), cwd=folder, stdin=subprocess.PIPE if talks else subprocess.DEVNULL, stdout=ends,
                stderr=ends,
                env=dict(environment), start_new_session=True, user=user, group=user, extra_groups=[] if user else None,
            )  # fmt: skip

    @property
    def pid(self) -> int:
        return self._process.pid

    @property
    def started(self) -> float | None:
        """When it started (seconds of the epoch), which tells it from one that takes over its number later; None when
        it has ended already."""
        return started_at(self.pid)

    def ended(self) -> bool:
        """Whether it has come to its end."""
        return wait_for(self._process, 0) is not None

    def ask_ready(self) -> None:
        """Wait until it says ``ready``. Raises `KeenHarborError` with what it says instead."""
        out, errors = self._process.stdout, self._process.stderr
        assert out is not None and errors is not None
        if out.readline().strip() != b"ready":
            said = errors.read().decode("utf-8", "replace").strip().splitlines()
            raise KeenHarborError(said[-1] if said else "no reason given")

    def stop(self) -> None:
        """End it, with all its children."""
        if not self.ended():
            stop_group(self._process)
        for pipe in (self._process.stdin, self._process.stdout, self._process.stderr):
            if pipe is not None:
                with contextlib.suppress(OSError):
                    pipe.close()

    def signal(self, number: int) -> None:
        """Send it, and its children, a signal; nothing when it is not there any more."""
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self.pid, number)

    def wait(self, seconds: float | None = None) -> bool:
        """Wait until it has ended; False when it has not after ``seconds``."""
        return wait_for(self._process, seconds) is not None


def _private(path: str, flags: int) -> int:
    return os.open(path, flags, 0o600)


def stop_group(process: subprocess.Popen[bytes]) -> None:
    """Ask the process group of ``process`` to stop, and kill what has not stopped after `GENTLE_STOP_SECONDS`."""
    for sign in (signal.SIGTERM, signal.SIGKILL):
        try:
            os.killpg(process.pid, sign)
        except ProcessLookupError:
            break
        wait_for(process, GENTLE_STOP_SECONDS)
    wait_for(process)


_running: set[subprocess.Popen[bytes]] = set()


def stop_all() -> None:
    """End the programs that this process runs to their end now: whoever waits for them is gone."""
    for number in (signal.SIGTERM, signal.SIGKILL):
        for process in [*_running]:
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.killpg(process.pid, number)
        if _running and number == signal.SIGTERM:
            time.sleep(GENTLE_STOP_SECONDS / 4)


def _to_its_end(process: subprocess.Popen[bytes], seconds: float) -> int | None:
    """The code that a program ended with; None for one that had to be ended after ``seconds``. Whatever strikes
    meanwhile, it does not go on."""
    _running.add(process)
    try:
        code = wait_for(process, seconds)
        if code is None:
            stop_group(process)
    except BaseException:
        stop_group(process)
        raise
    finally:
        _running.discard(process)
    return code


def wait_for(process: subprocess.Popen[bytes], seconds: float | None = None) -> int | None:
    """The code that a program ended with; None when it has not after ``seconds``.

    `subprocess.Popen` holds a lock while it waits. An exception that a signal's handler raises between two of its
    instructions leaves that lock held, and the next to wait for the program then waits for ever. Here nothing is held:
    the wait is for a descriptor of the process (pidfd_open(2))."""
    if process.returncode is None and seconds != 0:
        with contextlib.suppress(ProcessLookupError):  # it has ended, and somebody else was told
            watched = os.pidfd_open(process.pid)
            try:
                waiting = select.poll()
                waiting.register(watched, select.POLLIN)
                waiting.poll(None if seconds is None else seconds * 1000)
            finally:
                os.close(watched)
    if process.returncode is None:
        try:
            pid, status = os.waitpid(process.pid, os.WNOHANG)
        except ChildProcessError:  # somebody else has been told how it ended
            pid, status = process.pid, 0
        if pid:
            process.returncode = os.waitstatus_to_exitcode(status)
    return process.returncode


def end_program(pid: int, started: float | None, seconds: float = GENTLE_STOP_SECONDS) -> None:
    """End the process group of a program that an earlier run has left, if ``pid`` is that one still."""
    for number in (signal.SIGTERM, signal.SIGKILL):
        if not runs(pid, started):
            return
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.killpg(pid, number)
        end = time.monotonic() + seconds
        while runs(pid, started) and time.monotonic() < end:
            time.sleep(0.02)


def started_at(pid: int) -> float | None:
    """When a program started (seconds of the epoch); None when it has ended."""
    import psutil

    try:
        return float(psutil.Process(pid).create_time())
    except psutil.Error:
        return None


def runs(pid: int | None, started: float | None) -> bool:
    """Whether that very program runs; one that only took over its number does not count."""
    import psutil  # late: most commands ask for no program

    try:
        found = psutil.Process(pid) if pid is not None else None
        return (
            found is not None
            and found.status() != psutil.STATUS_ZOMBIE
            and abs(found.create_time() - (started or 0)) < 1
        )
    except psutil.Error:
        return False


def is_running(pid: int) -> bool:
    """Whether there is a process with that number now, whatever it is."""
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True
