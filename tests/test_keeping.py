"""What is kept and what it takes: rules, space, differences, mending."""

from __future__ import annotations

import json
import random
import shutil
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import cast

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import harbor, manifest_of, plain_files, query, state_of
from keenharbor.base.errors import KeenHarborError
from keenharbor.base.progress import Silent
from keenharbor.demo.scene import Scene
from keenharbor.site.load import open_site
from keenharbor.snapshot import Proof, Snapshot, take_snapshot, verify_store
from keenharbor.snapshot.keeping import ThinRules, firm_reasons, reasons_to_stay
from keenharbor.snapshot.manifest import read_snapshot
from keenharbor.snapshot.take import TakeOptions
from keenharbor.store import Store

AT = datetime(2026, 11, 25, 12, tzinfo=UTC)


def made(hours: float, *, proven: bool = False, kept: bool = False) -> Snapshot:
    at = AT - timedelta(hours=hours)
    identity = f"{at:%Y%m%d-%H%M%S}-{int(hours * 3600) % 65536:04x}"
    manifest = manifest_of((), identity=identity, taken_at=at.isoformat())
    proofs = (Proof(at, "a drill", True, 1.0),) if proven else ()
    return Snapshot(cast("Store", None), manifest, proofs, "why" if kept else None)


hours = st.lists(
    st.tuples(st.integers(0, 24 * 400), st.booleans(), st.booleans()), min_size=1, max_size=30, unique_by=lambda h: h[0]
)
rules = st.builds(
    ThinRules, newest=st.integers(0, 5), daily=st.integers(0, 8), weekly=st.integers(0, 5), monthly=st.integers(0, 5),
    younger_than=st.none() | st.integers(1, 200).map(lambda h: timedelta(hours=h)),
    largest_total=st.none() | st.just(1),
)  # fmt: skip


@given(hours, rules, st.integers(0, 29))
@settings(deadline=None)
def test_what_must_stay_stays_whatever_the_rules_say(
    listed: list[tuple[int, bool, bool]], rule: ThinRules, pick: int
) -> None:
    snapshots = [made(h, proven=p, kept=k) for h, p, k in listed]
    needed = {snapshots[pick % len(snapshots)].id: "needed by trial x"}
    why = reasons_to_stay(snapshots, rule, firm_reasons(snapshots, needed), AT)
    assert all(s.id in why for s in snapshots if s.kept is not None)
    assert needed.keys() <= why.keys()
    proven = sorted((s for s in snapshots if s.proven), key=lambda s: s.taken_at)
    if proven:
        assert proven[-1].id in why
    newest = sorted(snapshots, key=lambda s: s.taken_at, reverse=True)
    assert all(s.id in why for s in newest[: rule.newest])
    if rule.younger_than is not None:
        assert all(s.id in why for s in snapshots if s.taken_at >= AT - rule.younger_than)
    if not rule.any_of_age and rule.largest_total is None:
        assert len(why) == len(snapshots), "without a rule nothing goes"
    days = sorted({s.taken_at.astimezone().date() for s in snapshots}, reverse=True)[: rule.daily]
    for day in days:
        of_day = [s for s in newest if s.taken_at.astimezone().date() == day]
        assert of_day[0].id in why, "the newest of its day goes"


def test_so_many_a_day_and_no_more() -> None:
    snapshots = [made(h) for h in range(0, 24 * 10, 6)]
    why = reasons_to_stay(snapshots, ThinRules(daily=3), {}, AT)
    assert len(why) == 3
    assert set(why.values()) == {"the newest of its day"}


def take(scene: Scene, *words: str) -> str:
    return str(harbor(scene.folder, "snapshot", "take", "--json", *words).json["id"])


def test_thinning_frees_space_and_hurts_nothing(scene: Scene) -> None:
    pictures = []
    for number in range(4):
        picture = scene.root / "media" / f"only-{number}.bin"
        picture.write_bytes(random.Random(number).randbytes(300_000))
        pictures.append(picture)
        query(scene.database, f"UPDATE pages SET title = 'Title {number}' WHERE slug = 'about'")
        take(scene, "--label", f"s{number}")
        picture.unlink()
    harbor(scene.folder, "snapshot", "keep", "s0", "--because", "the first")
    preview = harbor(scene.folder, "snapshot", "thin", "--newest", "1", "--preview", "--json").json
    assert [s["label"] for s in preview["go"]] == ["s2", "s1"]
    assert {s["why"] for s in preview["stay"]} == {"kept: the first", "one of the newest 1"}
    assert preview["frees_bytes"] > 600_000
    assert len(harbor(scene.folder, "snapshot", "list", "--json").json) == 4, "a preview changes nothing"
    refused = harbor(scene.folder, "snapshot", "thin", "--newest", "1", code=2)
    assert "add --yes" in refused.err
    done = harbor(scene.folder, "snapshot", "thin", "--newest", "1", "--yes", "--json").json
    assert abs(done["freed_bytes"] - preview["frees_bytes"]) < 20_000
    assert [s["label"] for s in harbor(scene.folder, "snapshot", "list", "--json").json] == ["s3", "s0"]
    assert harbor(scene.folder, "snapshot", "verify", "--json").json["good"]
    for label, number in (("s0", 0), ("s3", 3)):
        harbor(scene.folder, "snapshot", "restore", label, "--to", f"back-{label}")
        assert (scene.folder / f"back-{label}/files/media/only-{number}.bin").read_bytes() == random.Random(
            number
        ).randbytes(300_000)
    harbor(scene.folder, "snapshot", "unkeep", "s0")
    harbor(scene.folder, "snapshot", "thin", "--newest", "1", "--yes")
    assert len(harbor(scene.folder, "snapshot", "list", "--json").json) == 1
    assert harbor(scene.folder, "snapshot", "usage", "--json").json["leftover_bytes"] < 2000


def test_thinning_by_size_lets_the_oldest_go(scene: Scene) -> None:
    for number in range(3):
        (scene.root / "media/big.bin").write_bytes(random.Random(number).randbytes(200_000))
        take(scene, "--label", f"s{number}")
    plan = harbor(scene.folder, "snapshot", "thin", "--total", "520K", "--preview", "--json").json
    assert [s["label"] for s in plan["go"]] == ["s0"]
    plan = harbor(scene.folder, "snapshot", "thin", "--total", "1K", "--preview", "--json").json
    assert [s["label"] for s in plan["go"]] == ["s1", "s0"]
    assert plan["still_too_large_by"] > 100_000
    assert "no size" in harbor(scene.folder, "snapshot", "thin", "--total", "much", code=2).err


def test_usage_tells_what_fills_the_store(scene: Scene) -> None:
    (scene.root / "media/big.bin").write_bytes(random.Random(1).randbytes(500_000))
    take(scene)
    told = harbor(scene.folder, "snapshot", "usage", "--json").json
    packs = sum(f.stat().st_size for f in (scene.folder / "harbor/store/packs").rglob("*.pack"))
    assert told["pack_bytes"] == packs
    assert next(iter(told["by_content"])) == "files: media"
    assert abs(sum(told["by_content"].values()) - packs) < 100
    shown = harbor(scene.folder, "snapshot", "usage").out
    assert "files: media" in shown and max(map(len, shown.splitlines())) <= 80


def test_two_snapshots_are_compared(scene: Scene) -> None:
    take(scene, "--label", "one")
    assert "hold the same" in harbor(scene.folder, "snapshot", "diff", "one", "one").out
    (scene.root / "media/new.txt").write_text("new")
    (scene.root / "core/VERSION").write_text("9\n")
    query(scene.database, "UPDATE pages SET title = 'Other' WHERE slug = 'about'")
    query(scene.database, "CREATE TABLE fresh (id INTEGER PRIMARY KEY)")
    query(scene.database, "DELETE FROM notes WHERE id < 3")
    take(scene, "--label", "two")
    told = harbor(scene.folder, "snapshot", "diff", "one", "two", "--rows", "pages", "--json", code=1).json
    assert told["files"]["added"] == ["media/new.txt"]
    assert told["files"]["changed"] == ["core/VERSION"]
    assert told["definitions"]["added"] == ["table fresh"]
    assert told["tables"]["notes"] == {"added": 0, "removed": 2, "changed": 0}
    (change,) = told["rows"]["pages"]["changed"]
    assert (change["before"]["title"], change["after"]["title"]) == ("About the library", "Other")
    shown = harbor(scene.folder, "snapshot", "diff", "one", "two", "--rows", "pages", code=1).out
    assert "title: About the library → Other" in " ".join(shown.split())


def test_a_snapshot_can_be_browsed(scene: Scene) -> None:
    take(scene, "--label", "one")
    paths = harbor(scene.folder, "snapshot", "show", "one", "--paths", "media/gallery", "--json").json["paths"]
    assert {p["path"] for p in paths} >= {"media/gallery", "media/gallery/wall-1.png"}
    assert all(p["path"].startswith("media/gallery") for p in paths)
    rows = harbor(scene.folder, "snapshot", "show", "one", "--rows", "varieties", "--find", "borage", "--json").json[
        "rows"
    ]
    assert [r["slug"] for r in rows] == ["tall-blue-borage"]
    content = harbor(scene.folder, "snapshot", "show", "one", "--file", "core/VERSION").out
    assert content == (scene.root / "core/VERSION").read_text()
    assert "no table 'x'" in harbor(scene.folder, "snapshot", "show", "one", "--rows", "x", code=2).err
    assert "no path 'x'" in harbor(scene.folder, "snapshot", "show", "one", "--paths", "x", code=2).err
    assert "no file 'media'" in harbor(scene.folder, "snapshot", "show", "one", "--file", "media", code=2).err


def test_what_is_left_out_is_listed(scene: Scene) -> None:
    (scene.root / "node_modules/x").mkdir(parents=True)
    (scene.root / "media/huge.bin").write_bytes(bytes(3_000_000))
    (scene.root / "media/private").mkdir()
    words = (
        "--largest-file",
        "2M",
        "--leave-out-path",
        "media/private",
        "--empty-table",
        "sess*",
        "--empty-table",
        "loans",
    )
    look = harbor(scene.folder, "snapshot", "take", "--look", *words, "--json").json
    assert not (scene.folder / "harbor/store").exists(), "a look makes nothing"
    taken = harbor(scene.folder, "snapshot", "take", *words, "--json").json
    for told in (look, taken):
        assert told["too_large"] == ["media/huge.bin"]
        assert set(told["left_out"]) == {"node_modules", "media/private"}
        assert told["left_empty"] == ["loans", "sessions"]
    assert look["files"] == taken["files"]
    count = query(scene.database, "SELECT count(*) FROM loans")
    query(scene.database, "UPDATE pages SET title = 'x'")
    harbor(scene.folder, "snapshot", "restore", "newest", "--live", "--no-files", "--yes", code=None)
    assert query(scene.database, "SELECT count(*) FROM loans") == count, "rows that were left out must stay on live"
    assert (scene.root / "media/huge.bin").exists()


def tiny_store(folder: Path, scene: Scene) -> Store:
    """A store with two snapshots of a site, the second of which has objects stored near those of the first."""
    site = open_site(scene.site_file)
    store = Store.create(folder)
    few = TakeOptions(leave_out_areas=("media", "core", "themes"))
    first = take_snapshot(site, store, few, Silent(), None)
    query(scene.database, "UPDATE loans SET returned_on = '2026-01-01' WHERE id % 50 = 0")
    take_snapshot(site, store, few, Silent(), first)
    return store


def contents(store: Store) -> dict[str, dict[str, str | bytes]]:
    """Every object of every snapshot, or the error instead."""
    found: dict[str, dict[str, str | bytes]] = {}
    for name in store.document_names("snapshots"):
        held: dict[str, str | bytes] = {}
        try:
            snapshot = read_snapshot(store, name)
            for place, identity in snapshot.objects():
                try:
                    held[f"{place} {identity}"] = store.read(identity)
                except KeenHarborError:
                    held[f"{place} {identity}"] = "refused"
        except KeenHarborError:
            held["manifest"] = "refused"
        found[name] = held
    return found


def test_a_thousand_flipped_bits_are_all_found_and_none_is_restored_as_good(
    shared_scene: Scene, tmp_path: Path
) -> None:
    tiny_store(tmp_path / "store", shared_scene)
    good = contents(Store(tmp_path / "store"))
    files = [f for f in (tmp_path / "store").rglob("*") if f.is_file() and f.suffix != ".lock" and f.stat().st_size]
    pristine = {f: f.read_bytes() for f in files}
    chance = random.Random(20)
    weights = [len(d) for d in pristine.values()]
    found = 0
    for _ in range(1000):
        (file,) = chance.choices(files, weights)
        data = bytearray(pristine[file])
        bit = chance.randrange(8 * len(data))
        data[bit // 8] ^= 1 << (bit % 8)
        file.write_bytes(data)
        try:
            store = Store(tmp_path / "store")
        except KeenHarborError:
            found += 1
        else:
            found += not verify_store(store, Silent()).good
            for name, held in contents(Store(tmp_path / "store")).items():
                for what, content in held.items():
                    assert content == "refused" or content == good[name].get(what), "damaged content was given as good"
        for each in files:
            if each.read_bytes() != pristine[each]:
                each.write_bytes(pristine[each])
    assert found == 1000


def test_what_is_damaged_is_mended_from_another_store(scene: Scene, tmp_path: Path) -> None:
    take(scene)
    query(scene.database, "UPDATE loans SET returned_on = '2026-01-01' WHERE id % 50 = 0")
    take(scene)
    store = scene.folder / "harbor/store"
    shutil.copytree(store, tmp_path / "other")
    for file in [*store.glob("packs/*/*.pack"), *sorted(store.glob("snapshots/*.json"))[:1]]:
        data = bytearray(file.read_bytes())
        for at in range(200, len(data), 4001):
            data[at] ^= 16
        file.write_bytes(data)
    hurt = harbor(scene.folder, "snapshot", "verify", "--json", code=1).json
    assert hurt["damages"] and hurt["hurt"]
    mended = harbor(scene.folder, "snapshot", "verify", "--mend-from", tmp_path / "other", "--json").json
    assert mended["good"] and mended["mended"] > 0
    harbor(scene.folder, "snapshot", "restore", "newest", "--to", "back")
    assert plain_files(scene.folder / "back/files") == state_of(scene)[0]


def test_a_trial_keeps_what_its_checkpoints_lean_on(scene: Scene, tmp_path: Path) -> None:
    take(scene, "--label", "base")
    base = Store(scene.folder / "harbor/store")
    leaning = Store.create(tmp_path / "checkpoints", behind=[base])
    base.add_dependent(leaning.folder)
    site = open_site(scene.site_file)
    taken = take_snapshot(site, leaning, TakeOptions(reason="checkpoint"), Silent(), None)
    (scene.root / "media/x").write_text("x")
    take(scene, "--label", "later")
    harbor(scene.folder, "snapshot", "thin", "--newest", "1", "--yes")
    again = Store(tmp_path / "checkpoints", behind=[Store(scene.folder / "harbor/store")])
    for _, identity in read_snapshot(again, taken.id).objects():
        again.read(identity)
    shutil.rmtree(tmp_path / "checkpoints")
    assert Store(scene.folder / "harbor/store").dependents() == []


@pytest.mark.parametrize(
    "words", [("keep", "nothing"), ("unkeep", "nothing"), ("diff", "nothing", "newest"), ("drill", "nothing")]
)
def test_names_that_do_not_exist_are_told(shared_scene: Scene, words: tuple[str, ...]) -> None:
    harbor(shared_scene.folder, "snapshot", "take")
    ran = harbor(shared_scene.folder, "snapshot", *words, "--json", code=2)
    assert "there is no snapshot 'nothing'" in json.loads(ran.out)["error"]["what"]


def test_what_a_clone_was_made_from_is_not_thinned(served: Scene) -> None:
    for label in ("old", "new"):
        (served.root / "media/a.txt").write_text(label)
        harbor(served.folder, "snapshot", "take", "--label", label)
    made = harbor(served.folder, "clone", "make", "old", "--json").json
    told = harbor(served.folder, "snapshot", "thin", "--newest", "1", "--yes").out
    assert f"needed by clone {made['id']}" in " ".join(told.split())
    assert {s["label"] for s in harbor(served.folder, "snapshot", "list", "--json").json} == {"old", "new"}
    harbor(served.folder, "clone", "close", made["id"])
    harbor(served.folder, "snapshot", "thin", "--newest", "1", "--yes")
    assert {s["label"] for s in harbor(served.folder, "snapshot", "list", "--json").json} == {"new"}


def test_a_manifest_that_is_gone_is_named_and_taken_from_another_store(scene: Scene, tmp_path: Path) -> None:
    take(scene, "--label", "one")
    gone = take(scene, "--label", "two")
    store = scene.folder / "harbor/store"
    shutil.copytree(store, tmp_path / "other")
    (store / "snapshots" / f"{gone}.json").unlink()
    told = harbor(scene.folder, "snapshot", "verify", code=1)
    assert f"snapshot {gone} is hurt" in told.out and "Nothing that a snapshot needs is lost" not in told.out
    # Another one of that name is not it.
    other = tmp_path / "other/snapshots" / f"{gone}.json"
    kept = other.read_bytes()
    other.write_bytes(kept.replace(b'"two"', b'"too"'))
    harbor(scene.folder, "snapshot", "verify", "--mend-from", tmp_path / "other", code=1)
    assert not (store / "snapshots" / f"{gone}.json").exists()
    other.write_bytes(kept)
    mended = harbor(scene.folder, "snapshot", "verify", "--mend-from", tmp_path / "other", "--json").json
    assert mended["good"] and mended["mended"] == 1
    assert [s["label"] for s in harbor(scene.folder, "snapshot", "list", "--json").json] == ["two", "one"]
