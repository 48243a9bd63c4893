"""Snapshots as commands: what is taken comes back, what is damaged is told of, what is wrong changes nothing."""

from __future__ import annotations

import contextlib
import json
import os
import sqlite3
from pathlib import Path

import pytest

from conftest import harbor, plain_dump, plain_files, query, state_of
from keenharbor.base.progress import Silent
from keenharbor.demo.scene import Scene
from keenharbor.site.load import open_site
from keenharbor.snapshot import TakeOptions, take_snapshot
from keenharbor.snapshot.manifest import read_snapshot
from keenharbor.store import Store


def take(scene: Scene, *words: str) -> dict[str, object]:
    told = harbor(scene.folder, "snapshot", "take", "--json", *words).json
    assert isinstance(told, dict)
    return told


def test_what_is_taken_comes_back(scene: Scene) -> None:
    (scene.root / "media" / "link").symlink_to("seeds")
    (scene.root / "media" / "empty").mkdir()
    before = state_of(scene)
    taken = take(scene, "--label", "first", "--comment", "before anything")
    assert state_of(scene) == before
    assert taken["label"] == "first"
    assert taken["proven"] is None
    harbor(scene.folder, "snapshot", "restore", "first", "--to", "back")
    back = scene.folder / "back"
    assert plain_files(back / "files") == before[0]
    assert plain_dump(back / "database" / scene.database.name) == before[1]
    assert os.readlink(back / "files/media/link") == "seeds"
    assert (back / "files/media/empty").is_dir()


def test_the_cache_is_left_out_and_listed(scene: Scene) -> None:
    (scene.root / "var/cache/page.html").write_text("cached")
    (scene.root / ".git").mkdir()
    (scene.root / ".git/config").write_text("x")
    taken = take(scene)
    assert taken["left_out"] == [".git", "var/cache/page.html"]
    harbor(scene.folder, "snapshot", "restore", "newest", "--to", "back")
    assert (scene.folder / "back/files/var/cache").is_dir()
    assert not (scene.folder / "back/files/var/cache/page.html").exists()


def test_single_paths_come_back(scene: Scene) -> None:
    take(scene)
    ran = harbor(scene.folder, "snapshot", "restore", "newest", "core/VERSION", "media/seeds", "--to", "some", "--json")
    restored = plain_files(scene.folder / "some" / "files")
    assert set(restored) == {p for p in plain_files(scene.root) if p == "core/VERSION" or p.startswith("media/seeds/")}
    assert ran.json["database"] is None
    missing = harbor(scene.folder, "snapshot", "restore", "newest", "core/NOTHING", "--to", "other", code=2)
    assert "the snapshot has no path 'core/NOTHING'" in missing.err
    assert not (scene.folder / "other").exists()


def test_a_second_snapshot_costs_only_what_changed(scene: Scene) -> None:
    first = take(scene)
    (scene.root / "media/new.txt").write_text("something new")
    second = take(scene)
    assert isinstance(first["added_bytes"], int) and isinstance(second["added_bytes"], int)
    assert second["added_bytes"] < first["added_bytes"] / 20
    third = take(scene)
    assert third["added_bytes"] == 0


def test_areas_can_be_left_out(scene: Scene) -> None:
    taken = take(scene, "--leave-out", "media")
    assert taken["areas_left_out"] == ["media"]
    harbor(scene.folder, "snapshot", "restore", "newest", "--to", "back")
    assert not list((scene.folder / "back/files").glob("media/seeds/*.png"))
    assert "is not one of 'core'" in harbor(scene.folder, "snapshot", "take", "--leave-out", "nonsense", code=2).err


def test_labels_are_used_once_and_names_are_told(scene: Scene) -> None:
    take(scene, "--label", "one")
    assert "label 'one' already" in harbor(scene.folder, "snapshot", "take", "--label", "one", code=2).err
    assert "there is no snapshot 'two'" in harbor(scene.folder, "snapshot", "show", "two", code=2).err
    take(scene)
    ids = [s["id"] for s in harbor(scene.folder, "snapshot", "list", "--json").json]
    assert len(ids) == 2
    assert "several snapshots fit" in harbor(scene.folder, "snapshot", "show", ids[0][:6], code=2).err
    shown = harbor(scene.folder, "snapshot", "show", ids[1], "--paths", "--tables", "--json").json
    assert {"path": "core/VERSION", "kind": "file", "size": 4, "area": "core", "mode": "0644"} in shown["paths"]
    assert shown["table_rows"]["varieties"] == 24
    listed = harbor(scene.folder, "snapshot", "list")
    assert "! not proven" in listed.out
    text = harbor(scene.folder, "snapshot", "show", "one", "--tables", "--paths").out
    assert "it was never restored" in text
    assert "core/VERSION" in text


def test_there_is_nothing_yet(scene: Scene) -> None:
    ran = harbor(scene.folder, "snapshot", "list", code=2)
    assert "there is no store here yet" in ran.err
    assert "keenharbor snapshot take" in ran.err


def test_nothing_is_written_over(scene: Scene) -> None:
    take(scene)
    (scene.folder / "full").mkdir()
    (scene.folder / "full/mine.txt").write_text("mine")
    assert "not empty" in harbor(scene.folder, "snapshot", "restore", "newest", "--to", "full", code=2).err
    assert [p.name for p in (scene.folder / "full").iterdir()] == ["mine.txt"]
    inside = harbor(scene.folder, "snapshot", "restore", "newest", "--to", "site/back", code=2)
    assert "inside the live site" in inside.err
    assert not (scene.root / "back").exists()


def test_verify_names_what_is_hurt(scene: Scene) -> None:
    taken = take(scene)
    assert harbor(scene.folder, "snapshot", "verify", "--json").json["good"] is True
    store = scene.folder / "harbor/store"
    (pack,) = store.glob("packs/*/*.pack")
    index = json.loads((store / "index" / f"{pack.name}.json").read_text())
    tree = read_snapshot(Store(store), taken["id"]).entries
    offset = index[tree["core/app.py"].objects[0]][0]
    raw = bytearray(pack.read_bytes())
    raw[offset + 10] ^= 4
    pack.write_bytes(raw)
    told = harbor(scene.folder, "snapshot", "verify", "--json", code=1).json
    elsewhere = {identity for identity, place in index.items() if place[0] != offset}
    together = [p for p, e in tree.items() if not elsewhere.issuperset(e.objects)]  # they lie in one frame
    hurt = told["hurt"][taken["id"]]
    assert hurt and set(hurt) <= set(together)
    lost = hurt[0]
    sound = next(p for p, e in tree.items() if e.objects and p not in hurt)
    text = harbor(scene.folder, "snapshot", "verify", code=1).out
    assert "✗ DAMAGED" in text
    assert lost in text
    broken = harbor(scene.folder, "snapshot", "restore", "newest", "--to", "back", code=1)
    assert "is damaged" in broken.err
    assert harbor(scene.folder, "snapshot", "restore", "newest", sound, "--to", "fine").code == 0


def test_what_loses_nothing_is_told_as_such(scene: Scene) -> None:
    take(scene)
    (scene.folder / "harbor/store/READ ME.txt").write_text("another text")
    told = harbor(scene.folder, "snapshot", "verify", code=1).out
    assert "Nothing that a snapshot needs is lost." in told and "--mend-from" not in told
    assert "✓ GOOD" in harbor(scene.folder, "snapshot", "verify").out


def test_a_damaged_manifest_hides_no_other_snapshot(scene: Scene) -> None:
    first, second = take(scene), take(scene)
    manifest = scene.folder / "harbor/store/snapshots" / f"{first['id']}.json"
    manifest.write_bytes(manifest.read_bytes().replace(b'"by hand"', b'"by hanf"'))
    assert [s["id"] for s in harbor(scene.folder, "snapshot", "list", "--json").json] == [second["id"]]
    told = harbor(scene.folder, "snapshot", "verify", "--json", code=1).json
    assert list(told["hurt"]) == [first["id"]]


def test_the_store_can_be_read_by_hand(scene: Scene) -> None:
    """As its READ ME says: manifest, index, pack, a Zstandard frame."""
    import zstandard

    taken = take(scene)
    store = scene.folder / "harbor/store"
    assert "KHO3" in (store / "READ ME.txt").read_text()
    manifest = json.loads((store / "snapshots" / f"{taken['id']}.json").read_text())["document"]
    paths: list[str] = []
    for part, count, first in manifest["tree"]["parts"]:
        named = json.loads(Store(store).read(part))
        assert (len(named), named[0][0]) == (count, first)
        paths += [e[0] for e in named]
    assert {"core/app.py", "media"} < set(paths)
    (chunk, count, _, size) = next(t for t in manifest["database"]["tables"] if t["name"] == "varieties")["chunks"][0]
    for index in store.glob("index/*.json"):
        name = index.name.removesuffix(".json")
        offset, stored, plain, codec, *within = json.loads(index.read_text())[chunk]
        data = (store / "packs" / name[:2] / name).read_bytes()[offset : offset + stored]
        rows = zstandard.ZstdDecompressor().decompress(data) if codec else data
        assert (codec == 3) == bool(within)
        if within:
            start, whole = within
            assert len(rows) == whole
            rows = rows[start : start + plain]
        assert (len(rows.splitlines()), len(rows)) == (count, size)
        assert json.loads(rows.splitlines()[0])[1] == "painted-lady-runner-bean"


def test_a_database_within_the_web_root_is_not_taken_as_a_file(scene: Scene) -> None:
    inside = scene.root / "var" / "live.db"
    scene.database.rename(inside)
    settings = scene.root / "settings.ini"
    settings.write_text(settings.read_text().replace(str(scene.database), str(inside)))
    with contextlib.closing(sqlite3.connect(inside)) as connection:
        connection.execute("PRAGMA journal_mode = wal")
        connection.execute("UPDATE pages SET title = 'From the log' WHERE slug = 'about'")
        connection.commit()
        shown = harbor(scene.folder, "snapshot", "take", "--json").json
        assert shown["left_out"] == []
    harbor(scene.folder, "snapshot", "restore", "newest", "--to", "back")
    assert not (scene.folder / "back/files/var/live.db").exists()
    assert query(scene.folder / "back/database/live.db", "SELECT title FROM pages WHERE slug = 'about'") == [
        ("From the log",)
    ]


def test_a_full_disk_leaves_the_old_snapshots_whole(scene: Scene, tmp_path: Path) -> None:
    if os.geteuid() != 0:
        pytest.skip("mounting a small file system needs root")
    import subprocess

    small = tmp_path / "small"
    small.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=700k", "tmpfs", str(small)], check=False).returncode != 0:
        pytest.skip("no tmpfs can be mounted here")
    try:
        text = scene.site_file.read_text()
        scene.site_file.write_text(text.replace('path = "harbor/store"', f'path = "{small}/store"'))
        first = take(scene)
        (scene.root / "media/big.bin").write_bytes(os.urandom(900_000))
        ran = harbor(scene.folder, "snapshot", "take", code=3)
        assert "too little space for a snapshot" in ran.err
        assert "free some space" in ran.err
        # When the look before was wrong, the disk is full half-way.
        site = open_site(scene.site_file)
        with pytest.raises(OSError, match="No space left"):
            take_snapshot(site, Store(site.store_folder), TakeOptions(), Silent(), None)
        (scene.root / "media/big.bin").unlink()
        assert harbor(scene.folder, "snapshot", "verify", "--json").json["good"] is True
        assert [s["id"] for s in harbor(scene.folder, "snapshot", "list", "--json").json] == [first["id"]]
        harbor(scene.folder, "snapshot", "take")
    finally:
        subprocess.run(["umount", "-l", str(small)], check=True)


def test_credentials_are_nowhere_in_manifests_and_logs(scene: Scene) -> None:
    taken = take(scene)
    manifest = (scene.folder / "harbor/store/snapshots" / f"{taken['id']}.json").read_text()
    assert "pips-and-stones" not in manifest
    assert "pips-and-stones" not in (scene.folder / "harbor/log.jsonl").read_text()
