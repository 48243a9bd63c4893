"""Moving house: from here to a far machine, with another user, another folder and another address."""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from conftest import describe, harbor, plain_files, query
from far_machine import PYTHON, FarMachine, far_machine, give_to, hosted, open_to_others
from keenharbor.clone.server import free_port
from keenharbor.demo.scene import Host, Scene, set_scene
from keenharbor.demo.visitors import SEEDS, borrow


@pytest.fixture(scope="module")
def machine(tmp_path_factory: pytest.TempPathFactory) -> Iterator[FarMachine]:
    with far_machine(tmp_path_factory.mktemp("move") / "machine") as made:
        yield made


class NewHome:
    """A folder on the far machine, and a site file that describes it as the new place of a scene."""

    def __init__(self, machine: FarMachine, scene: Scene, place: Path) -> None:
        self.scene, self.place, self.port = scene, place, free_port()
        self.address = f"http://127.0.0.1:{self.port}"
        for launcher in scene.runtimes.glob("*/bin/*"):
            launcher.write_text(launcher.read_text().replace(sys.executable, PYTHON))
        for name in ("site", "data"):
            (place / name).mkdir(parents=True)
        open_to_others(scene.folder)
        open_to_others(place)
        self.user = machine.user
        give_to(self.user, place)
        reload = [PYTHON, str(scene.host_program), "reload", "--control", f"{place}/host"]
        lines = []
        for line in scene.site_file.read_text().splitlines():
            if line.startswith("root = "):
                line = f'root = "{machine.url(place / "site")}"'
            elif line.startswith("address = "):
                line = f'address = "{self.address}"'
            elif line.startswith("work = "):
                line = 'work = "harbor-there"'
            elif line.startswith("reload = "):
                line = f"reload = {reload}".replace("'", '"')
            elif line == "[visitor_data]":
                line = f'[database]\npath = "{place}/data/new.db"\n\n[visitor_data]'
            lines.append(line)
        (scene.folder / "new.toml").write_text("\n".join(lines) + "\n" + machine.line)

    def served(self) -> contextlib.AbstractContextManager[None]:
        return hosted(self.scene, self.user, self.place / "site", self.port, self.place / "host")


def status(address: str) -> int:
    return httpx.get(f"{address}/", trust_env=False).status_code


def test_a_site_moves_house_with_what_visitors_did_meanwhile(machine: FarMachine, tmp_path: Path) -> None:
    scene = set_scene(tmp_path / "old")
    describe(scene)
    home = NewHome(machine, scene, tmp_path / "there")
    before = plain_files(scene.root)
    with Host(scene):
        ready = harbor(scene.folder, "move", "--to", "new.toml", "--look", "--json").json
        assert ready["ready"] and {c["subject"] for c in ready["checks"]} >= {
            "folder",
            "disk space",
            "runtime",
            "database",
        }
        assert not any((home.place / "site").iterdir()), "to look changes nothing"
        # Before anything is served there, that is said, and how to go on.
        said = harbor(scene.folder, "move", "--to", "new.toml", "--yes", "--json", code=1).json
        assert not said["alike"] and any("does not answer" in p for p in said["apart"])
        assert harbor(scene.folder, "move", "--to", "new.toml", "--switch", "--yes", "--json", code=4).json
        assert status(scene.address) == 200, "the old place is open again"
        with home.served():
            moved = harbor(scene.folder, "move", "--to", "new.toml", "--yes", "--json").json
            assert moved["alike"] and moved["pages"] and moved["written"] < 5, "what is there is not written again"
            assert status(home.address) == 503 and status(scene.address) == 200
            passed = {"X-Maintenance-Pass": moved["pass"]}
            assert httpx.get(f"{home.address}/", headers=passed, trust_env=False).status_code == 200
            assert plain_files(scene.root) == before, "nothing of the old place was changed"
            assert "Lent" in borrow(scene.address, "Maren Tull", SEEDS[0])
            switched = harbor(scene.folder, "move", "--to", "new.toml", "--switch", "--yes", "--json").json
            assert switched["alike"] and switched["maintenance_seconds"] < 60 and switched["by_hand"]
            assert status(home.address) == 200 and status(scene.address) == 503
            loans = query(home.place / "data/new.db", "SELECT count(*) FROM loans WHERE name = 'Maren Tull'")
            assert loans == [(1,)]
            assert scene.address not in (home.place / "site/settings.ini").read_text()
            assert not [
                r for r in query(home.place / "data/new.db", "SELECT value FROM settings") if scene.address in r[0]
            ]
            assert harbor(scene.folder, "survey", "--site", "new.toml", "--json").json["address"] == home.address
            assert "has moved away" in harbor(scene.folder, "settle").out
            assert status(scene.address) == 503, "nobody opens a place from which the site has moved"
            harbor(scene.folder, "move", "--to", "new.toml", "--switch", "--yes")
            harbor(scene.folder, "move", "--close")
    assert not machine.helpers()


def test_what_stands_in_the_way_is_told_before_anything_is_written(
    machine: FarMachine, scene: Scene, tmp_path: Path
) -> None:
    home = NewHome(machine, scene, tmp_path / "there")
    (home.place / "site/theirs.txt").write_text("somebody else's")
    text = (scene.folder / "new.toml").read_text()
    told = harbor(scene.folder, "move", "--to", "new.toml", "--yes", "--json", code=1).json
    assert [c["subject"] for c in told["checks"] if c["verdict"] == "blocked"] == ["folder"]
    assert [p.name for p in (home.place / "site").iterdir()] == ["theirs.txt"]
    (home.place / "site/theirs.txt").unlink()
    (home.place / "other").mkdir()
    (home.place / "other/theirs.txt").write_text("somebody else's")
    harbor(scene.folder, "move", "--to", "new.toml", "--yes", code=1)  # begun; nothing is served there yet
    (scene.folder / "new.toml").write_text(text.replace("/there/site", "/there/other"))
    told = harbor(scene.folder, "move", "--to", "new.toml", "--yes", "--json", code=1).json
    assert "folder" in [c["subject"] for c in told["checks"] if c["verdict"] == "blocked"]
    assert (home.place / "other/theirs.txt").exists(), "a site file that names another place now is another move"
    harbor(scene.folder, "move", "--close")
    for place in sorted((home.place / "site").rglob("*"), reverse=True):
        place.rmdir() if place.is_dir() else place.unlink()
    (home.place / "data/new.db").unlink()
    (scene.folder / "new.toml").write_text(text.replace("loam-2/bin/loam", "loam-2/bin/gone"))
    told = harbor(scene.folder, "move", "--to", "new.toml", "--look", "--json", code=1).json
    assert [c["subject"] for c in told["checks"] if c["verdict"] == "blocked"] == ["runtime"]
    (scene.folder / "new.toml").write_text(text.replace('name = "marrow-lane"', 'name = "other"'))
    assert "not of 'marrow-lane'" in harbor(scene.folder, "move", "--to", "new.toml", code=2).err
    (scene.folder / "same.toml").write_text(scene.site_file.read_text())
    assert "the new place is the old one" in harbor(scene.folder, "move", "--to", "same.toml", code=2).err
    near = scene.site_file.read_text().replace('root = "site"', 'root = "elsewhere"')
    (scene.folder / "near.toml").write_text(near)
    assert "has the old one's database" in harbor(scene.folder, "move", "--to", "near.toml", code=2).err
