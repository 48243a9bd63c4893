"""Runs the program in a process of its own for each command, without importing everything anew each time.

Started once a test worker. Reads a JSON line a command, forks, and the child runs the program's own entry point with
the folder, arguments, environment and output files of that command; answers with the exit code. What a command prints,
returns and leaves behind is the same as when it is started cold (`test_cli.py` compares the two)."""

from __future__ import annotations

import importlib
import json
import os
import signal
import sys
import time
from typing import Any, NoReturn

from keenharbor.cli import main as entry


def run(asked: dict[str, Any]) -> NoReturn:
    """The child's part: become the command."""
    code = 70
    try:
        os.setpgid(0, 0)
        os.chdir(asked["folder"])
        os.environ.clear()
        os.environ.update(asked["environment"])
        for number, name in ((0, os.devnull), (1, asked["out"]), (2, asked["err"])):
            opened = os.open(name, os.O_RDWR | os.O_CREAT)
            os.dup2(opened, number)
            os.close(opened)
        sys.argv = ["keenharbor", *asked["words"]]
        entry.main()
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 0
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)


def wait(child: int, kill_after: float | None) -> int:
    """The child's end; with ``kill_after`` seconds it is killed then, if it has not ended."""
    end = time.monotonic() + kill_after if kill_after is not None else None
    while end is not None and time.monotonic() < end:
        done, status = os.waitpid(child, os.WNOHANG)
        if done:
            return status
        time.sleep(0.0005)
    if end is not None:
        os.kill(child, signal.SIGKILL)
    return os.waitpid(child, 0)[1]


def main() -> None:
    for module, _ in entry.COMMANDS.values():
        importlib.import_module(module.partition(":")[0])
    for heavy in (
        "keenharbor.cli.giving",
        "keenharbor.cli.keeping",
        "keenharbor.report",
        "scipy.stats",
        "matplotlib.figure",
        "jinja2",
        "aiosmtpd.controller",
    ):
        importlib.import_module(heavy)
    for line in sys.stdin:
        child = os.fork()
        if child == 0:
            run(json.loads(line))
        status = wait(child, json.loads(line).get("kill_after"))
        sys.stdout.write(f"{os.waitstatus_to_exitcode(status)}\n")
        sys.stdout.flush()


if __name__ == "__main__":
    main()
