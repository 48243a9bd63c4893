"""A site on another machine, over a line with a delay and a rate: what crosses it, and how long it takes.

    python benchmarks/far_site.py [FILES [MEGABYTES [MBIT [MS]]]]

The machine is an OpenSSH server on loopback behind a relay that delays and slows (tests/shaped_line.py)."""

from __future__ import annotations

import os
import random
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from scaling import SITE

from far_machine import FarMachine, far_machine
from keenharbor.clone.server import free_port
from shaped_line import Shape, ShapedLine, shaped_line

WORDS = ["seed", "sow", "bed", "row", "frost", "thaw", "leaf", "root", "stem", "pod", "husk", "share", "lend"]


def make_site(root: Path, files: int, megabytes: int) -> None:
    """Files as a site has them: half the bytes text, half of what gets no smaller."""
    draw = random.Random(7)
    size = megabytes * 1_000_000 // files
    for number in range(files):
        folder = root / f"part{number % 40}" / f"of{number // 40 % 25}"
        folder.mkdir(parents=True, exist_ok=True)
        if number % 2:
            (folder / f"picture{number}.bin").write_bytes(draw.randbytes(size))
        else:
            text = " ".join(draw.choice(WORDS) + str(draw.randrange(2000)) for _ in range(size // 8))
            (folder / f"text{number}.txt").write_text(text[:size])
    (root / "VERSION").write_text("1.0\n")


def make_database(file: Path, rows: int) -> None:
    draw = random.Random(8)
    with sqlite3.connect(file) as made:
        made.execute("CREATE TABLE orders (id INTEGER PRIMARY KEY, who TEXT, what TEXT, amount REAL, at TEXT)")
        made.executemany(
            "INSERT INTO orders VALUES (?, ?, ?, ?, ?)",
            ((n, f"person{draw.randrange(90000)}@post.example", " ".join(draw.choices(WORDS, k=9)),
              draw.random() * 100, f"2026-0{n % 9 + 1}-11 10:{n % 60:02}:00") for n in range(rows)),
        )  # fmt: skip
    made.close()


def timed(folder: Path, line: ShapedLine, *words: str) -> tuple[float, int, int]:
    before = line.passed()
    began = time.monotonic()
    subprocess.run(
        [Path(sys.executable).with_name("keenharbor"), *words], cwd=folder, check=True, stdout=subprocess.DEVNULL
    )
    took = time.monotonic() - began
    after = line.passed()
    return took, after[0] - before[0], after[1] - before[1]


def through(machine: FarMachine, port: int, command: str) -> float:
    """Seconds of a command's output through the same line, by the plain client."""
    began = time.monotonic()
    subprocess.run(
        ["ssh", "-p", str(port), "-i", str(machine.folder / "own"), "-o", f"UserKnownHostsFile={machine.folder}/known",
         "-o", "StrictHostKeyChecking=no", f"{machine.user}@127.0.0.1", command],
        check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    return time.monotonic() - began


def main() -> None:
    files, megabytes, mbit, delay = ([*map(float, sys.argv[1:]), *[20_000, 400, 20, 30][len(sys.argv) - 1 :]])[:4]
    base = Path(tempfile.mkdtemp(prefix="far-site-"))
    base.chmod(0o755)
    shape = Shape(delay / 2000, mbit * 125_000)
    try:
        with far_machine(base / "machine") as machine, shaped_line(machine.port, shape) as line:
            there, here = base / "there", base / "here"
            make_site(there / "site", int(files), int(megabytes))
            here.mkdir()
            said = f'engine = "sqlite"\npath = "{there}/rows.db"'
            text = SITE.format(port=free_port(), database=said, python=sys.executable)
            url = machine.url(there / "site", line.port)
            (here / "keenharbor.toml").write_text(text.replace('root = "site"', f'root = "{url}"') + machine.line)
            make_database(there / "rows.db", 10)
            subprocess.run(["chown", "-R", machine.user, str(there)], check=True)

            packed = int(subprocess.run(
                f"tar -C {there} -cf - site | gzip -6 | wc -c", shell=True, check=True, capture_output=True
            ).stdout)  # fmt: skip
            limit = packed / shape.rate
            print(f"{int(files):,} files, {int(megabytes)} MB; tar | gzip -6: {packed / 1e6:.1f} MB, on a line of "
                  f"{mbit:g} Mbit/s {limit:.1f} s; there and back in {delay:g} ms", flush=True)  # fmt: skip

            def told(name: str, took: tuple[float, int, int], against: str) -> None:
                seconds, to, fro = took
                print(f"{name:24} {seconds:7.2f} s  {to / 1e3:9.1f} kB to there  {fro / 1e3:11.1f} kB from there  "
                      f"{against}", flush=True)  # fmt: skip

            first = timed(here, line, "snapshot", "take")
            told("first snapshot", first, f"{first[0] / limit:.2f} of the line's limit")
            same = timed(here, line, "snapshot", "take")
            told("unchanged snapshot", same, "")
            changed = 0
            for number in range(0, int(files), 100):
                file = there / f"site/part{number % 40}/of{number // 40 % 25}/text{number}.txt"
                file.write_bytes(os.urandom(file.stat().st_size))
                changed += file.stat().st_size
            some = timed(here, line, "snapshot", "take")
            told("1 % changed", some, f"{some[2] / changed:.2f} of the {changed / 1e3:.0f} kB that changed")
            shutil.move(there / "site/part0", there / "site/part-elsewhere")
            told("a folder renamed", timed(here, line, "snapshot", "take"), "")

            (there / "rows.db").unlink()
            make_database(there / "rows.db", 500_000)
            subprocess.run(["chown", machine.user, str(there / "rows.db")], check=True)
            dump = f"sqlite3 {there}/rows.db .dump"
            rows = timed(here, line, "snapshot", "take")
            plain, small = through(machine, line.port, dump), through(machine, line.port, f"{dump} | gzip -6")
            told("500,000 rows", rows, f"{rows[0] / plain:.2f} of a dump through the line ({plain:.1f} s), "
                 f"{rows[0] / small:.2f} of one through gzip ({small:.1f} s)")  # fmt: skip
    finally:
        shutil.rmtree(base, ignore_errors=True)


if __name__ == "__main__":
    main()
