"""`init` and `survey` on a site of many files (see README.md)."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

from snapshot_speed import best, make_tree


def main() -> None:
    """Make the site, and measure."""
    program = str(Path(sys.executable).with_name("keenharbor"))
    with tempfile.TemporaryDirectory(prefix="harbor-bench-") as name:
        folder = Path(name)
        make_tree(folder / "site", 20_000)

        def run(*words: str) -> None:
            subprocess.run([program, *words], cwd=folder, check=True, capture_output=True)

        init = best(lambda: run("init", "site", "--yes", "--force", "--address", "http://127.0.0.1:9"))
        survey = best(lambda: run("survey", "--json"), times=3)
        find = best(
            lambda: subprocess.run(["find", str(folder / "site"), "-printf", "%s"], check=True, capture_output=True),
            times=3,
        )
        print(f"init {init:.2f} s (bar 20); survey {survey:.2f} s, find {find:.2f} s: {survey / find:.1f} (bar 3)")


if __name__ == "__main__":
    main()
