"""How long ``keenharbor --help`` takes against ``python -c "import click"`` in the same environment, side by side.

Run: python benchmarks/help_speed.py [ROUNDS]
"""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path
from statistics import median

BAR = 1.6


def seconds(command: list[str]) -> float:
    began = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - began


def main() -> None:
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 40
    ours = [str(Path(sys.executable).parent / "keenharbor"), "--help"]
    base = [sys.executable, "-c", "import click"]
    times: dict[str, list[float]] = {"ours": [], "base": []}
    for _ in range(rounds):  # in turn, so that a busy moment hits both
        times["base"].append(seconds(base))
        times["ours"].append(seconds(ours))
    ratio = median(times["ours"]) / median(times["base"])
    least = min(times["ours"]) / min(times["base"])
    print(f"keenharbor --help: median {1000 * median(times['ours']):.0f} ms")
    print(f"import click:      median {1000 * median(times['base']):.0f} ms")
    print(f"ratio of medians {ratio:.2f}, of the fastest {least:.2f}; the bar is {BAR}")


if __name__ == "__main__":
    main()
