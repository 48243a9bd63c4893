"""Nobody's work is lost: visitors borrow all the while that a plan is rehearsed, carried out by merge, and taken back.

    python benchmarks/under_load.py [sqlite] [mariadb] [postgres] [--rate 20]

Each loan that was answered with "Lent" must be there at the end, under its own name; counted by the clients. A loan is
two requests (the form, and sending it). Maintenance is answered with 503: such a loan is not counted."""

from __future__ import annotations

import collections
import json
import re
import subprocess
import sys
import threading
import time
from pathlib import Path

import httpx

sys.path.insert(0, str(Path(__file__).parent))

from described_scene import described_scene

from keenharbor.database import open_database
from keenharbor.demo.scene import Scene

PROGRAM = str(Path(sys.executable).with_name("keenharbor"))
PLAN = """format = 1
[plan]
site = "marrow-lane"
core = "3.4"
runtime = "2"
[[step]]
name = "channel"
kind = "sql"
sql = "ALTER TABLE loans ADD COLUMN channel VARCHAR(20)"
[[step]]
name = "slow"
kind = "command"
command = ["sleep", "3"]
"""


class Visitors:
    """Loans at a steady rate, by a few threads; what each was answered."""

    def __init__(self, scene: Scene, rate: float, threads: int = 10) -> None:
        self.scene, self.rate = scene, rate
        self.lent: list[str] = []
        self.answers: collections.Counter[str] = collections.Counter()
        self._over = threading.Event()
        self._lock = threading.Lock()
        self._threads = [threading.Thread(target=self._borrow, args=(n, threads), daemon=True) for n in range(threads)]

    def __enter__(self) -> Visitors:
        self._began = time.monotonic()
        for thread in self._threads:
            thread.start()
        return self

    def __exit__(self, *ended: object) -> None:
        self._over.set()
        for thread in self._threads:
            thread.join(30)

    def _borrow(self, number: int, count: int) -> None:
        pause = count * 2 / self.rate  # two requests a loan
        with httpx.Client(base_url=self.scene.address, trust_env=False, timeout=20) as browser:
            turn = 0
            while not self._over.wait(pause):
                turn += 1
                name = f"Visitor {number}-{turn}"
                answer = self._one(browser, name)
                with self._lock:
                    self.answers[answer] += 1
                    if answer == "Lent":
                        self.lent.append(name)

    @staticmethod
    def _one(browser: httpx.Client, name: str) -> str:
        try:
            form = browser.get("/loans")
            token = re.search(r'name="token" value="(\w+)"', form.text)
            if form.status_code != 200 or token is None:
                return f"status {form.status_code}"
            sent = {"token": token[1], "seed": "long-tom-carrot", "name": name, "email": "v@post.example"}
            answer = browser.post("/loans", data=sent, follow_redirects=True)
        except httpx.HTTPError as error:
            return type(error).__name__
        heading = re.search(r"<h1>(.*?)</h1>", answer.text)
        said = heading[1] if heading else f"status {answer.status_code}"
        return "Lent" if said.startswith("Lent") else said


def names_in(scene: Scene) -> collections.Counter[str]:
    with open_database(scene.database_place).reading() as state:
        table = state.schema.table("loans")
        assert table is not None
        at = table.columns.index("name")
        return collections.Counter(str(row[at]) for row in state.rows("loans"))


def run(scene: Scene, *words: str) -> tuple[float, dict[str, object]]:
    began = time.monotonic()
    done = subprocess.run([PROGRAM, *words, "--json"], cwd=scene.folder, capture_output=True, text=True, check=False)
    if done.returncode not in (0, 1):
        sys.exit(f"{' '.join(words)}: {done.returncode}\n{done.stdout[-2000:]}\n{done.stderr[-2000:]}")
    told = json.loads(done.stdout)
    return time.monotonic() - began, told if isinstance(told, dict) else {}


def under_load(engine: str, rate: float) -> None:
    with described_scene(engine, reload=True) as scene:
        (scene.folder / "upgrade.toml").write_text(PLAN)
        with Visitors(scene, rate) as visitors:
            time.sleep(1)
            tried, _ = run(scene, "trial", "run")
            went, gone = run(scene, "cutover", "--by", "merge", "--despite", "verdict", "--despite", "drift", "--yes")
            time.sleep(2)
            run(scene, "rollback", "--look")
            back, told = run(scene, "rollback", "--yes")
            time.sleep(1)
        there = names_in(scene)
        lost = [n for n in visitors.lent if not there[n]]
        twice = [n for n in visitors.lent if there[n] > 1]
        spent = f"maintenance {gone['maintenance_seconds']} s: {gone['spent']}"
        print(f"{engine}: {len(visitors.lent)} loans answered with success, lost {len(lost)}, twice {len(twice)}")
        print(f"  trial {tried:.1f} s, cutover {went:.1f} s ({spent}), rollback {back:.1f} s")
        print(f"  answers {dict(visitors.answers)}; carried {told['carried']}", flush=True)
        if lost:
            print("lost:", lost[:10])


def main() -> None:
    words = sys.argv[1:]
    rate = float(words[words.index("--rate") + 1]) if "--rate" in words else 20.0
    for engine in [w for w in words if w in ("sqlite", "mariadb", "postgres")] or ["sqlite"]:
        under_load(engine, rate)


if __name__ == "__main__":
    main()
