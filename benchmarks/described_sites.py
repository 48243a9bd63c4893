"""How much of sixty made-up sites `init` works out, and whether anything wrong is called certain.

    python benchmarks/described_sites.py [SEEDS]      (from the project's folder; 15 seeds of four families by default)

The sites are those of tests/made_sites.py; the fields those that tests/test_inference.py judges."""

from __future__ import annotations

import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "tests")]

from keenharbor.database.private_server import PrivateServer  # noqa: E402
from test_inference import judge, make  # noqa: E402


def main(seeds: int = 15) -> None:
    with tempfile.TemporaryDirectory(prefix="sites-") as home:
        servers = {e: PrivateServer.make(e, Path(home) / e) for e in ("mariadb", "postgres")}
        try:
            for family in ("php", "python", "flat", "odd"):
                _family(family, seeds, Path(home), servers)
        finally:
            for server in servers.values():
                server.remove()


def _family(family: str, seeds: int, home: Path, servers: dict[str, PrivateServer]) -> None:
    began, right, total, certain = time.monotonic(), 0, 0, 0
    faults: Counter[str] = Counter()
    for seed in range(seeds):
        folder = home / f"{family}-{seed}"
        judged = judge(make(family, seed, folder / "site", servers), folder)
        right += len(judged.right)
        total += len(judged.right) + len(judged.missing) + len(judged.wrong)
        certain += sum(sure == "read" for sure, _ in judged.wrong.values())
        faults.update([f"{n}: not found" for n in judged.missing])
        faults.update([f"{n}: wrong, {sure}" for n, (sure, _) in judged.wrong.items()])
    told = ", ".join(f"{what} ({n})" for what, n in faults.most_common(4)) or "nothing"
    took = (time.monotonic() - began) / seeds
    print(
        f"| {family} | {seeds} | {right} of {total} | {right / total:.1%} | {certain} | {took:.1f} s | {told} |",
        flush=True,
    )


if __name__ == "__main__":
    main(*(int(w) for w in sys.argv[1:2]))
