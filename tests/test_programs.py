"""Starting other programs, waiting for them and ending them, whatever strikes meanwhile."""

from __future__ import annotations

import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from keenharbor.host.programs import ProgramError, Running, ask_program, run_program, stop_group, wait_for


def child(*words: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen(words, start_new_session=True)


def test_a_lock_that_a_signal_left_held_keeps_nobody_waiting(tmp_path: Path) -> None:
    """What `Popen.wait` holds when an exception strikes between taking its lock and being ready to give it back."""
    process = child("sleep", "60")
    process._waitpid_lock.acquire()  # type: ignore[attr-defined]
    began = time.monotonic()
    stop_group(process)
    assert time.monotonic() - began < 30 and process.returncode == -signal.SIGTERM
    running = Running(["sleep", "60"], folder=str(tmp_path), log=tmp_path / "log", environment={})
    running._process._waitpid_lock.acquire()  # type: ignore[attr-defined]
    assert not running.ended() and not running.wait(0.05)
    running.stop()
    assert running.ended() and running.wait()


def test_signals_at_any_moment_end_the_wait_and_the_program() -> None:
    """In a process of its own: an exception strikes 150 times while programs are waited for."""
    code = """
import signal, sys, random
from pathlib import Path
from keenharbor.host.programs import run_program

class Struck(KeyboardInterrupt):
    pass

def strike(*_):
    raise Struck()

signal.signal(signal.SIGALRM, strike)
chance, struck = random.Random(5), 0
for _ in range(150):
    try:
        signal.setitimer(signal.ITIMER_REAL, chance.uniform(0.002, 0.006))
        run_program(["sleep", "0.004"], folder=Path("/"), time_limit=20)
        signal.setitimer(signal.ITIMER_REAL, 0)
    except Struck:
        struck += 1
print(struck)
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=100, check=False)
    assert done.returncode == 0, done.stderr
    assert int(done.stdout) > 20


def test_how_a_program_ended_is_told(tmp_path: Path) -> None:
    assert wait_for(child("sh", "-c", "exit 7")) == 7
    process = child("sleep", "60")
    assert wait_for(process, 0) is None and wait_for(process, 0.05) is None
    process.kill()
    assert wait_for(process) == -signal.SIGKILL and wait_for(process) == -signal.SIGKILL
    ran = run_program(["sh", "-c", "echo said; sleep 60"], folder=tmp_path, time_limit=0.3)
    assert ran.timed_out and ran.output == "said\n"
    reaped = child("true")
    reaped.wait()
    assert wait_for(reaped, 1) == 0


def test_what_a_program_says_when_it_is_asked() -> None:
    assert ask_program(["cat"], seconds=20, told=b"told") == b"told"
    with pytest.raises(ProgramError, match="too bad"):
        ask_program(["sh", "-c", "echo too bad >&2; exit 3"], seconds=20)
    with pytest.raises(ProgramError, match="did not end within 0.2 s"):
        ask_program(["sleep", "60"], seconds=0.2)
    with pytest.raises(ProgramError, match="No such file"):
        ask_program(["/no/such/program"], seconds=1)
