"""The one place that runs other programs to their end."""

from __future__ import annotations

import os
import shlex
import signal
import subprocess
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

GENTLE_STOP_SECONDS = 2.0


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


def run_program(
    command: Sequence[str],
    *,
    folder: Path,
    time_limit: float,
    environment: Mapping[str, str] | None = None,
    keep_open: Sequence[int] = (),
) -> Ran:
    """Run ``command`` in ``folder``, standard input closed, output and errors kept together.

    At ``time_limit`` seconds the program and its children are asked to stop, then killed. ``keep_open``
    descriptors are inherited (see `keenharbor.base.locks`). Raises OSError when it cannot be started.
    """
    shown = shlex.join(command)
    started = time.monotonic()
    with subprocess.Popen(
        list(command),
        cwd=folder,
        env=None if environment is None else dict(environment),
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        pass_fds=tuple(keep_open),
        start_new_session=True,
    ) as process:
        code: int | None
        try:
            raw, _ = process.communicate(timeout=time_limit)
            code = process.returncode
        except subprocess.TimeoutExpired:
            raw, code = stop_group(process), None
        except BaseException:
            stop_group(process)
            raise
    return Ran(shown, code, raw.decode("utf-8", "replace"), time.monotonic() - started)


def stop_group(process: subprocess.Popen[bytes]) -> bytes:
    """Ask the process group of ``process`` to stop, kill it if it does not, and return what it still printed."""
    for sign in (signal.SIGTERM, signal.SIGKILL):
        try:
            os.killpg(process.pid, sign)
        except ProcessLookupError:
            break
        try:
            return process.communicate(timeout=GENTLE_STOP_SECONDS)[0] or b""
        except subprocess.TimeoutExpired:
            continue
    return process.communicate()[0] or b""
