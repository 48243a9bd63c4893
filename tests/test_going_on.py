"""A trial that was killed, or broke off, can be gone on with; what it took from an earlier one is given back."""

from __future__ import annotations

import json
import signal
import subprocess
import time
from pathlib import Path

import pytest

from conftest import PROGRAM, describe, environment, harbor
from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.compare import Look, Noise, Observation, Weight
from keenharbor.compare.look import CheckSeen, FileSeen, PageSeen
from keenharbor.compare.markup import Block, Form, Markup
from keenharbor.demo.scene import Scene, set_scene
from keenharbor.store import Store
from keenharbor.trial.gallery import KeptShot, Shots
from keenharbor.trial.record import (
    SeenBefore,
    SeenStep,
    TrialRecord,
    forget_older,
    newest_record,
    read_record,
    steps_in_common,
)
from keenharbor.trial.result import StepRecord

HEAD = 'format = 1\n[plan]\nsite = "marrow-lane"\ncore = "3.4"\nruntime = "2"\n'


@pytest.fixture
def small(tmp_path: Path) -> Scene:
    made = set_scene(tmp_path / "scene")
    describe(made, '\n[look]\nstarts = ["/about"]\nlimit = 1\n')
    harbor(made.folder, "snapshot", "take")
    return made


def plan(scene: Scene, *steps: tuple[str, str]) -> None:
    texts = [
        f'[[step]]\nname = "{n}"\nkind = "command"\ncommand = ["sh", "-c", {json.dumps(c)}]\nexpects = ["core/*"]\n'
        for n, c in steps
    ]
    (scene.folder / "upgrade.toml").write_text(HEAD + "".join(texts))


def test_a_killed_trial_is_gone_on_with(small: Scene) -> None:
    plan(small, ("one", "echo 1 >> core/count.txt"), ("slow", "sleep 30"), ("last", 'test "$(cat core/count.txt)" = 1'))
    process = subprocess.Popen(
        [*PROGRAM, "trial", "run"],
        cwd=small.folder,
        env=environment(),
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    trials = small.folder / "harbor/trials"
    for _ in range(400):
        if list(trials.glob("*/seen/1.zst")):
            break
        time.sleep(0.05)
    time.sleep(0.5)
    process.send_signal(signal.SIGKILL)
    process.wait()
    harbor(small.folder, "clone", "close", "--all")
    plan(small, ("one", "echo 1 >> core/count.txt"), ("slow", "true"), ("last", 'test "$(cat core/count.txt)" = 1'))
    told = harbor(small.folder, "trial", "resume", "--json").json
    assert [(s["name"], s["problem"]) for s in told["steps"]] == [("one", None), ("slow", None), ("last", None)]
    assert told["went_on_with"] == 1, "the first step was not done again, or the count would be two"
    assert list((small.folder / "harbor/clones").iterdir()) == []


def test_a_resume_that_breaks_off_gives_back_what_it_took(small: Scene) -> None:
    plan(small, ("one", "true"), ("two", "false"))
    first = harbor(small.folder, "trial", "run", "--json", code=1).json["id"]
    plan(small, ("one", "true"), ("two", "true"))
    # No clone can be made: its folder is a file.
    clones = small.folder / "harbor/clones"
    clones.rmdir()
    clones.write_text("in the way")
    harbor(small.folder, "trial", "resume", code=None)
    clones.unlink()
    assert (small.folder / f"harbor/trials/{first}/checkpoints/store.json").exists()
    told = harbor(small.folder, "trial", "resume", "--json").json
    assert told["went_on_with"] == 1 and told["verdict"] == "pass"
    assert sorted(p.name for p in (small.folder / "harbor/trials").iterdir()) == sorted([first, told["id"]])


def record(folder: Path) -> TrialRecord:
    """One with everything in it that a record can hold."""
    page = PageSeen("/a", 200, "/b", None,
        Markup("t", structured={"a": "b"}, blocks={"#x": Block(["w"], ["/l"], ["/i"], ["h1"])},
                    forms={"f": Form("/f", "post", {"n": "v"}, {"p"}, {"b": "1"}, {"u"})}), None, [Markup("t2")], [0.1],
                        {"Link": "x"}, True)  # fmt: skip
    look = Look(
        "http://h",
        {"/a": page},
        {"/s.css": 404},
        {"/p.png": FileSeen("d", True, (2, 1))},
        {"c": CheckSeen("c", "no")},
        "nobody",
    )
    noise = Noise(
        frozenset({("/a", "#x")}), frozenset({"#clock"}), frozenset({"/p"}), frozenset({"c"}), frozenset({"/f"})
    )
    shot = KeptShot("/a", 390, "pictures/x.png", {"#x": (0.0, 1.5, 2.0, 3.0)}, ["e"], ["f"])
    before = SeenBefore(
        "s",
        "i",
        "http://127.0.0.1:1",
        look,
        noise,
        {"/a": [0.1]},
        ["line"],
        Shots({"390 /a": shot}, {"390 /a": [(0.0, 0.0, 1.0, 1.0)]}, 2),
    )
    made = TrialRecord.begin(folder, before)
    Store.create(made.checkpoints)
    for number in (1, 2, 3):
        step = StepRecord(
            f"s{number}",
            "f",
            None if number < 3 else "broke",
            1,
            0.5,
            "out\udcff".encode("utf-8", "replace").decode(),
            1,
            2,
            f"c{number}",
        )
        seen = Observation("kind", "place", Weight.DOUBT, "text", "/a", "b", "a")
        made.add(SeenStep({"name": f"s{number}"}, step, look, [seen], [seen], {"1": "2"}, ["l"], {"390 /a": shot}))
    return made


def test_a_record_comes_back_whole(tmp_path: Path) -> None:
    made = record(tmp_path / "t1")
    back = read_record(tmp_path / "t1")
    assert (back.before, back.steps) == (made.before, made.steps)
    assert steps_in_common(back, [{"name": "s1"}, {"name": "s2"}, {"name": "s3"}]) == 2, (
        "one that failed does not stand"
    )
    assert steps_in_common(back, [{"name": "s1"}, {"name": "other"}]) == 1
    going = back.continued(tmp_path / "t2", 1)
    assert [s.name for s in read_record(tmp_path / "t2").steps] == ["s1"] and going.checkpoints.is_dir()
    assert newest_record(tmp_path) == "t2"
    with pytest.raises(UsageError, match="only the newest"):
        read_record(tmp_path / "t1")
    assert back.give_back(tmp_path / "t2") is True and back.give_back(tmp_path / "t2") is False
    assert read_record(tmp_path / "t1").steps == made.steps


@pytest.mark.parametrize("damage", [b"", b"nothing", b"(\xb5/\xfd"])
def test_a_damaged_record_is_told_as_such(tmp_path: Path, damage: bytes) -> None:
    record(tmp_path / "t1")
    (tmp_path / "t1/seen/2.zst").write_bytes(damage)
    with pytest.raises(DamagedError, match="cannot be read"):
        read_record(tmp_path / "t1")


def test_only_finished_trials_are_forgotten(tmp_path: Path) -> None:
    for name in ("t1", "t2", "t3"):
        record(tmp_path / name)
    (tmp_path / "t1/result.json").write_text("{}")
    (tmp_path / "t3/result.json").write_text("{}")
    forget_older(tmp_path, "t3")
    assert (
        not (tmp_path / "t1/seen").exists()
        and not (tmp_path / "t1/checkpoints").exists()
        and (tmp_path / "t1/result.json").exists()
    )
    assert (tmp_path / "t2/seen").exists() and (tmp_path / "t3/checkpoints").exists()
