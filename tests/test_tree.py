"""Trees: patterns, areas, scanning, comparing, putting back."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keenharbor.base.errors import UsageError
from keenharbor.host import PIECE_SIZE, FileTree, WalkRules
from keenharbor.host.areas import fits
from keenharbor.store import Store
from keenharbor.tree import AreaRules, Scan, compare_trees, restore_tree, scan_tree
from keenharbor.tree.scan import Hashing, read_content

WriteTree = Callable[[Path, dict[str, str | bytes]], None]
NO_RULES = AreaRules({})


class Adding(Hashing):
    """Gives each content to a function."""

    def __init__(self, add: Callable[[bytes], str]) -> None:
        self._add = add

    def store(self, content: bytes, near: str | None) -> str:
        return self._add(content)


def read(root: Path, store: Store, earlier: Scan | None = None) -> Scan:
    scan = scan_tree(FileTree(str(root)), WalkRules(NO_RULES))
    with store.writing() as writer:
        known = earlier.entries if earlier else {}
        read_content(FileTree(str(root)), scan, writer, known, store.has, lambda done, total: None)
    return scan


@pytest.mark.parametrize(
    ("pattern", "path", "expected"),
    [
        ("core", "core", True),
        ("core", "core/a/b.py", True),
        ("core", "corel/a", False),
        ("core/", "core/x", True),
        ("*.log", "a.log", True),
        ("*.log", "x/a.log", False),
        ("**/*.log", "x/y/a.log", True),
        ("**/*.log", "a.log", True),
        ("**/__pycache__", "a/__pycache__", True),
        ("media/**", "media/a/b.png", True),
        ("media/?.png", "media/a.png", True),
        ("media/?.png", "media/ab.png", False),
        ("a+b", "a+b", True),
        ("a+b", "aab", False),
    ],
)
def test_patterns(pattern: str, path: str, expected: bool) -> None:
    assert fits(path, (pattern,)) is expected


def test_every_path_has_one_area_and_the_narrow_rule_wins() -> None:
    rules = AreaRules(
        {"core": ["core", "*.py"], "extensions": ["extensions"], "cache": ["core/tmp"], "settings": ["conf.py"]}
    )
    assert [rules.area_of(p) for p in ("core/a.py", "core/tmp/x", "conf.py", "extensions/e/core", "notes.txt")] == [
        "core",
        "cache",
        "settings",
        "extensions",
        "other",
    ]


names = st.text(
    st.characters(codec="utf-8", exclude_characters="/\x00", exclude_categories=["Cs"]), min_size=1, max_size=8
).filter(lambda n: n not in (".", "..") and len(n.encode()) < 60)
trees = st.dictionaries(st.lists(names, min_size=1, max_size=3).map(tuple), st.binary(max_size=200), max_size=12)


def write_paths(root: Path, tree: dict[tuple[str, ...], bytes]) -> None:
    root.mkdir(exist_ok=True)
    for parts, content in tree.items():
        path = root.joinpath(*parts)
        if any(p.is_file() for p in path.parents) or path.is_dir():
            continue
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content)


def facts(root: Path) -> dict[str, tuple[object, ...]]:
    """What is below a folder, by the system's own functions."""
    found: dict[str, tuple[object, ...]] = {}
    for base, folders, files in os.walk(root):
        for name in (*folders, *files):
            path = Path(base) / name
            info = path.lstat()
            content = os.readlink(path) if path.is_symlink() else path.read_bytes() if path.is_file() else None
            found[str(path.relative_to(root))] = (info.st_mode, info.st_mtime_ns if path.is_file() else 0, content)
    return found


@given(trees, trees)
@settings(max_examples=40, deadline=None)
def test_any_tree_comes_back_into_nothing_and_over_any_other(
    tmp_path_factory: pytest.TempPathFactory,
    wanted: dict[tuple[str, ...], bytes],
    present: dict[tuple[str, ...], bytes],
) -> None:
    base = tmp_path_factory.mktemp("t")
    write_paths(base / "wanted", wanted)
    write_paths(base / "present", present)
    store = Store.create(base / "store")
    entries = read(base / "wanted", store).entries
    restore_tree(FileTree(str(base / "fresh")), entries, {}, store.read)
    assert facts(base / "fresh") == facts(base / "wanted")
    restore_tree(FileTree(str(base / "present")), entries, read(base / "present", store).entries, store.read)
    assert facts(base / "present") == facts(base / "wanted")


def test_links_modes_times_and_empty_folders_come_back(tmp_path: Path, write_tree: WriteTree) -> None:
    root = tmp_path / "site"
    write_tree(root, {"a/run.sh": "#!/bin/sh\n", "b.txt": "x"})
    (root / "a/run.sh").chmod(0o754)
    (root / "empty").mkdir(mode=0o711)
    (root / "link").symlink_to("a/run.sh")
    (root / "dangling").symlink_to("/nowhere/at/all")
    os.utime(root / "b.txt", ns=(1, 1_234_567_891_234_567_891))
    store = Store.create(tmp_path / "store")
    scan = read(root, store)
    restore_tree(FileTree(str(tmp_path / "back")), scan.entries, {}, store.read)
    back = tmp_path / "back"
    assert facts(back) == facts(root)
    assert (back / "b.txt").stat().st_mtime_ns == 1_234_567_891_234_567_891
    assert (back / "a/run.sh").stat().st_mode & 0o777 == 0o754
    assert (back / "empty").stat().st_mode & 0o777 == 0o711
    assert (back / "dangling").is_symlink()


def test_names_that_are_not_utf8_come_back(tmp_path: Path) -> None:
    root = tmp_path / "site"
    root.mkdir()
    odd = os.fsencode(root) + b"/caf\xe9.txt"
    with open(odd, "wb") as out:
        out.write(b"latin")
    store = Store.create(tmp_path / "store")
    scan = read(root, store)
    store.write_document("snapshots", "x", list(scan.entries.values()))
    assert store.read_document("snapshots", "x")[0][0] == os.fsdecode(b"caf\xe9.txt")
    restore_tree(FileTree(str(tmp_path / "back")), scan.entries, {}, store.read)
    assert os.listdir(os.fsencode(tmp_path / "back")) == [b"caf\xe9.txt"]


def test_a_file_larger_than_a_piece_comes_back(tmp_path: Path) -> None:
    root = tmp_path / "site"
    root.mkdir()
    content = os.urandom(1000) * (PIECE_SIZE // 1000) + b"tail" * 1000
    (root / "big").write_bytes(content)
    store = Store.create(tmp_path / "store")
    scan = read(root, store)
    assert len(scan.entries["big"].objects) == 2
    restore_tree(FileTree(str(tmp_path / "back")), scan.entries, {}, store.read)
    assert (tmp_path / "back" / "big").read_bytes() == content


def test_an_untouched_file_is_not_read_again_and_a_touched_one_is(tmp_path: Path, write_tree: WriteTree) -> None:
    root = tmp_path / "site"
    write_tree(root, {"same": "1", "other": "2"})
    store = Store.create(tmp_path / "store")
    time.sleep(0.05)  # a file that was written just now is read again: its times could not tell
    first = read(root, store)
    (root / "other").write_text("3")
    seen: list[bytes] = []
    scan = scan_tree(FileTree(str(root)), WalkRules(NO_RULES))
    read_content(
        FileTree(str(root)), scan, Adding(lambda c: seen.append(c) or "id"), first.entries, store.has, lambda d, t: None
    )  # type: ignore[func-returns-value]
    assert seen == [b"3"]
    assert scan.entries["same"].objects == first.entries["same"].objects


def test_a_file_that_changes_while_it_is_read_is_read_again(
    tmp_path: Path, write_tree: WriteTree, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("keenharbor.host.reading._SMALL", 0)  # small files are read in one go
    root = tmp_path / "site"
    write_tree(root, {"moving": "1", "calm": "x"})
    turns = iter(["22", "333"])

    def add(content: bytes) -> str:
        for text in turns:
            (root / "moving").write_text(text)
            break
        return content.decode()

    scan = scan_tree(FileTree(str(root)), WalkRules(NO_RULES))
    del scan.entries["calm"]
    read_content(FileTree(str(root)), scan, Adding(add), {}, lambda o: True, lambda d, t: None)
    assert scan.entries["moving"].objects == ("333",)
    assert not scan.unstable


def test_a_file_that_keeps_changing_is_told_of(
    tmp_path: Path, write_tree: WriteTree, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("keenharbor.host.reading._SMALL", 0)
    root = tmp_path / "site"
    write_tree(root, {"restless": "1"})
    count = iter(range(2, 100))

    def add(content: bytes) -> str:
        (root / "restless").write_text("x" * next(count))
        return "id"

    scan = scan_tree(FileTree(str(root)), WalkRules(NO_RULES))
    read_content(FileTree(str(root)), scan, Adding(add), {}, lambda o: True, lambda d, t: None)
    assert scan.unstable == ["restless"]


def test_a_file_that_vanishes_is_dropped(tmp_path: Path, write_tree: WriteTree) -> None:
    root = tmp_path / "site"
    write_tree(root, {"a": "1", "b": "2"})
    scan = scan_tree(FileTree(str(root)), WalkRules(NO_RULES))
    (root / "b").unlink()
    read_content(FileTree(str(root)), scan, Adding(lambda c: "id"), {}, lambda o: True, lambda d, t: None)
    assert list(scan.entries) == ["a"]


def test_what_is_left_out_is_listed_and_cached_folders_are_kept_empty(tmp_path: Path, write_tree: WriteTree) -> None:
    root = tmp_path / "site"
    write_tree(
        root, {".git/config": "x", "var/cache/page.html": "x", "var/cache/deep/other.html": "x", "kept.txt": "x"}
    )
    os.mkfifo(root / "pipe")
    scan = scan_tree(FileTree(str(root)), WalkRules(NO_RULES, leave_out=[".git"], empty=["var/cache"]))
    assert sorted(scan.entries) == ["kept.txt", "var", "var/cache", "var/cache/deep"]
    assert sorted(scan.left_out) == [".git", "pipe", "var/cache/deep/other.html", "var/cache/page.html"]


def test_a_missing_root_is_a_clear_error(tmp_path: Path) -> None:
    with pytest.raises(UsageError, match="folder is not there"):
        scan_tree(FileTree(str(tmp_path / "gone")), WalkRules(NO_RULES))


def test_comparing_tells_added_removed_changed_and_modes(tmp_path: Path, write_tree: WriteTree) -> None:
    write_tree(tmp_path / "a", {"same": "1", "gone": "1", "edited": "1", "script": "1"})
    write_tree(tmp_path / "b", {"same": "1", "new": "1", "edited": "2", "script": "1"})
    (tmp_path / "b/script").chmod(0o755)
    store = Store.create(tmp_path / "store")
    found = compare_trees(read(tmp_path / "a", store).entries, read(tmp_path / "b", store).entries)
    assert (found.added, found.removed, found.changed, found.modes) == (("new",), ("gone",), ("edited",), ("script",))
    assert not compare_trees({}, {})


def test_restoring_leaves_what_the_scan_did_not_know(tmp_path: Path, write_tree: WriteTree) -> None:
    root = tmp_path / "site"
    write_tree(root, {"dir/known": "1", "keep/me": "x"})
    store = Store.create(tmp_path / "store")
    present = read(root, store).entries
    write_tree(root, {"dir/late.log": "kept"})
    wanted = {p: e for p, e in present.items() if p.startswith("keep")}
    restore_tree(FileTree(str(root)), wanted, present, store.read)
    assert sorted(facts(root)) == ["dir", "dir/late.log", "keep", "keep/me"]


def touch_in_place(root: Path) -> None:
    (root / "a/one.txt").write_text("One")  # as long as it was


CHANGES: dict[str, Callable[[Path], object]] = {
    "a file is written in place": touch_in_place,
    "a file comes": lambda r: (r / "a/b/new.txt").write_text("new"),
    "a file comes into the root": lambda r: (r / "new.txt").write_text("new"),
    "a file goes": lambda r: (r / "a/b/two.txt").unlink(),
    "a file takes another's place": lambda r: (r / "a/one.txt").replace(r / "a/b/two.txt"),
    "a mode changes": lambda r: (r / "a/one.txt").chmod(0o600),
    "an empty folder comes": lambda r: (r / "empty/deep").mkdir(),
    "a link leads elsewhere": lambda r: ((r / "link").unlink(), (r / "link").symlink_to("a")),
    "the root goes": lambda r: r.rename(r.with_name("gone")),
}


@pytest.mark.parametrize("change", CHANGES)
def test_what_was_touched_since_a_scan_is_noticed(tmp_path: Path, write_tree: WriteTree, change: str) -> None:
    root = tmp_path / "site"
    write_tree(root, {"a/one.txt": "one", "a/b/two.txt": "two"})
    (root / "empty").mkdir()
    (root / "link").symlink_to("empty")
    time.sleep(0.05)
    scan = scan_tree(FileTree(str(root)), WalkRules(NO_RULES))
    assert FileTree(str(root)).still_as_walked(scan)
    CHANGES[change](root)
    assert not FileTree(str(root)).still_as_walked(scan)


def test_a_folder_that_changed_just_before_its_scan_is_not_trusted(tmp_path: Path, write_tree: WriteTree) -> None:
    write_tree(tmp_path, {"a/one.txt": "one"})
    assert not FileTree(str(tmp_path)).still_as_walked(scan_tree(FileTree(str(tmp_path)), WalkRules(NO_RULES)))


@pytest.mark.parametrize("change", ["both", "one went", "the other went", "came apart"])
def test_names_of_one_file_are_put_back_as_such(tmp_path: Path, change: str) -> None:
    """Their content has the size that it had, so only reading tells that it is another."""
    root, store = tmp_path / "site", Store.create(tmp_path / "store")
    (root / "b").mkdir(parents=True)
    (root / "a").write_bytes(b"before")
    (root / "b/second").hardlink_to(root / "a")
    (root / "b/third").hardlink_to(root / "a")
    then = read(root, store)
    (root / "a").write_bytes(b"behind")
    if change == "one went":
        (root / "b/second").unlink()
    elif change == "the other went":
        (root / "a").unlink()
    elif change == "came apart":
        (root / "b/second").unlink()
        (root / "b/second").write_bytes(b"beside")
    time.sleep(0.03)
    restore_tree(FileTree(str(root)), then.entries, read(root, store).entries, store.read)
    names = [root / "a", root / "b/second", root / "b/third"]
    assert [n.read_bytes() for n in names] == [b"before"] * 3
    assert len({n.stat().st_ino for n in names}) == 1
    assert sorted(p.name for p in root.rglob("*") if p.is_file()) == ["a", "second", "third"], "something was left"
