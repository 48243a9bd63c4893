"""Taking, seen closely: odd files, limits, manners, places of databases, progress."""

from __future__ import annotations

import errno
import filecmp
import os
import subprocess
import sys
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import click
import pytest

from conftest import harbor
from keenharbor.base.errors import UsageError
from keenharbor.base.progress import Silent
from keenharbor.base.text import short_age
from keenharbor.cli.base import _pace
from keenharbor.cli.quantities import BYTES, DURATION
from keenharbor.database import DatabasePlace
from keenharbor.demo.scene import Scene
from keenharbor.host import FileTree, WalkRules
from keenharbor.live.journal import exclusive
from keenharbor.site.load import live_database_place, open_site
from keenharbor.snapshot import TakeOptions, take_snapshot
from keenharbor.snapshot.estimate import estimate
from keenharbor.snapshot.manifest import read_snapshot
from keenharbor.snapshot.take import Pace, scan_for
from keenharbor.store import Store
from keenharbor.tree import AreaRules, restore_tree, scan_tree
from keenharbor.tree.scan import read_content

NO_RULES = AreaRules({})


def kept(root: Path, store: Store) -> dict[str, object]:
    scan = scan_tree(FileTree(str(root)), WalkRules(NO_RULES))
    with store.writing() as writer:
        read_content(FileTree(str(root)), scan, writer, {}, store.has, lambda d, t: None)
    restore_tree(FileTree(str(root.with_name("back"))), scan.entries, {}, store.read)
    return {"scan": scan, "back": root.with_name("back")}


def test_odd_files_come_back_as_they_were(tmp_path: Path) -> None:
    root = tmp_path / "site"
    root.mkdir()
    (root / "plain").write_bytes(b"x" * 10)
    (root / "hard").hardlink_to(root / "plain")
    (root / "soft").symlink_to("nowhere/at all")
    (root / "empty folder").mkdir(mode=0o750)
    (root / "empty").touch()
    (root / os.fsdecode(b"not \xff utf-8\n")).write_bytes(b"odd")
    (root / "secret").write_bytes(b"s")
    (root / "secret").chmod(0o4600)
    with (root / "sparse").open("wb") as out:
        out.seek(40_000_000)
        out.write(b"end")
    os.utime(root / "plain", ns=(1, 1_234_567_890_123_456_789))
    if os.geteuid() == 0:
        os.chown(root / "secret", 1234, 4321)
        (root / "secret").chmod(0o4600)
    back = kept(root, Store.create(tmp_path / "store"))["back"]
    assert isinstance(back, Path)
    assert sorted(os.listdir(os.fsencode(back))) == sorted(os.listdir(os.fsencode(root)))
    for name in os.listdir(root):
        one, other = (root / name).lstat(), (back / name).lstat()
        assert (one.st_mode, one.st_mtime_ns, one.st_uid, one.st_gid, one.st_size) == (
            other.st_mode, other.st_mtime_ns, other.st_uid, other.st_gid, other.st_size,
        ), name  # fmt: skip
    assert (back / "hard").samefile(back / "plain")
    assert os.readlink(back / "soft") == "nowhere/at all"
    assert (back / "sparse").stat().st_blocks * 512 < 4_000_000, "the holes were filled"
    assert (back / "sparse").read_bytes()[-4:] == b"\x00end"


def test_a_part_of_hard_links_comes_back_by_itself(tmp_path: Path) -> None:
    root = tmp_path / "site"
    root.mkdir()
    (root / "a").write_bytes(b"same")
    (root / "b").hardlink_to(root / "a")
    store = Store.create(tmp_path / "store")
    scan = scan_tree(FileTree(str(root)), WalkRules(NO_RULES))
    with store.writing() as writer:
        read_content(FileTree(str(root)), scan, writer, {}, store.has, lambda d, t: None)
    assert scan.entries["b"].same_as == "a"
    restore_tree(FileTree(str(tmp_path / "back")), {"b": scan.entries["b"]}, {}, store.read)
    assert (tmp_path / "back/b").read_bytes() == b"same"


def test_a_file_that_cannot_be_read_is_told_and_the_rest_is_saved(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    root = tmp_path / "site"
    root.mkdir()
    for name in ("good", "bad", "forbidden"):
        (root / name).write_text(name)
    real = os.open

    def failing(path: object, *rest: object, **more: object) -> int:
        if str(path).rpartition("/")[2] == "bad":
            raise OSError(errno.EIO, "Input/output error", str(path))
        if str(path).rpartition("/")[2] == "forbidden":
            raise PermissionError(errno.EACCES, "Permission denied", str(path))
        return real(path, *rest, **more)  # type: ignore[arg-type]

    store = Store.create(tmp_path / "store")
    scan = scan_tree(FileTree(str(root)), WalkRules(NO_RULES))
    with store.writing() as writer:
        monkeypatch.setattr(os, "open", failing)
        read_content(FileTree(str(root)), scan, writer, {}, store.has, lambda d, t: None)
        monkeypatch.undo()
    assert sorted(scan.unreadable) == ["bad", "forbidden"]
    assert list(scan.entries) == ["good"]


def test_a_file_that_becomes_something_else_before_it_is_read(tmp_path: Path) -> None:
    root = tmp_path / "site"
    (root / "deep").mkdir(parents=True)
    for name in ("to-link", "to-folder", "deep/gone", "stays"):
        (root / name).write_text(name)
    store = Store.create(tmp_path / "store")
    scan = scan_tree(FileTree(str(root)), WalkRules(NO_RULES))
    for name in ("to-link", "to-folder", "deep/gone"):
        (root / name).unlink()
    (root / "to-link").symlink_to("stays")
    (root / "to-folder").mkdir()
    (root / "deep").rmdir()
    (root / "deep").write_text("a file now")
    with store.writing() as writer:
        read_content(FileTree(str(root)), scan, writer, {}, store.has, lambda d, t: None)
    assert "stays" in scan.entries and not {"to-link", "to-folder", "deep/gone"} & scan.entries.keys()
    assert scan.unreadable == []


def test_a_disk_that_is_full_half_way_leaves_live_as_it_was(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    root = tmp_path / "site"
    root.mkdir()
    for n in range(5):
        (root / f"f{n}").write_text(f"old {n}")
    store = Store.create(tmp_path / "store")
    scan = scan_tree(FileTree(str(root)), WalkRules(NO_RULES))
    with store.writing() as writer:
        read_content(FileTree(str(root)), scan, writer, {}, store.has, lambda d, t: None)
    for n in range(5):
        (root / f"f{n}").write_text(f"new {n}, longer")
    present = scan_tree(FileTree(str(root)), WalkRules(NO_RULES))
    with store.writing() as writer:
        read_content(FileTree(str(root)), present, writer, {}, store.has, lambda d, t: None)
    count = iter(range(100))

    def read(identity: str) -> bytes:
        if next(count) == 3:
            raise OSError(errno.ENOSPC, "No space left on device")
        return store.read(identity)

    with pytest.raises(OSError, match="No space left"):
        restore_tree(FileTree(str(root)), scan.entries, present.entries, read)
    assert sorted(p.name for p in root.iterdir()) == [f"f{n}" for n in range(5)]
    assert [(root / f"f{n}").read_text() for n in range(5)] == [f"new {n}, longer" for n in range(5)]
    restore_tree(FileTree(str(root)), scan.entries, present.entries, store.read)
    assert [(root / f"f{n}").read_text() for n in range(5)] == [f"old {n}" for n in range(5)]


def test_a_file_in_the_place_of_a_folder_and_the_reverse(tmp_path: Path) -> None:
    root = tmp_path / "site"
    (root / "was/deep").mkdir(parents=True)
    (root / "was/deep/file").write_text("1")
    (root / "other").write_text("file")
    store = Store.create(tmp_path / "store")

    def scanned() -> dict[str, object]:
        scan = scan_tree(FileTree(str(root)), WalkRules(NO_RULES))
        with store.writing() as writer:
            read_content(FileTree(str(root)), scan, writer, {}, store.has, lambda d, t: None)
        return dict(scan.entries)

    before = scanned()
    for path in (root / "was/deep/file", root / "other"):
        path.unlink()
    (root / "was/deep").rmdir()
    (root / "was").rmdir()
    (root / "was").write_text("now a file")
    (root / "other").mkdir()
    (root / "other/inside").write_text("x")
    restore_tree(FileTree(str(root)), before, scanned(), store.read)  # type: ignore[arg-type]
    assert (root / "was/deep/file").read_text() == "1"
    assert (root / "other").read_text() == "file"


def test_a_gentle_run_keeps_its_pace() -> None:
    pace = Pace(1_000_000)
    began = time.monotonic()
    for _ in range(10):
        pace.read(20_000)
    assert time.monotonic() - began > 0.15
    quick = Pace(None)
    quick.read(10**12)


def test_a_gentle_snapshot_is_the_same(scene: Scene) -> None:
    words = ("--gentle", "--workers", "1", "--level", "9", "--json")
    told = harbor(scene.folder, "snapshot", "take", *words).json
    again = harbor(scene.folder, "snapshot", "take", "--read-all", "--json").json
    assert told["files"] == again["files"]
    assert again["added_bytes"] == 0, "the same contents were stored twice"


def test_the_second_run_on_one_site_says_who_holds_it(scene: Scene) -> None:
    site = open_site(scene.site_file)
    with exclusive(site):
        ran = harbor(scene.folder, "snapshot", "take", code=3)
    assert (
        f"process {os.getpid()}" in ran.err
        and "is in use by another run: a change of marrow-lane runs since" in ran.err
    )
    harbor(scene.folder, "snapshot", "take")


def test_two_runs_on_one_store_are_safe(scene: Scene, tmp_path: Path) -> None:
    import threading

    site = open_site(scene.site_file)
    Store.create(tmp_path / "store")
    failures: list[BaseException] = []

    def run() -> None:
        try:
            for _ in range(3):
                take_snapshot(site, Store(tmp_path / "store"), TakeOptions(), Silent(), None)
        except BaseException as error:
            failures.append(error)

    threads = [threading.Thread(target=run) for _ in range(2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert not failures
    store = Store(tmp_path / "store")
    assert len(store.document_names("snapshots")) == 6
    assert all(isinstance(item, str) for _, item in store.check())


def test_a_look_before_tells_what_a_snapshot_will_be(scene: Scene) -> None:
    site = open_site(scene.site_file)
    found = estimate(site, TakeOptions(), None)
    taken = take_snapshot(site, Store.create(site.store_folder), TakeOptions(), Silent(), None)
    assert found.files == taken.summary()["files"]
    assert found.file_bytes == found.to_read == taken.file_bytes
    assert found.enough_room and found.lacking == ()
    time.sleep(0.05)
    later = estimate(site, TakeOptions(), taken)
    assert later.to_read < found.to_read
    shown = harbor(scene.folder, "snapshot", "take", "--look").out
    assert "free at the store" in shown and max(map(len, shown.splitlines())) <= 80


def test_a_snapshot_of_a_tree_that_was_looked_at_is_that_of_one_that_is_found_while_it_is_read(
    scene: Scene, tmp_path: Path
) -> None:
    """With all that leaves something out."""
    site = open_site(scene.site_file)
    (scene.root / "media/large.bin").write_bytes(bytes(60_000))
    os.link(scene.root / "core/app.py", scene.root / "core/same.py")
    (scene.root / "empty").mkdir()
    time.sleep(0.05)  # what was written just now is read twice
    options = TakeOptions(leave_out_areas=["logs"], leave_out_paths=["core/assets"], largest_file=50_000)
    told = []
    for number, looked in enumerate([None, scan_for(site, options)]):
        store = Store.create(tmp_path / f"store{number}")
        taken = take_snapshot(site, store, options, Silent(), None, looked)
        told.append(
            (
                list(taken.entries.values()),
                list(taken.manifest.left_out),
                list(taken.manifest.too_large),
                taken.scanned,
            )
        )
        assert read_snapshot(store, taken.id).entries == taken.entries
        assert read_snapshot(store, taken.id).scanned is None
    assert told[0] == told[1]
    assert told[0][1] == ["core/assets", "var/log"] and told[0][2] == ["media/large.bin"]
    paths = [e.path for e in told[0][0]]
    assert "empty" in paths and not any(p.startswith(("core/assets", "media/large")) for p in paths)


def test_a_database_that_is_not_there_is_told_before_anything_is_read(scene: Scene) -> None:
    scene.database.rename(scene.database.with_name("elsewhere"))
    ran = harbor(scene.folder, "snapshot", "take", code=2)
    assert "the database is not there" in ran.err
    assert not list((scene.folder / "harbor/store/snapshots").glob("*.json"))


@pytest.mark.parametrize(
    ("said", "wanted"),
    [
        (
            'url = "mariadb://u@db.example/site"',
            DatabasePlace("mariadb", None, "db.example", 0, "", "site", "u", "word"),
        ),
        (
            'url = "postgres://u@/site?socket=/run/pg"',
            DatabasePlace("postgres", None, "", 0, "/run/pg", "site", "u", "word"),
        ),
    ],
)
def test_a_database_by_url_takes_its_password_from_a_file(scene: Scene, said: str, wanted: DatabasePlace) -> None:
    (scene.folder / "secret").write_text("word\n")
    scene.site_file.write_text(scene.site_file.read_text() + f'\n[database]\n{said}\npassword_file = "secret"\n')
    site = open_site(scene.site_file)
    place = live_database_place(site)
    assert place == wanted
    assert "word" not in str(place) + site.database.url + site.database.told + repr(place)
    (scene.folder / "secret").unlink()
    with pytest.raises(UsageError, match="password's file cannot be read"):
        open_site(scene.site_file)


def test_a_database_by_the_sites_own_settings(scene: Scene) -> None:
    settings = scene.root / "settings.ini"
    text = settings.read_text()
    old = text[text.index("[database]") : text.index("[paths]")]
    settings.write_text(
        text.replace(
            old, "[database]\nengine = mysql\nhost = db.example\nport = 3307\nname = site\nuser = u\npassword = p\n\n"
        )
    )
    assert live_database_place(open_site(scene.site_file)) == DatabasePlace(
        "mariadb", None, "db.example", 3307, "", "site", "u", "p"
    )
    settings.write_text(text.replace(old, "[database]\nengine = mysql\nport = many\nname = site\n\n"))
    with pytest.raises(UsageError, match="is no port: 'many'"):
        open_site(scene.site_file)
    settings.write_text(text.replace(old, "[database]\nengine = postgres\n\n"))
    with pytest.raises(UsageError, match=r"setting 'database.name' for the database is not there"):
        open_site(scene.site_file)


@pytest.mark.parametrize("number", [1, 99])
def test_a_snapshot_of_another_format_is_told_and_left_alone(scene: Scene, number: int) -> None:
    harbor(scene.folder, "snapshot", "take", "--label", "one")
    store = Store(scene.folder / "harbor/store")
    (name,) = store.document_names("snapshots")
    manifest = store.read_document("snapshots", name)
    store.write_document("snapshots", name, {**manifest, "format": number})
    ran = harbor(scene.folder, "snapshot", "show", name, code=2)
    assert f"has format {number}" in ran.err and "take a new one" in ran.err
    harbor(scene.folder, "snapshot", "take", "--label", "two")
    assert [s["label"] for s in harbor(scene.folder, "snapshot", "list", "--json").json] == ["two"]
    assert f"snapshot {name} cannot be read" in harbor(scene.folder, "snapshot", "list").err
    ran = harbor(scene.folder, "snapshot", "thin", "--newest", "1", "--yes", code=2)
    assert f"has format {number}" in ran.err, "what it needs cannot be known: nothing may be collected"


@pytest.mark.parametrize(
    ("text", "count"), [("500", 500), ("2K", 2048), ("1.5M", 1_572_864), ("20GiB", 20 << 30), ("1 tb", 1 << 40)]
)
def test_sizes_as_people_type_them(text: str, count: int) -> None:
    assert BYTES.convert(text, None, None) == count


@pytest.mark.parametrize("text", ["", "much", "-3M", "3X", "M"])
def test_what_is_no_size(text: str) -> None:
    with pytest.raises(click.UsageError):
        BYTES.convert(text, None, None)


def test_times_as_people_type_them() -> None:
    assert DURATION.convert("36h", None, None) == timedelta(hours=36)
    assert DURATION.convert("8w", None, None) == timedelta(weeks=8)
    with pytest.raises(click.UsageError):
        DURATION.convert("soon", None, None)


def test_ages_and_progress_in_few_words() -> None:
    at = datetime(2026, 11, 25, tzinfo=UTC)
    told = [
        short_age(at - timedelta(**ago), at)
        for ago in ({"seconds": 5}, {"minutes": 14}, {"hours": 3}, {"days": 12}, {"days": 500})
    ]
    assert told == ["0 min", "14 min", "3 h", "12 d", "1.4 y"]
    assert _pace(50, 100, "byte", 0.1) == "50 %"
    assert _pace(50 << 20, 100 << 20, "byte", 2.0) == "50 %  25.0 MiB/s  2.0 s left"
    assert _pace(30 << 20, 0, "byte", 1.0) == "30.0 MiB/s"


def test_nothing_of_a_password_gets_out(scene: Scene) -> None:
    (scene.folder / "secret").write_text("pips-and-stones-77")
    place = 'url = "mariadb://u@127.0.0.1:9/site"\npassword_file = "secret"'
    scene.site_file.write_text(scene.site_file.read_text() + f"\n[database]\n{place}\n")
    for words in (("snapshot", "take"), ("survey",), ("snapshot", "take", "--json"), ("snapshot", "take", "--debug")):
        ran = harbor_any(scene, words)
        assert "pips-and-stones-77" not in ran
        assert "does not answer" in ran


def harbor_any(scene: Scene, words: tuple[str, ...]) -> str:
    from conftest import cold, environment

    ran = cold(scene.folder, list(words), environment())
    assert ran.code == 3
    return ran.out + ran.err


def test_errors_of_a_server_are_in_plain_words(scene: Scene) -> None:
    scene.site_file.write_text(scene.site_file.read_text() + '\n[database]\nurl = "postgres://u@127.0.0.1:9/site"\n')
    ran = harbor(scene.folder, "snapshot", "take", code=3)
    assert "the database server does not answer" in ran.err and "see to it that it runs" in ran.err


HOLD = """
import resource, sys
from pathlib import Path
from keenharbor.store import Store
from keenharbor.host import FileTree, WalkRules
from keenharbor.tree import AreaRules, restore_tree, scan_tree
from keenharbor.tree.scan import read_content
folder = Path(sys.argv[1])
store, scan = Store.create(folder / "store"), scan_tree(FileTree(str(folder / "site")), WalkRules(AreaRules({})))
with store.writing(int(sys.argv[2])) as writer:
    read_content(FileTree(str(folder / "site")), scan, writer, {}, store.has, lambda done, total: None)
restore_tree(FileTree(str(folder / "back")), scan.entries, {}, store.read)
own = next(int(line.split()[1]) for line in open("/proc/self/status") if line.startswith("VmHWM"))
print(max(own, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss) // 1024)
"""


@pytest.mark.parametrize("workers", [1, 2])
def test_a_huge_file_is_never_held_as_a_whole(tmp_path: Path, workers: int) -> None:
    (tmp_path / "site").mkdir()
    piece = os.urandom(16_000_000)
    with (tmp_path / "site/huge").open("wb") as out:
        for n in range(10):
            out.write(bytes([n]) + piece)
    ran = subprocess.run(
        [sys.executable, "-c", HOLD, tmp_path, str(workers)], capture_output=True, text=True, check=True
    )
    assert filecmp.cmp(tmp_path / "site/huge", tmp_path / "back/huge", shallow=False)
    assert int(ran.stdout) < 90, "MiB at most, of 160"
