"""One command for many sites: side by side, worst first, and one that is broken harms none."""

from __future__ import annotations

import json
import random
import threading
import time
from collections.abc import Sequence
from pathlib import Path

import psutil
import pytest

from conftest import describe, harbor
from keenharbor.base.errors import UsageError
from keenharbor.base.progress import Silent
from keenharbor.cli.fleet import run_command, warm
from keenharbor.demo.scene import set_scene
from keenharbor.fleet.sites import members_of, read_fleet
from keenharbor.fleet.working import Telling, for_all, told_of
from keenharbor.host.programs import Ran


def written(folder: Path, text: str) -> Path:
    file = folder / "fleet.toml"
    file.write_text(f"format = 1\n{text}")
    return file


def plain_site(folder: Path, name: str) -> Path:
    folder.mkdir(parents=True)
    file = folder / "keenharbor.toml"
    file.write_text(f'format = 1\n[site]\nname = "{name}"\nroot = "site"\naddress = "http://{name}.test"\n')
    return file


def test_sites_are_found_by_patterns_each_once_and_broken_ones_are_among_them(tmp_path: Path) -> None:
    for name in ("ash", "birch", "cedar"):
        plain_site(tmp_path / "sites" / name, name)
    (tmp_path / "sites/dead").mkdir()
    (tmp_path / "sites/dead/keenharbor.toml").write_text("[site")
    file = written(tmp_path, '''[[group]]
name = "all"
sites = ["sites/*/keenharbor.toml"]
[[group]]
name = "first"
sites = ["sites/ash/keenharbor.toml", "sites/[ab]*/keenharbor.toml"]
''')  # fmt: skip
    fleet = read_fleet(file)
    found = members_of(fleet, tmp_path)
    assert [(m.name, m.groups, bool(m.wrong)) for m in found] == [
        ("ash", ("all", "first"), False), ("birch", ("all", "first"), False), ("cedar", ("all",), False),
        ("dead", ("all",), True),
    ]  # fmt: skip
    assert [m.name for m in members_of(fleet, tmp_path, ("first",))] == ["ash", "birch"]
    with pytest.raises(UsageError, match="no group 'last'; there is: all, first"):
        members_of(fleet, tmp_path, ("last",))
    for wrong, told in (
        ("", "group"), ('[[group]]\nname = "A b"\nsites = ["x"]\n', "name"),
        ('[[group]]\nname = "a"\nsites = ["x"]\n[[group]]\nname = "a"\nsites = ["y"]\n', "same name"),
    ):  # fmt: skip
        with pytest.raises(UsageError, match=told):
            read_fleet(written(tmp_path, wrong))
    with pytest.raises(UsageError, match="no site file fits"):
        members_of(read_fleet(written(tmp_path, '[[group]]\nname = "a"\nsites = ["none/*"]\n')), tmp_path)
    with pytest.raises(UsageError, match="no file of a fleet"):
        read_fleet(tmp_path / "other.toml")


def test_work_goes_side_by_side_within_its_limit_and_the_worst_stands_first(tmp_path: Path) -> None:
    for number in range(12):
        plain_site(tmp_path / f"s{number:02}", f"site-{number:02}")
    fleet = read_fleet(written(tmp_path, '[[group]]\nname = "all"\nsites = ["s*/keenharbor.toml"]\n'))
    members = members_of(fleet, tmp_path)
    lock, now, most = threading.Lock(), [0], [0]
    chance = random.Random(5)

    def run(command: Sequence[str], seconds: float) -> Ran:
        with lock:
            now[0] += 1
            most[0] = max(most[0], now[0])
        time.sleep(chance.random() / 50)
        with lock:
            now[0] -= 1
        number = int(command[-1].split("/s")[-1][:2])
        if number == 3:
            return Ran("", None, "", 1.0)
        if number == 5:
            raise FileNotFoundError(2, "No such file")
        if number == 7:
            return Ran("", 3, '· reading\n{"error": {"what": "the disk is gone"}}', 1.0)
        if number == 8:
            return Ran("", 0, "no JSON at all", 1.0)
        return Ran(
            "",
            int(number == 4),
            '· a note\n[not json\n{"done": {"snapshot": {"outcome": "caution", "told": "odd"}}}',
            1.0,
        )

    outcomes = for_all("tend", members, run, Telling(Silent()), at_once=3, seconds=60)
    assert most[0] == 3 and len(outcomes) == 12
    assert [(o.site, o.verdict) for o in outcomes[:4]] == [
        ("site-03", "failed"), ("site-05", "failed"), ("site-07", "failed"), ("site-04", "caution"),
    ]  # fmt: skip
    told = {o.site: o.told for o in outcomes}
    assert told["site-07"] == "the disk is gone" and "stopped after 1 min" in told["site-03"]
    assert told["site-04"] == "snapshot: odd" and told["site-08"] == ""


def test_a_result_is_told_in_a_line_whatever_it_is() -> None:
    assert told_of("tend", {"done": {}}) == "nothing is due"
    assert told_of(
        "ready", {"verdict": "blocked", "checks": [{"verdict": "blocked", "subject": n} for n in "abcde"]}
    ) == ("blocked: a, b, c and 2 more")
    for name in ("survey", "ready", "tend", "snapshot", "send"):
        for odd in (None, [], {}, "x", [1], {"checks": 3, "done": 4, "installations": None}):
            assert isinstance(told_of(name, odd), str)


def test_a_fleet_is_surveyed_and_tended(tmp_path: Path) -> None:
    for name in ("one", "two"):
        made = set_scene(tmp_path / name)
        describe(made)
        text = made.site_file.read_text().replace('name = "marrow-lane"', f'name = "lane-{name}"')
        made.site_file.write_text(text + '\n[routine]\nsnapshot = "daily 03:10"\n')
    (tmp_path / "three").mkdir()
    (tmp_path / "three/keenharbor.toml").write_text("format = 1\n")
    written(tmp_path, '[[group]]\nname = "all"\nsites = ["*/keenharbor.toml"]\n[limits]\nat_once = 2\n')
    before = psutil.Process().num_fds()
    surveyed = harbor(tmp_path, "fleet", "survey", "--json", code=3).json
    assert [(s["site"], s["verdict"]) for s in surveyed] == [
        ("three", "failed"),
        ("lane-one", "good"),
        ("lane-two", "good"),
    ]
    assert "core 3.4" in surveyed[1]["told"] and surveyed[1]["result"]["name"] == "lane-one"
    tended = harbor(tmp_path, "fleet", "tend", code=3)
    assert "3 sites: 1 failed, 2 good" in tended.out and tended.out.index("three") < tended.out.index("lane-one")
    for name in ("one", "two"):
        status = json.loads((tmp_path / name / "harbor/status.json").read_text())
        assert status["duties"]["snapshot"]["outcome"] == "done"
    assert "lane-two" in harbor(tmp_path, "fleet", "list", code=1).out
    assert psutil.Process().num_fds() <= before + 2


def test_commands_are_run_warm_as_they_are_cold(tmp_path: Path) -> None:
    plain_site(tmp_path / "ash", "ash")
    run = warm("survey")
    said = ("survey", "--json", "--site", str(tmp_path / "ash/keenharbor.toml"))
    cold, forked = run_command(said, 60), run(said, 60)
    assert forked.code == cold.code == 2 and forked.output == cold.output
    assert run(("--version",), 60).output.startswith("keenharbor ")
    before = {p.pid for p in psutil.Process().children(recursive=True)}
    stopped = run(("survey", "--site", "/dev/stdin"), 0.0)
    assert stopped.code is None
    assert {p.pid for p in psutil.Process().children(recursive=True) if p.status() != "zombie"} <= before
