"""The long lists of manifests: as objects that snapshots share, as they were before, and when they are damaged."""

from __future__ import annotations

import random
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import harbor, manifest_of, plain_files
from keenharbor.base.jsontext import decode_json, encode_json
from keenharbor.base.progress import Silent
from keenharbor.database import StoredTable
from keenharbor.demo.scene import Scene
from keenharbor.site.load import open_site
from keenharbor.snapshot import TakeOptions, take_snapshot, verify_store
from keenharbor.snapshot.lists import (
    LIST_OF_PATHS,
    list_objects,
    put_tables,
    put_tree,
    tables_of,
    tree_of,
    with_lists,
)
from keenharbor.snapshot.manifest import list_snapshots, read_snapshot
from keenharbor.snapshot.model import ListedTree, Manifest, Tree
from keenharbor.store import Store
from keenharbor.tree import Entry

NAMES = st.text(st.characters(codec=None), min_size=1, max_size=12)
ENTRIES = st.lists(
    st.builds(
        Entry,
        path=NAMES,
        kind=st.sampled_from(["file", "folder", "link"]),
        mode=st.integers(0, 0o7777),
        mtime_ns=st.integers(-(2**62), 2**62),
        size=st.integers(0, 2**62),
        target=st.none() | NAMES,
        objects=st.lists(st.text("0123456789abcdef", min_size=64, max_size=64), max_size=3).map(tuple),
        sparse=st.booleans(),
    ),
    max_size=40,
    unique_by=lambda e: e.path,
)


def stored(store: Store, entries: list[Entry], earlier: Tree | None = None) -> ListedTree:
    with store.writing() as writer:
        return put_tree(entries, writer, earlier)


@given(ENTRIES, st.integers(0, 40))
@settings(max_examples=50, deadline=None)
def test_a_tree_comes_back_whatever_its_names(
    tmp_path_factory: pytest.TempPathFactory, entries: list[Entry], gone: int
) -> None:
    store = Store.create(tmp_path_factory.mktemp("store") / "s")
    first = stored(store, entries)
    later = stored(store, entries[:gone] + entries[gone + 1 :], first)
    for tree, wanted in ((first, entries), (later, entries[:gone] + entries[gone + 1 :])):
        assert list(tree_of(tree, store.read).values()) == wanted
        manifest = Manifest.from_json(decode_json(encode_json(manifest_of(tree).as_json())))
        assert manifest == manifest_of(tree)
        assert (manifest.file_count, manifest.file_bytes) == (
            sum(e.kind == "file" for e in wanted), sum(e.size for e in wanted),
        )  # fmt: skip
        inline = with_lists(manifest, store.read)
        assert tree_of(inline.tree, store.read) == tree_of(tree, store.read)
        assert (inline.file_count, inline.file_bytes) == (manifest.file_count, manifest.file_bytes)
        assert not list(list_objects(inline))
        assert Manifest.from_json(decode_json(encode_json(inline.as_json()))) == inline


def many(count: int) -> list[Entry]:
    chance = random.Random(2)
    return [
        Entry(f"part{n % 7}/file{n}.txt", "file", 0o644, n, 10, objects=(chance.randbytes(32).hex(),))
        for n in range(count)
    ]


def test_what_did_not_change_is_shared_and_what_did_costs_little(tmp_path: Path) -> None:
    store = Store.create(tmp_path / "s")
    entries = many(6000)
    first = stored(store, entries)
    assert 10 < len(first.parts) < 60
    whole = store.pack_bytes()
    assert stored(store, entries, first) == first
    assert store.pack_bytes() == whole
    entries[3000] = entries[3000]._replace(size=11)
    entries.insert(100, Entry("new", "folder", 0o755, 1))
    later = stored(store, entries, first)
    assert list(tree_of(later, Store(store.folder).read).values()) == entries
    differ = {i for i, _, _ in later.parts} - {i for i, _, _ in first.parts}
    assert 1 <= len(differ) <= 3
    assert store.pack_bytes() - whole < whole / 30


@pytest.mark.parametrize("chunks", [0, 3, 500])
def test_a_tables_chunks_come_back(tmp_path: Path, chunks: int) -> None:
    store = Store.create(tmp_path / "s")
    ids = tuple(random.Random(n).randbytes(32).hex() for n in range(chunks))
    table = StoredTable("t", ids, (2,) * chunks, (9,) * chunks, tuple(map(str, range(chunks))), "mark", 9 * chunks)
    with store.writing() as writer:
        told = put_tables([table, StoredTable("empty")], writer)
    manifest = Manifest.from_json(decode_json(encode_json(manifest_of((), told).as_json())))
    assert tables_of(manifest.database.tables, store.read) == [table, StoredTable("empty")]
    assert (told[0].chunks_in is not None) == (chunks > 100)
    assert manifest.database.rows == 2 * chunks, "a list of snapshots needs no more"


def many_files(scene: Scene) -> None:
    for n in range(1500):
        file = scene.root / f"media/more{n % 20}/file{n}"
        file.parent.mkdir(exist_ok=True)
        file.write_text(f"{n}")


def test_a_snapshot_costs_what_changed_and_not_its_list(scene: Scene) -> None:
    many_files(scene)
    site = open_site(scene.site_file)
    store = Store.create(site.store_folder)
    taken = take_snapshot(site, store, TakeOptions(), Silent(), None)
    before = store.pack_bytes() + store.document_bytes()
    for n in range(5):
        (scene.root / f"media/more3/file{20 * n + 3}").write_text(f"changed {n}")
        taken = take_snapshot(site, store, TakeOptions(), Silent(), read_snapshot(store, taken.id))
    grown = store.pack_bytes() + store.document_bytes() - before
    assert grown < 5 * 25_000
    assert len(list_snapshots(store)) == 6
    assert read_snapshot(store, taken.id).entries == taken.entries


def test_a_damaged_list_is_told_and_mended(scene: Scene, tmp_path: Path) -> None:
    many_files(scene)
    site = open_site(scene.site_file)
    store, other = Store.create(site.store_folder), Store.create(tmp_path / "other")
    taken = take_snapshot(site, store, TakeOptions(), Silent(), None)
    take_snapshot(site, other, TakeOptions(), Silent(), None)
    lists = [i for what, i in list_objects(taken.manifest) if what == LIST_OF_PATHS]
    place = store.location(lists[1])
    content = store.location(taken.entries["core/app.py"].objects[0])
    assert place is not None and content is not None and len(lists) > 3
    for hit in (place, content):
        file = store.folder / "packs" / hit.pack[:2] / hit.pack
        raw = bytearray(file.read_bytes())
        raw[hit.offset + hit.stored // 2] ^= 1
        file.write_bytes(raw)
    told = harbor(scene.folder, "snapshot", "verify", "--json", code=1).json
    assert LIST_OF_PATHS in told["hurt"][taken.id]
    ran = harbor(scene.folder, "snapshot", "restore", "newest", "--to", "back", code=1)
    assert "is damaged" in ran.err and "snapshot verify" in ran.err
    assert [s["id"] for s in harbor(scene.folder, "snapshot", "list", "--json").json] == [taken.id]
    mended = harbor(scene.folder, "snapshot", "verify", "--mend-from", other.folder, "--json").json
    assert mended["good"] and mended["mended"] >= 2
    harbor(scene.folder, "snapshot", "restore", "newest", "--to", "back")
    assert plain_files(scene.folder / "back/files") == plain_files(scene.root)
    assert verify_store(Store(store.folder), Silent()).good


def test_a_manifest_with_its_lists_in_it_is_read(scene: Scene) -> None:
    site = open_site(scene.site_file)
    store = Store.create(site.store_folder)
    taken = take_snapshot(site, store, TakeOptions(label="old"), Silent(), None)
    store.write_document("snapshots", taken.id, {**with_lists(taken.manifest, store.read).as_json(), "format": 2})
    assert read_snapshot(store, taken.id).entries == taken.entries
    (scene.root / "media/new.txt").write_text("new")
    shown = harbor(scene.folder, "snapshot", "take", "--label", "new", "--json").json
    assert shown["files"] == taken.file_count + 1
    differ = harbor(scene.folder, "snapshot", "diff", "old", "new", "--json", code=1).json
    assert differ["files"]["added"] == ["media/new.txt"]
    assert harbor(scene.folder, "snapshot", "verify", "--json").json["good"]
    harbor(scene.folder, "snapshot", "restore", "old", "--to", "back")
    assert not (scene.folder / "back/files/media/new.txt").exists()
