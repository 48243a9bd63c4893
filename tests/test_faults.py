"""Every fault point of the commands that write, on SQLite: an error and a kill by turns. `benchmarks/fault_points.py`
walks the servers."""

from __future__ import annotations

import os
import shutil
import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from conftest import Warm
from keenharbor.store import Store

sys.path.insert(0, str(Path(__file__).parent))
from faults.points import Walk, built, live_server, make_site, prepared, walk_all

pytestmark = pytest.mark.skipif(
    shutil.which("cc") is None and not os.environ.get("CI"), reason="a C compiler is needed for the library of faults"
)


@dataclass
class Ground:
    """A site with two snapshots, an archive and a rehearsed plan; and the program with the library of faults in it."""

    folder: Path
    saved: Path
    library: Path
    warm: Warm
    first: str = ""

    def walk(self, *words: str, changes_live: bool = True, saved: str = "saved") -> Walk:
        return Walk(self.folder, self.saved.with_name(saved), self.library, self.warm, words, changes_live)

    def save(self, name: str) -> None:
        place = self.saved.with_name(name)
        for part in ("site", "harbor"):
            subprocess.run(["cp", "-a", str(self.folder / part), str(place / part)], check=True)


@pytest.fixture(scope="module")
def ground(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Ground]:
    base = tmp_path_factory.mktemp("faults")
    folder = base / "scene"
    folder.mkdir()
    for name in ("saved", "cut-over", "many"):
        (base / name).mkdir()
    library = built(base)
    with live_server(folder) as address:
        make_site(folder, address)
        warm = Warm(LD_PRELOAD=str(library))
        made = Ground(folder, base / "saved", library, warm)
        plain = made.walk()
        prepared(folder, warm, lambda words: plain.run(words)[0])
        made.save("saved")
        (document,) = (folder / "harbor/store/snapshots").iterdir()
        made.first = document.stem
        assert plain.run(["cutover", "--yes", "--despite", "verdict"])[0].code == 0
        with sqlite3.connect(folder / "site/data/site.db") as base_now:
            base_now.execute("INSERT INTO letters (text) VALUES ('since')")
        base_now.close()
        made.save("cut-over")
        plain.put_back()
        for number in range(4):
            (folder / f"site/media/new{number}.bin").write_bytes(os.urandom(3000))
            assert plain.run(["snapshot", "take", "--label", f"n{number}"])[0].code == 0
        made.save("many")
        yield made


def check(walk: Walk, least: int, kinds: tuple[str, ...] = ("error", "kill")) -> None:
    """No point at which what was said is untrue, or where settling leaves live in between."""
    told = walk_all(walk, kinds)
    wrong = [f"{t.kind} at {t.point}: {'; '.join(t.wrong)} [{t.code}: {t.words}]" for t in told if t.wrong]
    assert not wrong, f"{len(wrong)} of {len(told)} points:\n" + "\n".join(wrong[:8])
    assert len(told) >= least, f"only {len(told)} points"
    assert {t.code for t in told if t.kind == "kill"} == {-9}


def test_taking_a_snapshot(ground: Ground) -> None:
    check(ground.walk("snapshot", "take", "--read-all", changes_live=False, saved="many"), 20)


def test_thinning(ground: Ground) -> None:
    check(ground.walk("snapshot", "thin", "--newest", "1", "--yes", changes_live=False, saved="many"), 20)


def test_importing(ground: Ground) -> None:
    walk = ground.walk("snapshot", "import", "first.tar.zst", changes_live=False)
    walk.prepare = lambda: Store(ground.folder / "harbor/store").remove_document("snapshots", ground.first)
    check(walk, 10)


def test_restoring_over_live(ground: Ground) -> None:
    check(ground.walk("snapshot", "restore", "first", "--live", "--yes", saved="many"), 60)


@pytest.mark.slow
def test_a_cutover(ground: Ground) -> None:
    check(ground.walk("cutover", "--yes", "--despite", "verdict"), 80)


@pytest.mark.slow
def test_a_rollback(ground: Ground) -> None:
    check(ground.walk("rollback", "--yes", saved="cut-over"), 60)


def test_a_disk_that_fills_up_during_a_cutover(ground: Ground) -> None:
    walk = ground.walk("cutover", "--yes", "--despite", "verdict")
    told = [walk.at(point, "full") for point in range(1, walk.count() + 1, 7)]
    wrong = [f"{t.point}: {t.wrong} [{t.code}: {t.words}]" for t in told if t is not None and t.wrong]
    assert not wrong, "\n".join(wrong[:8])
