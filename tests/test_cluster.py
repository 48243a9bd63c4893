"""Many sites on the workers of an engine: each near its group, and what becomes of them when a worker dies."""

from __future__ import annotations

import sys
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from subprocess import DEVNULL, Popen

import cloudpickle
import pytest

from conftest import environment, harbor
from keenharbor.base.errors import UsageError
from keenharbor.clone.server import free_port
from keenharbor.fleet.cluster import Cluster
from keenharbor.fleet.sites import FleetFile, Member, read_fleet
from keenharbor.fleet.working import Outcome, Watcher
from keenharbor.host.programs import Ran

cloudpickle.register_pickle_by_value(sys.modules[__name__])


@contextmanager
def process(*words: str) -> Iterator[Popen[bytes]]:
    with Popen([sys.executable, "-m", *words], stdout=DEVNULL, stderr=DEVNULL, env=environment()) as made:
        try:
            yield made
        finally:
            made.kill()


@contextmanager
def worker(address: str, name: str) -> Iterator[Popen[bytes]]:
    with process(
        "distributed.cli.dask_worker", address, "--name", name, "--nthreads", "2", "--no-nanny", "--no-dashboard"
    ) as made:
        yield made


@pytest.fixture(scope="module")
def engine() -> Iterator[str]:
    port = free_port()
    with process(
        "distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--port", str(port), "--no-dashboard"
    ):  # fmt: skip
        address = f"tcp://127.0.0.1:{port}"
        with worker(address, "north"), worker(address, "south"):
            until(lambda: workers_of(address) == {"north", "south"}, 40)
            yield address


def until(there: Callable[[], bool], seconds: float) -> None:
    end = time.monotonic() + seconds
    while not there():
        assert time.monotonic() < end, "it did not come about"
        time.sleep(0.1)


def workers_of(address: str) -> set[str]:
    try:
        with Cluster(address) as cluster:
            return cluster._names()
    except UsageError:
        return set()


def simulated(seconds: float) -> Callable[[Sequence[str], float], Ran]:
    def run(command: Sequence[str], limit: float) -> Ran:
        time.sleep(seconds)
        return Ran("", 0, '{"done": {}}', seconds)

    return run


def made_sites(folder: Path, names: list[str]) -> None:
    for name in names:
        (folder / name).mkdir(parents=True)
        text = f'format = 1\n[site]\nname = "{name}"\nroot = "site"\naddress = "http://{name}.test"\n'
        (folder / name / "keenharbor.toml").write_text(text)


def fleet_of(folder: Path, text: str) -> FleetFile:
    (folder / "fleet.toml").write_text(f"format = 1\n{text}")
    return read_fleet(folder / "fleet.toml")


def test_a_thousand_sites(engine: str, tmp_path: Path) -> None:
    sites = [Member(f"site-{n:04}", tmp_path / f"{n}/keenharbor.toml", ("all",)) for n in range(1000)]
    with Cluster(engine) as cluster:
        outcomes = cluster.for_all("tend", {("",): sites}, simulated(0.002), Watcher(), 60)
    assert sorted(o.site for o in outcomes) == [s.name for s in sites], "each once"
    assert {o.verdict for o in outcomes} == {"good"} and {o.told for o in outcomes} == {"nothing is due"}


def test_patterns_of_a_group_are_resolved_where_its_workers_are(engine: str, tmp_path: Path) -> None:
    made_sites(tmp_path, ["ash", "birch", "cedar"])
    group = '[[group]]\nname = "{}"\nsites = ["{}/keenharbor.toml"]\n{}'
    fleet = fleet_of(tmp_path, group.format("far", "[ab]*", 'workers = ["south"]\n') + group.format("here", "c*", ""))
    with Cluster(engine) as cluster:
        found = cluster.members(fleet, tmp_path, ())
    assert {near: [m.name for m in some] for near, some in found.items()} == {
        ("south",): ["ash", "birch"], ("",): ["cedar"]
    }  # fmt: skip
    told = harbor(tmp_path, "fleet", "survey", "--cluster", engine, "--json", code=3).json
    assert sorted(t["site"] for t in told) == ["ash", "birch", "cedar"] and {t["verdict"] for t in told} == {"failed"}
    nobody = fleet_of(tmp_path, group.format("far", "*", 'workers = ["west"]\n'))
    with Cluster(engine) as cluster, pytest.raises(UsageError, match="none of the workers of the group 'far'"):
        cluster.members(nobody, tmp_path, ())
    refused = harbor(tmp_path, "fleet", "survey", "--cluster", f"tcp://127.0.0.1:{free_port()}", code=2)
    assert "no engine answers at tcp://127.0.0.1" in refused.err


class KillsWhen(Watcher):
    """Kills a worker when some sites are through."""

    def __init__(self, victim: Popen[bytes], after: int) -> None:
        self.victim, self.after = victim, after

    def ended(self, outcome: Outcome, done: int, of: int) -> None:
        if done == self.after:
            self.victim.kill()


def test_a_worker_that_dies_in_the_middle_harms_no_site_that_another_is_near_to(engine: str, tmp_path: Path) -> None:
    sites = [Member(f"site-{n:02}", tmp_path / f"{n}/keenharbor.toml", ("all",)) for n in range(40)]
    with worker(engine, "east") as victim:
        until(lambda: "east" in workers_of(engine), 40)
        near = {("east", "south"): sites[:30], ("east",): sites[30:]}
        with Cluster(engine, given_up_after=3.0) as cluster:
            outcomes = cluster.for_all("tend", near, simulated(0.1), KillsWhen(victim, 8), 60)
    assert len({o.site for o in outcomes}) == 40, "each once"
    lost = [o for o in outcomes if o.verdict != "good"]
    assert {o.site for o in lost} <= {s.name for s in sites[30:]} and lost
    assert {o.told for o in lost} == {"none of its workers answers: east"}
    assert threading.active_count() < 50
