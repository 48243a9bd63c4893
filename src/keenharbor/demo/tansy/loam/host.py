"""A web host's part for one site: listens at the site's address and runs the site with the runtime that it asks for.

    host.py serve --root ROOT --runtimes FOLDER --port N --control FOLDER
    host.py reload --control FOLDER

The site's file .runtime names the version of loam. "reload" ends the worker and starts a new one on the same
socket, so visitors wait a moment and are not refused; it returns when the new worker answers or has failed.
"""

import argparse
import os
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

WAIT_SECONDS = 15


def start_worker(root, runtimes, listener):
    version = (root / ".runtime").read_text().strip()
    launcher = runtimes / f"loam-{version}" / "bin" / "loam"
    log = root / "var" / "log" / "host.log"
    log.parent.mkdir(parents=True, exist_ok=True)
    with log.open("ab") as out:
        return subprocess.Popen(
            [str(launcher), "tansy.py", "serve", "--socket", str(listener.fileno())],
            cwd=root, pass_fds=(listener.fileno(),), stdout=out, stderr=out, stdin=subprocess.DEVNULL,
        )  # fmt: skip


def stop_worker(worker):
    worker.terminate()
    try:
        worker.wait(3)
    except subprocess.TimeoutExpired:
        worker.kill()
        worker.wait()


def serve(options):
    root, control = Path(options.root), Path(options.control)
    control.mkdir(parents=True, exist_ok=True)
    listener = socket.create_server(("127.0.0.1", options.port), backlog=64)
    listener.set_inheritable(True)
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    worker = start_worker(root, Path(options.runtimes), listener)
    (control / "pid").write_text(str(os.getpid()))
    asked, done = control / "reload.asked", control / "reload.done"
    parent = os.getppid()
    try:
        while os.getppid() == parent:  # a host whose starter has gone ends too
            time.sleep(0.02)
            try:
                wanted = asked.read_text()
            except FileNotFoundError:
                continue
            asked.unlink()
            stop_worker(worker)
            try:
                worker = start_worker(root, Path(options.runtimes), listener)
                outcome = "ok"
            except OSError as error:
                outcome = f"failed: {error}"
            done.write_text(f"{wanted} {outcome}")
    finally:
        stop_worker(worker)


def reload(options):
    control = Path(options.control)
    nonce = f"{os.getpid()}-{time.time_ns()}"
    part = control / f"asked-{nonce}"
    part.write_text(nonce)
    part.replace(control / "reload.asked")
    end = time.monotonic() + WAIT_SECONDS
    while time.monotonic() < end:
        try:
            answer = (control / "reload.done").read_text()
        except FileNotFoundError:
            answer = ""
        if answer.startswith(nonce):
            print(answer.split(" ", 1)[1])
            return 0 if answer.endswith(" ok") else 1
        time.sleep(0.02)
    print("the host did not answer", file=sys.stderr)
    return 1


def main():
    parser = argparse.ArgumentParser()
    commands = parser.add_subparsers(dest="command", required=True)
    run = commands.add_parser("serve")
    run.add_argument("--root", required=True)
    run.add_argument("--runtimes", required=True)
    run.add_argument("--port", type=int, required=True)
    run.add_argument("--control", required=True)
    again = commands.add_parser("reload")
    again.add_argument("--control", required=True)
    options = parser.parse_args()
    raise SystemExit(serve(options) if options.command == "serve" else reload(options))


if __name__ == "__main__":
    main()
