"""Versions that go together, held against trying all of them."""

from __future__ import annotations

import itertools
import json
from collections.abc import Mapping, Sequence
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import harbor
from keenharbor.demo.scene import Scene
from keenharbor.judge.solving import Offer, Solved, Unsolved, Wish, least_change, route, solve
from keenharbor.site.feed import Feed, FeedModel, Release, allows

NAMES = ("core", "runtime", "alpha", "beta", "gamma")
VERSIONS = ("1", "2", "3")


class Made:
    def __init__(self, offers: Mapping[str, Sequence[Offer]]) -> None:
        self._offers = offers

    def offers(self, name: str) -> Sequence[Offer]:
        return self._offers.get(name, ())


specs = st.sampled_from(["", ">=2", "<2", "==1", "==3", "<3", "!=2"])


@st.composite
def universes(draw: st.DrawFn) -> dict[str, list[Offer]]:
    made = {}
    for at, name in enumerate(NAMES):
        versions = draw(st.lists(st.sampled_from(VERSIONS), unique=True, min_size=1, max_size=3))
        # An earlier name is never asked to need a later one twice over: rings are allowed all the same.
        others = [n for n in NAMES if n != name][: 2 + at]
        made[name] = [
            Offer(name, v, draw(st.dictionaries(st.sampled_from(others), specs, max_size=2)))
            for v in sorted(versions, reverse=True)
        ]
    return made


def fits(chosen: Mapping[str, Offer], wishes: Sequence[Wish]) -> bool:
    asked = [(w.name, w.spec) for w in wishes] + [(n, s) for o in chosen.values() for n, s in o.requires.items()]
    return all(n in chosen and allows(s, chosen[n].version) for n, s in asked)


def by_trying(universe: Mapping[str, Sequence[Offer]], wishes: Sequence[Wish]) -> bool:
    """Whether any choice of versions (of all names, or of fewer) meets the wishes."""
    choices = [[None, *universe[n]] for n in NAMES]
    for picked in itertools.product(*choices):
        chosen = {o.name: o for o in picked if o is not None}
        if fits(chosen, wishes):
            return True
    return False


wishes_made = st.lists(st.tuples(st.sampled_from(NAMES), specs), min_size=1, max_size=4, unique_by=lambda w: w[0])


@given(universes(), wishes_made)
@settings(max_examples=150, deadline=None)
def test_a_set_is_found_just_when_there_is_one(universe: dict[str, list[Offer]], asked: list[tuple[str, str]]) -> None:
    wishes = [Wish(n, s) for n, s in asked]
    found = solve(Made(universe), wishes)
    if isinstance(found, Solved):
        chosen = {n: next(o for o in universe[n] if o.version == v) for n, v in found.versions.items()}
        assert fits(chosen, wishes)
    else:
        assert not by_trying(universe, wishes)
        assert found.reasons


@given(universes(), wishes_made)
@settings(max_examples=60, deadline=None)
def test_the_change_that_is_told_does_it_and_a_smaller_one_does_not(
    universe: dict[str, list[Offer]], asked: list[tuple[str, str]]
) -> None:
    wishes = [Wish(n, s) for n, s in asked]
    if isinstance(solve(Made(universe), wishes), Solved):
        return
    droppable = [n for n, _ in asked if n not in ("core", "runtime")]
    others = {n: [o.version for o in universe[n]] for n, _ in asked if n in ("core", "runtime")}
    change = least_change(Made(universe), wishes, others, droppable)
    singles = [(n, v) for n, versions in others.items() for v in versions] + [(n, None) for n in droppable]

    def after(moves: Sequence[tuple[str, str | None]]) -> bool:
        changed = dict(moves)
        kept = [
            Wish(w.name, f"=={changed[w.name]}") if changed.get(w.name) else w
            for w in wishes if w.name not in changed or changed[w.name] is not None
        ]  # fmt: skip
        return by_trying(universe, kept)

    if change is None:
        assert not any(after([m]) for m in singles)
        return
    moves = [*change.instead.items(), *((n, None) for n in change.without)]
    assert after(moves)
    if len(moves) == 2:
        assert not any(after([m]) for m in singles)


def test_the_reason_names_who_wants_what() -> None:
    offers = {
        "core": [Offer("core", "4", {"frame": ">=5.2"}), Offer("core", "3")],
        "frame": [Offer("frame", "5.1")],
        "gallery": [Offer("gallery", "1", {"core": "<4"})],
    }
    found = solve(Made(offers), [Wish("core", "==4"), Wish("frame", "==5.1")])
    assert isinstance(found, Unsolved)
    assert "core 4 wants frame >=5.2" in found.reasons
    found = solve(Made(offers), [Wish("core", "==4"), Wish("gallery", "")])
    assert isinstance(found, Unsolved)
    assert any("gallery 1 wants core <4" in r for r in found.reasons)


def feed_of(releases: list[tuple[str, str]]) -> Feed:
    made = [
        Release(name="core", kind="core", version=v, archive="x", sha256="0" * 64, upgrades_from=f) for v, f in releases
    ]
    return Feed(Path(), FeedModel(format=1, releases=made))


def test_the_route_has_the_fewest_stops() -> None:
    feed = feed_of(
        [("3.0", ""), ("3.6", ">=3.0"), ("4.0", ">=3.5"), ("4.2", ">=3.6"), ("5.0", ">=4.1"), ("5.1", "==6.0")]
    )
    assert route(feed, "core", "3.0", "5.0") == ["3.6", "4.2", "5.0"]
    assert route(feed, "core", "3.6", "4.2") == ["4.2"]
    assert route(feed, "core", "3.0", "5.1") is None


def change_feed(scene: Scene, change: object) -> None:
    assert callable(change)
    file = scene.folder / "feed/feed.json"
    told = json.loads(file.read_text())
    for release in told["releases"]:
        change(release)
    file.write_text(json.dumps(told))


def test_ready_finds_the_newest_core_and_tells_of_stops_and_conflicts(scene: Scene) -> None:
    newest = harbor(scene.folder, "ready", "--latest", "--json", code=None).json
    assert newest["target"]["core"] == "3.4"
    assert any(
        "gallery-wall 2.1 wants tansy-core" in c["reason"] for c in newest["checks"] if c["subject"] == "newer core"
    )
    assert "one of them is wanted" in harbor(scene.folder, "ready", "--latest", "--core", "4.0", code=2).err

    def through_a_stop(release: dict[str, object]) -> None:
        if release["name"] == "tansy-core" and release["version"] == "4.0":
            release["upgrades_from"] = ">=3.6"

    change_feed(scene, through_a_stop)
    blocked = harbor(scene.folder, "ready", "--core", "4.0", "--runtime", "3", "--json", code=1).json
    route_check = next(c for c in blocked["checks"] if c["subject"] == "route")
    assert route_check["verdict"] == "blocked"
    assert "no release of Tansy up to 4.0 may be put over 3.4" in route_check["reason"]


def test_extensions_that_cannot_go_together_are_told_with_the_least_change(scene: Scene) -> None:
    def wants_another(release: dict[str, object]) -> None:
        if release["name"] == "loan-desk":
            release["requires"] = {**dict(release["requires"]), "packages": {"member-cards": "<1"}}  # type: ignore[call-overload]

    change_feed(scene, wants_another)
    told = harbor(scene.folder, "ready", "--core", "3.4", "--runtime", "2", "--json", code=1).json
    check = next(c for c in told["checks"] if c["subject"] == "versions together")
    assert check["verdict"] == "blocked"
    assert "wants member-cards <1" in check["reason"]
    assert check["remedy"].startswith("the least change that would do: without ")
