"""The one place that runs other programs to their end."""

from __future__ import annotations

import os
import shlex
import signal
import subprocess
import tempfile
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

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


def clean_environment() -> dict[str, str]:
    """What programs of a site get to see of this one's environment: no secrets, no proxies."""
    return {k: v for k, v in os.environ.items() if k in ("PATH", "LANG", "LC_ALL", "TZ", "TMPDIR", "HOME")}


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
    descriptors are inherited (see `keenharbor.base.locks`). Raises OSError when it cannot be started.
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
        code: int | None
        try:
            code = process.wait(time_limit)
        except subprocess.TimeoutExpired:
            stop_group(process)
            code = None
        except BaseException:
            stop_group(process)
            raise
        kept.seek(0)
        raw = kept.read(LARGEST_OUTPUT)
    return Ran(shown, code, raw.decode("utf-8", "replace"), time.monotonic() - started)


def stop_group(process: subprocess.Popen[bytes]) -> None:
    """Ask the process group of ``process`` to stop, and kill what has not stopped after `GENTLE_STOP_SECONDS`."""
    for sign in (signal.SIGTERM, signal.SIGKILL):
        try:
            os.killpg(process.pid, sign)
        except ProcessLookupError:
            break
        try:
            process.wait(GENTLE_STOP_SECONDS)
        except subprocess.TimeoutExpired:
            continue
    process.wait()
