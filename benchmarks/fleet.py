"""What many sites cost: `fleet survey` against the work of one, on this machine's processors, with its memory; and a
thousand sites on two workers of an engine.

    python fleet.py [SITES] [--cluster]"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from statistics import median

import psutil

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from conftest import describe
from keenharbor.demo.scene import set_scene


def run(folder: Path, *words: str) -> float:
    """A command as a user types it; returns seconds."""
    began = time.perf_counter()
    done = subprocess.run(
        [sys.executable, "-m", "keenharbor.cli.main", *words], cwd=folder, capture_output=True, text=True, check=False
    )
    seconds = time.perf_counter() - began
    assert done.stdout.count("core 3.4") >= (40 if words[0] == "fleet" else 0), done.stdout + done.stderr
    return seconds


class Peak:
    """The largest memory of this process's children together, in MiB, and of the largest of them."""

    def __init__(self) -> None:
        self.all = self.one = 0.0
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._look)

    def __enter__(self) -> Peak:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._thread.join()

    def _look(self) -> None:
        me = psutil.Process()
        while not self._over.wait(0.05):
            sizes = []
            for child in me.children(recursive=True):
                try:
                    sizes.append(child.memory_info().rss / 2**20)
                except psutil.Error:
                    continue
            self.all, self.one = max(self.all, sum(sizes)), max(self.one, *sizes, 0.0)


def main(count: int = 40) -> None:
    """Make the sites, and measure."""
    with tempfile.TemporaryDirectory() as base:
        folder, cores = Path(base), os.cpu_count() or 1
        for number in range(count):
            scene = set_scene(folder / f"site-{number:03}")
            describe(scene)
            text = scene.site_file.read_text().replace('name = "marrow-lane"', f'name = "site-{number:03}"')
            scene.site_file.write_text(text)
        (folder / "broken").mkdir()
        (folder / "broken/keenharbor.toml").write_text("[site")
        (folder / "fleet.toml").write_text('format = 1\n[[group]]\nname = "all"\nsites = ["*/keenharbor.toml"]\n')
        one = median(run(folder / "site-000", "survey") for _ in range(7))
        with Peak() as peak:
            all_of_them = run(folder, "fleet", "survey")
        share = all_of_them / (count * one / cores)
        print(f"one survey {one:.2f} s; {count} sites and a broken one {all_of_them:.1f} s on {cores} processors:")
        print(f"{share:.2f} times the work of one divided by processors; {peak.all:.0f} MiB at most, "
              f"{peak.one:.0f} MiB the largest process")  # fmt: skip


if __name__ == "__main__":
    main(*(int(w) for w in sys.argv[1:]))
