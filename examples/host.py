"""Serves the site and its database: python host.py start|stop|web."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

HOME = Path(__file__).resolve().parent
FACTS = json.loads((HOME / "host.json").read_text())


def answers(port: int) -> bool:
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) == 0


def stop(names: list[str]) -> None:
    for name in names:
        file = HOME / (name + ".pid")
        if file.exists():
            with contextlib.suppress(ProcessLookupError):
                os.killpg(int(file.read_text()), signal.Signals[FACTS[name]["signal"]])
            file.unlink()
            for _ in range(600):
                if not answers(FACTS[name]["port"]):
                    break
                time.sleep(0.05)


def start(names: list[str]) -> None:
    for name in names:
        facts = FACTS[name]
        if (HOME / (name + ".pid")).exists() and answers(facts["port"]):
            continue
        with (HOME / (name + ".log")).open("ab") as log:
            ran = subprocess.Popen(
                facts["command"],
                cwd=facts["folder"],
                stdout=log,
                stderr=log,
                stdin=subprocess.DEVNULL,
                start_new_session=True,
            )
        (HOME / (name + ".pid")).write_text(str(ran.pid))
        for _ in range(600):
            if answers(facts["port"]):
                break
            if ran.poll() is not None:
                sys.exit(name + " ended: see " + str(HOME / (name + ".log")))
            time.sleep(0.05)


ALL = [n for n in ("database", "web") if n in FACTS]
if sys.argv[1] == "stop":
    stop(ALL[::-1])
elif sys.argv[1] == "start":
    start(ALL)
else:  # the host takes up changed code
    stop(["web"])
    start(["web"])
