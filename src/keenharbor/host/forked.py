"""Running many commands of a program that this process is, each in a process of its own, without importing everything
anew for each.

A process that has imported what they need is forked for each (the standard library's "forkserver"): half of what a
short command takes is its imports."""

from __future__ import annotations

import contextlib
import importlib
import multiprocessing
import os
import shlex
import signal
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from multiprocessing.context import ForkServerContext, ForkServerProcess
from typing import NoReturn

from keenharbor.host.programs import LARGEST_OUTPUT, Ran

_TO_CLEAN_UP = 20.0
"""So many seconds a command that was asked to stop has, before it is killed with all that it started."""


class Forked:
    """Runs commands of the program ``name``, whose ``entry`` is a function (``module:function``) that goes by
    ``sys.argv``; ``modules`` are imported once for all."""

    def __init__(self, name: str, entry: str, modules: Sequence[str]) -> None:
        self._name, self._entry = name, entry
        self._context: ForkServerContext = multiprocessing.get_context("forkserver")
        self._context.set_forkserver_preload([*modules])

    def __call__(self, command: Sequence[str], seconds: float) -> Ran:
        """Run a command for at most so many seconds. Raises OSError when it cannot be started."""
        began = time.monotonic()
        with tempfile.NamedTemporaryFile(prefix="keenharbor-") as kept:
            process = self._context.Process(target=_become, args=(
                self._name, self._entry, list(command), kept.name, dict(os.environ)
            ))  # fmt: skip
            process.start()
            with _ended(process):
                process.join(seconds)
                code = process.exitcode
                if code is None:
                    _stop(process)
            raw = kept.read(LARGEST_OUTPUT)
        shown = shlex.join([self._name, *command])
        return Ran(shown, code, raw.decode("utf-8", "replace"), time.monotonic() - began)


@contextlib.contextmanager
def _ended(process: ForkServerProcess) -> Iterator[None]:
    """Nothing goes on unobserved when who waits is stopped."""
    try:
        yield
    except BaseException:
        _stop(process)
        raise
    finally:
        process.close()


def _stop(process: ForkServerProcess) -> None:
    """Ask a command and all that it started to stop, then kill them."""
    assert process.pid is not None
    for number, wait in ((signal.SIGTERM, _TO_CLEAN_UP), (signal.SIGKILL, None)):
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, number)
        process.join(wait)
        if process.exitcode is not None:
            return


def _become(name: str, entry: str, words: list[str], output: str, environment: dict[str, str]) -> NoReturn:
    """The child's part: become the command."""
    code = 70
    try:
        os.setsid()
        os.environ.clear()
        os.environ.update(environment)
        for number, place, how in ((0, os.devnull, os.O_RDONLY), (1, output, os.O_WRONLY | os.O_APPEND)):
            opened = os.open(place, how)
            os.dup2(opened, number)
            os.close(opened)
        os.dup2(1, 2)
        sys.argv = [name, *words]
        module, _, function = entry.partition(":")
        getattr(importlib.import_module(module), function)()
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 0
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)
