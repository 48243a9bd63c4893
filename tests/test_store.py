"""The store: what is put in comes out, nothing is stored twice, and no damage passes for sound."""

from __future__ import annotations

import random
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from blake3 import blake3
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import manifest_of
from keenharbor.base.errors import DamagedError, KeenHarborError, UsageError
from keenharbor.base.progress import Silent
from keenharbor.host.lease import held
from keenharbor.snapshot import verify_store
from keenharbor.store import Damage, Store, object_id
from keenharbor.store.packs import HEAD, compressor, pack
from keenharbor.tree import Entry


def fill(store: Store, contents: list[bytes]) -> list[str]:
    """Each stored on its own."""
    with store.writing() as writer:
        return [writer.add(c) for c in contents]


def fill_at_once(store: Store, contents: list[bytes], workers: int = 2) -> list[str]:
    """Small ones that compress end in bundles."""
    ids: list[str] = []
    with store.writing(workers) as writer:
        writer.put(contents, [None] * len(contents), ids.extend)
    return ids


CONTENTS = st.lists(
    st.one_of(
        st.binary(max_size=300),
        st.builds(lambda word, count: word * count, st.binary(min_size=1, max_size=9), st.integers(1, 9000)),
    ),
    max_size=20,
)


@given(CONTENTS, st.integers(1, 2))
@settings(max_examples=60, deadline=None)
def test_what_is_added_is_read_back(
    tmp_path_factory: pytest.TempPathFactory, contents: list[bytes], workers: int
) -> None:
    folder = tmp_path_factory.mktemp("store") / "s"
    alone = contents[::3]
    ids = fill(Store.create(folder), alone) + fill_at_once(Store(folder), contents, workers)
    again = Store(folder)
    assert [again.read(i) for i in ids] == alone + contents
    assert {i for _, i in again.check()} == set(ids)
    assert sum(place.space for i in set(ids) if (place := again.location(i))) == again.pack_bytes()
    for index in (folder / "index").iterdir():
        index.unlink()
    from_heads = Store(folder)
    assert [from_heads.location(i) for i in ids] == [again.location(i) for i in ids]


def manifest_with(ids: list[str]) -> dict[str, object]:
    """Of a snapshot with a file for each object and no table."""
    tree = tuple(Entry(f"f{n}", "file", 0o644, 0, 1, objects=(i,)) for n, i in enumerate(ids))
    return manifest_of(tree, identity="one").as_json()


def bundled(count: int) -> list[bytes]:
    """So many contents that together take several bundles."""
    return [f"row {n} of the seed library: ".encode() * 30 for n in range(count)]


def test_small_contents_lie_together_and_one_is_read_without_the_rest(tmp_path: Path) -> None:
    store = Store.create(tmp_path / "s")
    contents = bundled(200)
    ids = fill_at_once(store, contents)
    places = [store.location(i) for i in ids]
    frames = {(p.offset, p.whole) for p in places if p is not None}
    assert 1 < len(frames) < 20
    assert all(whole < 64 * 1024 for _, whole in frames)
    assert store.pack_bytes() < sum(len(pack(i, c, compressor(1)).data) for i, c in zip(ids, contents, strict=True))


def test_of_a_bundle_what_is_wanted_stays(tmp_path: Path) -> None:
    store = Store.create(tmp_path / "s")
    contents = bundled(300)
    ids = fill_at_once(store, contents)
    before = store.pack_bytes()
    store.collect(set(ids[::7]), lambda done, total: None)
    again = Store(store.folder)
    assert [again.read(i) for i in ids[::7]] == contents[::7]
    assert [again.has(i) for i in ids] == [n % 7 == 0 for n in range(300)]
    assert again.pack_bytes() < before / 2
    assert {i for _, i in again.check()} == set(ids[::7])


def test_the_packs_of_many_small_runs_are_joined(tmp_path: Path) -> None:
    store = Store.create(tmp_path / "s")
    chance = random.Random(3)
    contents = [[chance.randbytes(500), f"run {n} ".encode() * 200, f"more {n} ".encode() * 90] for n in range(12)]
    large = [chance.randbytes(6 * 1024 * 1024)]
    ids = [fill_at_once(Store(store.folder), some) for some in [large, *contents]]
    wanted = {i for some in ids for i in some[:2]}
    assert len(store.pack_files()) == 13
    fresh = Store(store.folder)
    (kept,) = [place.pack for i in ids[0] if (place := fresh.location(i))]
    told: list[tuple[int, int]] = []
    fresh.collect(wanted, lambda done, total: told.append((done, total)))
    assert told == sorted(told) and told[-1][0] == told[-1][1] > 0
    again = Store(store.folder)
    assert len(again.pack_files()) == 2 and kept in {f.name for f in again.pack_files()}
    assert {i for _, i in again.check()} == wanted
    assert [again.read(some[1]) for some in ids[1:]] == [c[1] for c in contents]
    before = again.pack_files()
    again.collect(wanted, lambda done, total: told.append((done, total)))
    assert told[-1][0] == told[-1][1]
    assert again.pack_files() == before, "once is enough"


def test_what_is_taken_out_of_bundles_is_compressed_as_the_site_wants_it(tmp_path: Path) -> None:
    sizes = []
    for level in (1, 19):
        store = Store.create(tmp_path / f"s{level}")
        contents = [random.Random(n % 40).randbytes(60).hex().encode() * 9 + b"%d" % n for n in range(300)]
        ids = fill_at_once(store, contents)
        store.collect(set(ids[::2]), lambda done, total: None, level)
        assert [Store(store.folder).read(i) for i in ids[::2]] == contents[::2]
        sizes.append(store.pack_bytes())
    assert sizes[1] < sizes[0]


def test_a_bundle_that_is_damaged_hurts_what_lies_in_it_and_is_mended(tmp_path: Path) -> None:
    store, other = Store.create(tmp_path / "s"), Store.create(tmp_path / "other")
    contents = bundled(200)
    ids = fill_at_once(store, contents)
    fill(other, contents)
    store.write_document("snapshots", "one", manifest_with(ids))
    place = store.location(ids[50])
    assert place is not None
    (file,) = store.pack_files()
    raw = bytearray(file.read_bytes())
    raw[place.offset + place.stored // 2] ^= 4
    file.write_bytes(raw)
    told = verify_store(Store(store.folder), Silent())
    together = {f"f{n}" for n, i in enumerate(ids) if (p := store.location(i)) and p.offset == place.offset}
    hurt = set(told.hurt["one"])
    assert "f50" in hurt <= together
    (said,) = told.damages
    assert f"{len(together)} objects in one frame" in said
    assert told.objects == len(ids) - len(hurt)
    for number, (identity, content) in enumerate(zip(ids, contents, strict=True)):
        if f"f{number}" not in hurt:
            assert Store(store.folder).read(identity) == content
    with pytest.raises(DamagedError, match=f"object {ids[50][:12]} is damaged"):
        Store(store.folder).read(ids[50])
    mended = verify_store(Store(store.folder), Silent(), other)
    assert mended.good and mended.mended
    assert [Store(store.folder).read(i) for i in ids] == contents


def test_the_same_content_is_stored_once_within_and_between_runs(tmp_path: Path) -> None:
    folder = tmp_path / "s"
    with Store.create(folder).writing() as writer:
        first = [writer.add(b"seed" * 100), writer.add(b"seed" * 100)]
        assert writer.added_objects == 1
    with Store(folder).writing() as writer:
        assert writer.add(b"seed" * 100) == first[0]
        assert writer.added_objects == 0
    assert len(Store(folder).pack_files()) == 1


def test_small_objects_share_a_pack(tmp_path: Path) -> None:
    store = Store.create(tmp_path / "s")
    fill(store, [str(n).encode() for n in range(2000)])
    files = [p for p in (tmp_path / "s").rglob("*") if p.is_file()]
    assert len(files) < 10


def test_a_store_behind_another_gives_its_objects_and_is_not_copied(tmp_path: Path) -> None:
    base = Store.create(tmp_path / "base")
    (identity,) = fill(base, [b"old"])
    front = Store.create(tmp_path / "front", behind=[base])
    with front.writing() as writer:
        assert writer.add(b"old") == identity
        writer.add(b"new")
        assert writer.added_objects == 1
    assert front.read(identity) == b"old"


def test_a_missing_index_is_made_anew(tmp_path: Path) -> None:
    folder = tmp_path / "s"
    ids = fill(Store.create(folder), [b"a", b"b" * 9000])
    for index in (folder / "index").iterdir():
        index.unlink()
    assert [Store(folder).read(i) for i in ids] == [b"a", b"b" * 9000]
    assert list((folder / "index").iterdir())
    for index in (folder / "index").iterdir():
        index.unlink()
    assert verify_store(Store(folder), Silent()).good, "a run may be killed between pack and index"
    assert list((folder / "index").iterdir())


def test_an_index_that_points_elsewhere_never_gives_wrong_content(tmp_path: Path) -> None:
    folder = tmp_path / "s"
    ids = fill(Store.create(folder), [b"first", b"second"])
    (index,) = (folder / "index").iterdir()
    index.write_text(index.read_text().replace(ids[0], "x").replace(ids[1], ids[0]).replace("x", ids[1]))
    with pytest.raises(DamagedError):
        Store(folder).read(ids[0])
    told = verify_store(Store(folder), Silent())
    assert "index did not fit" in told.damages[0]
    assert Store(folder).read(ids[0]) == b"first"


def test_nothing_is_visible_before_the_pack_is_sealed(tmp_path: Path) -> None:
    store = Store.create(tmp_path / "s")
    writer = store.writing()
    identity = writer.__enter__().add(b"unfinished")
    assert not Store(tmp_path / "s").has(identity)
    assert list((tmp_path / "s" / "staging").glob("*.part"))
    assert store.collect_staging(alone=True) >= 0
    assert not list((tmp_path / "s" / "staging").glob("*.part"))


def test_an_error_discards_the_open_pack(tmp_path: Path) -> None:
    store = Store.create(tmp_path / "s")
    with pytest.raises(ValueError, match="stop"), store.writing() as writer:
        writer.add(b"x")
        raise ValueError("stop")
    assert not list((tmp_path / "s" / "staging").iterdir())
    assert not store.pack_files()


def test_every_flipped_bit_is_found_and_never_read_as_good(tmp_path: Path) -> None:
    folder = tmp_path / "s"
    chance = random.Random(7)
    contents = [chance.randbytes(chance.randint(0, 400)) + b"pod " * chance.randint(0, 200) for _ in range(60)]
    store = Store.create(folder)
    ids = fill(store, contents[:20]) + fill_at_once(store, contents[20:])
    store.write_document("snapshots", "one", {"tree": ids, "note": "é"})
    targets = [p for p in folder.rglob("*") if p.suffix in (".pack", ".json") and p.name != "store.json"]
    as_written = {p: p.read_bytes() for p in targets}
    for _ in range(150):
        target = chance.choice(targets)
        at = chance.randrange(len(as_written[target]) * 8)
        flipped = bytearray(as_written[target])
        flipped[at // 8] ^= 1 << (at % 8)
        target.write_bytes(flipped)
        damaged = Store(folder)
        found = [item for _, item in damaged.check() if isinstance(item, Damage)]
        try:
            damaged.read_document("snapshots", "one")
        except DamagedError:
            found.append(Damage("one.json", 0, "damaged"))
        assert found, f"bit {at} of {target.name} was missed"
        for identity, content in zip(ids, contents, strict=True):
            try:
                assert Store(folder).read(identity) == content
            except DamagedError:
                continue
        for file, content in as_written.items():  # an index is made anew where it does not fit
            file.write_bytes(content)
    assert not [i for _, i in Store(folder).check() if isinstance(i, Damage)]


def test_a_cut_pack_is_told_of_and_what_stands_before_the_cut_is_read(tmp_path: Path) -> None:
    folder = tmp_path / "s"
    ids = fill(Store.create(folder), [b"whole", b"cut off" * 50])
    (pack,) = Store(folder).pack_files()
    pack.write_bytes(pack.read_bytes()[:-5])
    damages = [i.what for _, i in Store(folder).check() if isinstance(i, Damage)]
    assert any("head is damaged" in d for d in damages)
    assert Store(folder).read(ids[0]) == b"whole"
    with pytest.raises(DamagedError, match="missing|ends early"):
        Store(folder).read(ids[1])


def test_a_head_can_be_read_by_hand(tmp_path: Path) -> None:
    folder = tmp_path / "s"
    fill(Store.create(folder), [b"plain"])
    (pack,) = Store(folder).pack_files()
    mark, digest, codec, stored, plain = HEAD.unpack(pack.read_bytes()[: HEAD.size])
    assert (mark, digest.hex(), codec, stored, plain) == (b"KHO3", object_id(b"plain"), 0, 5, 5)


@pytest.mark.parametrize("mark", [b"KHO1", b"KHO2"])
def test_packs_of_the_earlier_forms_are_read_checked_and_thinned(tmp_path: Path, mark: bytes) -> None:
    store = Store.create(tmp_path / "s")
    contents = [b"one" * 50, b"two" * 50, b"three"]
    name = "ab" * 10 + ".pack"
    (store.folder / "packs/ab").mkdir()
    raw = b""
    for c in contents:
        head = HEAD.pack(mark, bytes.fromhex(object_id(c)), 0, len(c), len(c))
        raw += head + (blake3(head + c).digest(8) if mark == b"KHO2" else b"") + c
    (store.folder / "packs/ab" / name).write_bytes(raw)
    fresh = Store(store.folder)
    assert [fresh.read(object_id(c)) for c in contents] == contents
    assert [i for _, i in fresh.check()] == [object_id(c) for c in contents]
    fresh.collect({object_id(contents[2])}, lambda d, t: None)
    again = Store(store.folder)
    assert again.read(object_id(b"three")) == b"three"
    assert not again.has(object_id(contents[0]))
    (pack,) = again.pack_files()
    assert pack.read_bytes()[:4] == b"KHO3"


def test_a_bit_that_changes_no_content_is_found_too(tmp_path: Path) -> None:
    folder = tmp_path / "s"
    content = b"many words " * 300
    fill(Store.create(folder), [content])
    (pack,) = Store(folder).pack_files()
    data = bytearray(pack.read_bytes())
    data[HEAD.size + 8 + 4] ^= 0x10  # the unused bit of a frame's descriptor (RFC 8878, 3.1.1.1.1.3)
    pack.write_bytes(data)
    damage, identity = [item for _, item in Store(folder).check()]
    assert isinstance(damage, Damage) and "not stored as it was" in damage.what
    assert identity == object_id(content)
    assert Store(folder).read(object_id(content)) == content
    told = verify_store(Store(folder), Silent())
    assert not told.good and not told.hurt, "what can be read is not lost"
    other = Store.create(tmp_path / "other")
    fill(other, [content])
    assert verify_store(Store(folder), Silent(), other).good


def test_a_folder_with_other_things_is_refused(tmp_path: Path) -> None:
    (tmp_path / "holiday.jpg").write_text("x")
    with pytest.raises(UsageError, match="not empty"):
        Store.create(tmp_path)
    assert [p.name for p in tmp_path.iterdir()] == ["holiday.jpg"]


def test_another_format_is_refused(tmp_path: Path) -> None:
    Store.create(tmp_path / "s")
    (tmp_path / "s" / "store.json").write_text('{"format": 99}')
    with pytest.raises(UsageError, match="format 99"):
        Store(tmp_path / "s")


def test_there_is_no_store_yet(tmp_path: Path) -> None:
    with pytest.raises(UsageError, match="no store here yet"):
        Store(tmp_path)


def test_a_store_is_private(tmp_path: Path) -> None:
    store = Store.create(tmp_path / "s")
    fill(store, [b"x"])
    store.write_document("snapshots", "one", {})
    for path in (tmp_path / "s").rglob("*"):
        assert path.stat().st_mode & 0o077 == 0, path


def test_a_lock_is_held_once_and_freed_at_the_end(tmp_path: Path) -> None:
    lock = tmp_path / "locks" / "a.lock"
    with (
        held(lock, "the thing"),
        pytest.raises(KeenHarborError, match="the thing is in use by another run: it runs since .*, process"),
        held(lock, "the thing"),
    ):
        pass
    with held(lock, "the thing", wait_seconds=1):
        pass


def test_many_may_read_at_once_from_a_store_that_was_just_opened(tmp_path: Path) -> None:
    """Whoever asks first learns of the packs; the others must not take a half-known index for all there is."""
    made = Store.create(tmp_path / "store")
    names = [name for n in range(20) for name in fill(made, [f"object {n} {k}".encode() * 50 for k in range(20)])]
    for _ in range(30):
        store = Store(tmp_path / "store")
        with ThreadPoolExecutor(8) as pool:
            assert all(pool.map(lambda name, store=store: len(store.read(name)) > 0, names[::25]))  # type: ignore[misc]
        store.close()
    for number in range(30):
        behind = Store(tmp_path / "store")
        front = Store.create(tmp_path / f"front{number}", behind=[behind])
        with ThreadPoolExecutor(8) as pool:
            assert all(pool.map(lambda name, front=front: len(front.read(name)) > 0, names[::25]))  # type: ignore[misc]
        front.close()
        behind.close()


def test_the_text_of_an_earlier_version_is_replaced_and_is_no_damage(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    store = Store.create(tmp_path / "s")
    text = tmp_path / "s/READ ME.txt"
    new = text.read_bytes()
    monkeypatch.setattr("keenharbor.store.store.EARLIER_READ_MES", {object_id(b"as it once was")})
    for text_there, right in ((b"as it once was", True), (b"as it never was", False)):
        text.write_bytes(text_there)
        assert store.read_me_is_right() is right and text.read_bytes() == new
