"""One plan for many sites: first on one, then in waves, and no further than where something is not as rehearsed."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest

from conftest import describe, harbor
from keenharbor.base.errors import UsageError
from keenharbor.base.text import now
from keenharbor.demo.scene import Host, Scene, set_scene
from keenharbor.fleet.rollout import Going, Rollout, begin, next_wave, read_rollout, waits_until, watch_the_done
from keenharbor.fleet.sites import Member, RolloutPart
from keenharbor.fleet.working import Watcher
from keenharbor.host.programs import Ran
from keenharbor.site.load import open_site
from keenharbor.trial.fitting import fit_plan
from test_cutover import PLAN

NAMES = [f"site-{n:02}" for n in range(12)]


@dataclass
class World:
    """Sites that end as they are told to."""

    folder: Path
    trials: dict[str, str] = field(default_factory=dict)
    cutovers: dict[str, int] = field(default_factory=dict)
    asked: list[tuple[str, str]] = field(default_factory=list)

    def run(self, command: Sequence[str], seconds: float) -> Ran:
        name, what = Path(command[-1]).parent.name, " ".join(command[:2])
        self.asked.append((what, name))
        if what == "trial run":
            verdict = self.trials.get(name, "pass")
            findings = [{"text": "a page fails", "weight": "damage"}] if verdict != "pass" else []
            return Ran("", int(verdict != "pass"), json.dumps({"verdict": verdict, "findings": findings}), 1.0)
        if command[0] == "cutover":
            code = self.cutovers.get(name, 0)
            said: dict[str, Any] = {"core": "4.0", "maintenance_seconds": 1.5}
            return Ran("", code, json.dumps(said if code == 0 else {"error": {"what": "put back"}}), 1.0)
        return Ran("", 0, json.dumps({"verdict": "clear", "checks": []}), 0.1)

    def going(self, rollout: Rollout) -> Going:
        return Going(Path("upgrade.toml"), rollout, self.folder / "fleet-upgrade.json", self.run, 60)

    def live(self) -> list[str]:
        return [n for what, n in self.asked if what.startswith("cutover")]


def members(folder: Path) -> list[Member]:
    return [Member(n, folder / n / "keenharbor.toml", ("all",)) for n in NAMES]


def test_waves_grow_and_each_waits_for_the_watch_of_the_one_before(tmp_path: Path) -> None:
    world, sites = World(tmp_path), members(tmp_path)
    rollout = begin("digest", sites, RolloutPart(first="site-05", days=3, wave=3), None)
    assert [s.name for s in rollout.sites.values() if s.wave == 0] == ["site-05"]
    assert [sum(s.wave == w for s in rollout.sites.values()) for w in range(3)] == [1, 3, 6]
    going = world.going(rollout)
    assert waits_until(rollout, sites, 3) is None
    next_wave(going, sites, Watcher(), 2)
    assert world.live() == ["site-05"] and rollout.wave(sites) == 1
    until = waits_until(rollout, sites, 3)
    assert until is not None and timedelta(days=2.9) < until - now() < timedelta(days=3.1)
    rollout.sites[str(sites[5].site_file)].at = now() - timedelta(days=4)
    assert waits_until(rollout, sites, 3) is None
    assert [o.site for o in watch_the_done(going, sites, Watcher(), 2)] == ["site-05"]
    next_wave(going, sites, Watcher(), 2)
    assert len(world.live()) == 4 and len(rollout.of("done")) == 4
    noted = read_rollout(going.file)
    assert noted is not None and noted == rollout, "what was done is noted"
    with pytest.raises(UsageError, match="none of the sites"):
        begin("digest", sites, RolloutPart(first="other"), None)


def test_a_wave_stops_at_the_first_that_is_not_as_rehearsed(tmp_path: Path) -> None:
    world, sites = World(tmp_path, cutovers={"site-03": 4}, trials={"site-02": "review"}), members(tmp_path)
    rollout = begin("digest", sites, RolloutPart(wave=20, days=0), None)
    going = world.going(rollout)
    next_wave(going, sites, Watcher(), 1)
    outcomes = next_wave(going, sites, Watcher(), 1)
    assert world.live() == ["site-00", "site-01", "site-03"], "nothing was begun behind it"
    assert [(o.site, o.verdict) for o in outcomes][:2] == [("site-03", "failed"), ("site-02", "caution")]
    assert "not as it was rehearsed: put back" in outcomes[0].told
    assert "left out, its rehearsal: review: a page fails" in outcomes[1].told
    assert [s.name for s in rollout.of("stopped")] == ["site-03"] and len(rollout.of("waiting")) == 8
    world.cutovers.clear()
    going.note(sites[3], "waiting", "")
    next_wave(going, sites, Watcher(), 3)
    assert rollout.wave(sites) is None and len(rollout.of("done")) == 11


def test_where_the_first_is_left_out_another_goes_ahead_alone_and_is_waited_for(tmp_path: Path) -> None:
    world, sites = World(tmp_path, trials={"site-00": "review", "site-01": "fail"}), members(tmp_path)
    rollout = begin("digest", sites, RolloutPart(days=3, wave=5), None)
    going = world.going(rollout)
    for expected in ([], [], ["site-02"]):
        next_wave(going, sites, Watcher(), 3)
        assert world.live() == expected
    assert waits_until(rollout, sites, 3) is not None
    going.note(sites[3], "left out", "by decision")
    assert waits_until(rollout, sites, 3) is not None, "to leave one of the next wave out does not begin it"


def test_sites_that_come_or_go_meanwhile_hold_nothing_up(tmp_path: Path) -> None:
    world, sites = World(tmp_path), members(tmp_path)
    rollout = begin("digest", sites[:5], RolloutPart(wave=2, days=0), None)
    going = world.going(rollout)
    next_wave(going, sites[:5], Watcher(), 2)
    left = [s for s in sites if s.name not in ("site-01", "site-03")]  # two went, others came
    rollout.take_in(left)
    while rollout.wave(left) is not None:
        assert next_wave(going, left, Watcher(), 2), "each wave does something"
    assert sorted(world.live()) == [s.name for s in left]
    assert world.live()[-1] in NAMES[5:], "those that came go last"


@pytest.fixture(scope="module")
def scenes(tmp_path_factory: pytest.TempPathFactory) -> list[Scene]:
    folder = tmp_path_factory.mktemp("fleet")
    made = [set_scene(folder / name) for name in ("ash", "birch")]
    for scene in made:
        name = scene.folder.name
        describe(scene, "[look]\nlimit = 6\n")
        scene.site_file.write_text(scene.site_file.read_text().replace('name = "marrow-lane"', f'name = "{name}"'))
    (folder / "upgrade.toml").write_text(PLAN.replace('"marrow-lane"', '"ash"'))
    (folder / "fleet.toml").write_text(
        'format = 1\n[[group]]\nname = "all"\nsites = ["*/keenharbor.toml"]\n[rollout]\nfirst = "ash"\ndays = 3\n'
    )
    return made


def test_a_plan_is_fitted_to_a_sibling(scenes: list[Scene], tmp_path: Path) -> None:
    two = scenes[0].folder.parent
    site = open_site(two / "birch/keenharbor.toml")
    names = [c.name for c in site.components()]
    whole = fit_plan(two / "upgrade.toml", site, names)
    assert not whole.left_out and 'site = "birch"' in whole.text
    made = tmp_path / "with-comments.toml"
    made.write_text(PLAN.replace("[[step]]", "# why it is there\n[[step]]"))
    less = fit_plan(made, site, [*names, "member-cards-plus"])
    assert "# why it is there" in less.text and not less.left_out
    made.write_text(PLAN.replace('package = "member-cards"', 'package = "tool-shed"'))
    fitted = fit_plan(made, site, [*names, "tool-shed"])
    assert fitted.left_out == {"update-member-cards": "birch has no tool-shed"} and "tool-shed" not in fitted.text
    assert not fit_plan(made, site, names).left_out, "what the other had not got either the plan installs"
    only = PLAN.partition("[[step]]")[0] + '[[step]]\nname = "off"\nkind = "extension"\nextension = "x"\non = false\n'
    made.write_text(only)
    with pytest.raises(UsageError, match="nothing of the plan is for 'birch'"):
        fit_plan(made, site, names)


def test_a_plan_goes_from_one_site_to_the_next(scenes: list[Scene]) -> None:
    two = scenes[0].folder.parent
    with Host(scenes[0]), Host(scenes[1]):
        tried = harbor(two, "fleet", "trial", "--json").json
        assert [(t["site"], t["verdict"], t["told"]) for t in tried] == [
            ("ash", "good", "pass"), ("birch", "good", "pass")
        ]  # fmt: skip
        first = harbor(two, "fleet", "cutover", "--yes", "--json").json
        assert [(s["site"], s["stage"]) for s in first["sites"]] == [("ash", "done"), ("birch", "waiting")]
        waiting = harbor(two, "fleet", "cutover", "--yes").out
        assert "1 of 2 sites done" in waiting and "The next wave comes" in waiting
        assert "birch" not in str(read_rollout(two / "fleet-upgrade.json").of("done"))  # type: ignore[union-attr]
        (scenes[0].root / "media/x.php").write_text("<?php 1;")
        refused = harbor(two, "fleet", "cutover", "--yes", "--sooner", code=1).out
        assert "code in folders of uploads" in " ".join(refused.split()), "the first site is not as it arrived"
        (scenes[0].root / "media/x.php").unlink()
        done = harbor(two, "fleet", "cutover", "--yes", "--sooner").out
        assert "2 of 2 sites done" in done
        (two / "upgrade.toml").write_text((two / "upgrade.toml").read_text().replace("Sow well!", "Sow better!"))
        assert "add --anew" in " ".join(harbor(two, "fleet", "cutover", "--yes", code=2).err.split())
