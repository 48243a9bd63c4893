"""Site files, feeds, packages, surveys and judgements: what is read is right, what is wrong is told with file and
line."""

from __future__ import annotations

import hashlib
import io
import json
import re
import tarfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from packaging.version import Version

from conftest import harbor, plain_files, query, state_of
from keenharbor.base.errors import DamagedError, KeenHarborError, UsageError
from keenharbor.base.text import age, duration, now, parse_stamp, plural, shorten, size, stamp
from keenharbor.demo.scene import Scene, set_scene
from keenharbor.judge.choices import Choice
from keenharbor.judge.readiness import judge
from keenharbor.site.checks import Verdict
from keenharbor.site.edits import local_edits
from keenharbor.site.feed import PACKAGE_FACTS, Feed, FeedModel, allows, read_feed, read_package
from keenharbor.site.load import open_site
from keenharbor.site.settings import values_in, with_value
from keenharbor.site.survey import survey_site
from keenharbor.site.toml import find_line
from keenharbor.site.view import SiteView
from keenharbor.site.whereabouts import merged


def feed_of(site: SiteView) -> Feed:
    assert site.model.feed is not None
    return read_feed(site.site_file.parent / str(site.model.feed.path))


# -- the site file --------------------------------------------------------------------------------------------


def test_what_the_site_file_says_wins_over_the_platform_file() -> None:
    below = {"a": {"x": 1, "y": 2}, "list": [1, 2], "only": 1}
    above = {"a": {"y": 3}, "list": [9]}
    assert merged(below, above) == {"a": {"x": 1, "y": 3}, "list": [9], "only": 1}


def line_with(file: Path, text: str) -> int:
    return next(n for n, line in enumerate(file.read_text().splitlines(), 1) if text in line)


@pytest.mark.parametrize(
    ("old", "new", "said", "at"),
    [
        (
            'address = "http',
            'adress = "http',
            "'site.adress': this key is not known; did you mean 'address'?",
            "adress",
        ),
        ('name = "marrow-lane"', 'name = "Marrow Lane"', "'site.name'", "Marrow Lane"),
        ("format = 1", "format = 2", "'format'", "format = 2"),
        ("[store]", "[stoer]", "'stoer': this key is not known; did you mean 'store'?", "[stoer]"),
        ('address = "http://', 'address = "ftp://', "'site.address'", "ftp"),
        ("[site]", "[site", "not valid TOML", "[site"),
        (
            '{ get = "/search?q=sow"',
            '{ get = "/search?q=sow", selector = "main ["',
            "selector': this is no CSS selector",
            "selector",
        ),
    ],
)
def test_a_wrong_key_is_told_with_file_and_line(scene: Scene, old: str, new: str, said: str, at: str) -> None:
    text = scene.site_file.read_text()
    assert old in text
    scene.site_file.write_text(text.replace(old, new, 1))
    ran = harbor(scene.folder, "survey", code=2)
    assert said in ran.err
    assert f"keenharbor.toml:{line_with(scene.site_file, at)}" in ran.err


def test_a_wrong_platform_file_is_blamed_itself(scene: Scene) -> None:
    platform = scene.folder / "tansy.toml"
    platform.write_text(platform.read_text().replace("version_file", "version_fil", 1))
    ran = harbor(scene.folder, "survey", code=2)
    assert "platform file, 'core.version_fil': this key is not known; did you mean 'version_file'?" in ran.err
    assert "tansy.toml" in ran.err


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (lambda s: s.site_file.unlink(), "there is no site file here"),
        (lambda s: s.root.rename(s.folder / "moved"), "the site's folder is not there"),
        (lambda s: s.database.unlink(), "the database is not there"),
        (lambda s: (s.root / "settings.ini").unlink(), "the settings file is not there"),
        (lambda s: (s.root / "settings.ini").write_text("no section"), "settings file cannot be read"),
        (lambda s: (s.folder / "feed/feed.json").write_text('{"format": 1, "releases": [{}]}'), "the feed is wrong at"),
        (lambda s: (s.folder / "feed/feed.json").unlink(), "the feed is not there"),
        (lambda s: (s.folder / "tansy.toml").unlink(), "there is no platform file here"),
        (lambda s: (s.root / "core/VERSION").write_text("none"), "the core's version cannot be read"),
        (lambda s: s.database.write_text("not a database, but text"), "not an SQLite database"),
    ],
)
def test_what_is_missing_or_wrong_is_one_clear_error(scene: Scene, change: Callable[[Scene], Any], said: str) -> None:
    change(scene)
    ran = harbor(scene.folder, "survey", code=2)
    assert said in ran.err
    assert ran.out == ""
    told = harbor(scene.folder, "survey", "--json", code=2)
    assert said in told.json["error"]["what"]
    assert told.json["error"]["exit_code"] == 2


def test_a_store_inside_the_web_root_is_refused(scene: Scene) -> None:
    scene.site_file.write_text(
        scene.site_file.read_text().replace('path = "harbor/store"', 'path = "site/media/store"')
    )
    before = state_of(scene)
    ran = harbor(scene.folder, "snapshot", "take", code=2)
    assert "inside the site's folder" in ran.err
    assert state_of(scene) == before
    assert not (scene.root / "media/store").exists()


def test_lines_of_keys_are_found() -> None:
    text = "a = 1\n[t]\nb = 2\n[[s]]\nname = 'x'\n[[s]]\nname = 'y'\n"
    assert [
        find_line(text, k) for k in (["a"], ["t", "b"], ["t", "none"], ["s", 1, "name"], ["s", 0, "zz"], ["no"])
    ] == [1, 3, 2, 7, 4, None]


# -- init -----------------------------------------------------------------------------------------------------


def test_init_tells_what_was_read_and_what_was_guessed(tmp_path: Path) -> None:
    made = set_scene(tmp_path / "s")
    told = harbor(made.folder, "init", "site", "--platform", "tansy.toml", "--json").json
    found = {e["key"]: e for e in told["entries"]}
    assert found["site.address"]["value"] == made.address
    assert (
        found["site.address"]["evidence"]
        == f"settings.ini:{line_with(made.root / 'settings.ini', 'address =')}, site.address"
    )
    assert found["core"]["value"] == "Tansy 3.4"
    assert found["runtime"]["value"] == "loam 2"
    assert found["database"]["value"] == str(made.database)
    assert found["site.name"] == {
        "key": "site.name", "value": "marrow-lane-seed-library", "sure": "guessed",
        "evidence": "guessed from the title",
    }  # fmt: skip
    assert found["runtime.launchers"]["sure"] == "not found"
    assert open_site(made.site_file).address == made.address


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("feed",), "this is no site on Tansy"),
        (("nowhere",), "the site's folder is not there"),
        (("site", "--out", "site/keenharbor.toml"), "would lie inside the site's folder"),
        (("site", "--launcher", "3"), "VERSION=PROGRAM is wanted"),
    ],
)
def test_init_refuses_what_cannot_be(tmp_path: Path, words: tuple[str, ...], said: str) -> None:
    made = set_scene(tmp_path / "s")
    ran = harbor(made.folder, "init", *words, "--platform", "tansy.toml", code=2)
    assert said in ran.err
    assert not made.site_file.exists()
    assert not (made.root / "keenharbor.toml").exists()


def test_init_does_not_write_over_a_site_file(scene: Scene) -> None:
    before = scene.site_file.read_text()
    ran = harbor(scene.folder, "init", "site", "--platform", "tansy.toml", code=2)
    assert "--force" in ran.err
    assert scene.site_file.read_text() == before
    harbor(scene.folder, "init", "site", "--platform", "tansy.toml", "--force")


# -- settings files -------------------------------------------------------------------------------------------


def test_a_key_is_set_and_everything_else_stays() -> None:
    text = "; remark\n[a]\nkey = old ; not a remark\nother: x\n\n[b]\nkey=1\n"
    done = with_value(text, "b.key", "2")
    assert done == text.replace("key=1", "key=2")
    assert with_value(text, "a.other", "y/z") == text.replace("other: x", "other: y/z")
    with pytest.raises(KeyError):
        with_value(text, "c.key", "2")
    assert values_in(done, "ini", Path("x"))["b.key"] == "2"


# -- feed and packages ----------------------------------------------------------------------------------------


def archive(
    path: Path, files: dict[str, bytes], facts: dict[str, Any] | None = None, names: dict[str, str] | None = None
) -> str:
    told = facts or {"name": "p", "version": "1", "files": {n: hashlib.sha256(c).hexdigest() for n, c in files.items()}}
    with tarfile.open(path, "w:gz") as tar:
        for name, content in {PACKAGE_FACTS: json.dumps(told).encode(), **files}.items():
            info = tarfile.TarInfo((names or {}).get(name, name))
            info.size = len(content)
            tar.addfile(info, io.BytesIO(content))
    return hashlib.sha256(path.read_bytes()).hexdigest()


def test_a_sound_package_is_read(tmp_path: Path) -> None:
    sums = archive(tmp_path / "p.tar.gz", {"a.py": b"1", "b/c.py": b"2"})
    assert read_package(tmp_path / "p.tar.gz", sums).files == {"a.py": b"1", "b/c.py": b"2"}


@pytest.mark.parametrize("name", ["../up.py", "/etc/passwd", "a/../../b"])
def test_a_package_that_climbs_out_is_refused(tmp_path: Path, name: str) -> None:
    archive(tmp_path / "p.tar.gz", {"a.py": b"1"}, names={"a.py": name})
    with pytest.raises(DamagedError, match="does not belong in a package"):
        read_package(tmp_path / "p.tar.gz")


def test_links_and_wrong_sums_are_refused(tmp_path: Path) -> None:
    with tarfile.open(tmp_path / "l.tar.gz", "w:gz") as tar:
        info = tarfile.TarInfo("link")
        info.type, info.linkname = tarfile.SYMTYPE, "/etc"
        tar.addfile(info)
    with pytest.raises(DamagedError, match="does not belong"):
        read_package(tmp_path / "l.tar.gz")
    archive(tmp_path / "w.tar.gz", {"a.py": b"1"}, {"name": "p", "version": "1", "files": {"a.py": "0" * 64}})
    with pytest.raises(DamagedError, match="not what it lists: a.py"):
        read_package(tmp_path / "w.tar.gz")
    with pytest.raises(DamagedError, match="SHA-256"):
        read_package(tmp_path / "w.tar.gz", "0" * 64)


def test_a_damaged_package_is_one_clear_error_and_changes_nothing(scene: Scene) -> None:
    package = scene.folder / "feed" / "seed-search-1.4.tar.gz"
    raw = bytearray(package.read_bytes())
    raw[len(raw) // 2] ^= 1
    package.write_bytes(raw)
    told = harbor(scene.folder, "survey", "--json").json
    assert any("seed-search 1.4: the package is damaged" in note for note in told["unchecked"])


@pytest.mark.parametrize(
    ("range_", "version", "expected"),
    [
        (">=3.0,<4.0", "3.4", True),
        (">=3.0,<4.0", "4.0", False),
        ("", "9", True),
        (">=3", "3", True),
        (">=3.4", "3.10", True),
    ],
)
def test_ranges(range_: str, version: str, expected: bool) -> None:
    assert allows(range_, version) is expected


def test_wrong_versions_and_ranges_are_errors() -> None:
    for range_, version in ((">=x y", "1"), (">=1", "latest!")):
        with pytest.raises(UsageError):
            allows(range_, version)


def test_the_newest_release_that_fits_is_found(site: SiteView) -> None:
    feed = feed_of(site)
    fits = {name: feed.newest_for(name, "4.0", "3") for name in ("loan-desk", "gallery-wall", "growers-notes")}
    assert [r.version if r else None for r in fits.values()] == ["3.0", None, "1.2"]
    assert [r.order for r in feed.of("tansy-core")] == [Version("3.4"), Version("4.0")]
    with pytest.raises(UsageError, match=r"no tansy-core 5.0 \(it has: 3.4, 4.0\)"):
        feed.need("tansy-core", "5.0")


def test_the_feed_fits_its_published_schema(shared_scene: Scene) -> None:
    import jsonschema

    schema = json.loads((Path(__file__).parents[1] / "docs" / "feed.schema.json").read_text())
    assert schema == FeedModel.model_json_schema(), "make it anew: python docs/make_schema.py"
    jsonschema.validate(json.loads((shared_scene.folder / "feed/feed.json").read_text()), schema)


# -- survey and readiness -------------------------------------------------------------------------------------


def test_the_survey_says_what_the_site_is_made_of(site: SiteView, shared_scene: Scene) -> None:
    before = state_of(shared_scene)
    found = survey_site(site, feed_of(site), None)
    assert (found.core, found.core_newest, found.runtime, found.engine) == ("3.4", "4.0", "loam 2", "sqlite")
    by_name = {i.component.name: i for i in found.installations}
    assert by_name["loan-desk"].update_pending
    assert by_name["loan-desk"].newest == "3.0"
    assert by_name["gallery-wall"].replaced_by == "picture-rail"
    assert by_name["gallery-wall"].component.on is True
    assert not by_name["growers-notes"].update_pending
    assert found.tables["loans"] == query(shared_scene.database, "SELECT count(*) FROM loans")[0][0]
    files = [p for p in shared_scene.root.rglob("*") if p.is_file() and "var/cache" not in str(p)]
    assert sum(n for n, _ in found.areas.values()) == len(files)
    assert sum(b for _, b in found.areas.values()) == sum(p.stat().st_size for p in files)
    assert state_of(shared_scene) == before


def test_local_edits_are_found_with_their_difference(site: SiteView) -> None:
    (edit,), unchecked = local_edits(site, feed_of(site))
    assert (edit.package, edit.path, edit.removed) == ("events-calendar", "extensions/events-calendar/main.py", False)
    assert '+    if "swap" in event["title"].lower():' in edit.diff
    assert unchecked == []


def verdicts(site: SiteView, core: str | None, runtime: str | None, **chosen: str) -> dict[str, Verdict]:
    decided = {k.replace("_", "-"): Choice.of(v) for k, v in chosen.items()}
    return {c.subject: c.verdict for c in judge(site, feed_of(site), core, runtime, decided, None).checks}


def test_what_stands_in_the_way_is_named(site: SiteView) -> None:
    alone = verdicts(site, "4.0", None)
    assert alone["runtime"] == alone["extension gallery-wall"] == alone["extension loan-desk"] == Verdict.BLOCKED
    both = verdicts(site, "4.0", "3")
    assert both["runtime"] == both["local edits of events-calendar"] == Verdict.CAUTION
    assert [s for s, v in both.items() if v == Verdict.BLOCKED] == ["extension gallery-wall"]
    decided = verdicts(site, "4.0", "3", gallery_wall="replace-by:picture-rail")
    assert Verdict.BLOCKED not in decided.values()
    assert verdicts(site, "4.0", "3", loan_desk="keep")["extension loan-desk"] == Verdict.BLOCKED
    assert verdicts(site, "4.0", "3", gallery_wall="remove")["extension gallery-wall"] == Verdict.CAUTION
    assert verdicts(site, None, None)["core"] == Verdict.CLEAR
    assert verdicts(site, None, "9")["runtime"] == Verdict.BLOCKED


def test_checks_come_worst_first(site: SiteView) -> None:
    ranks = [c.verdict.rank for c in judge(site, feed_of(site), "4.0", "3", {}, None).checks]
    assert ranks == sorted(ranks)


def test_decisions_that_cannot_be_are_refused(site: SiteView) -> None:
    feed = feed_of(site)
    for chosen in ({"nothing": "keep"}, {"loan-desk": "9.9"}, {"gallery-wall": "replace-by:nothing"}):
        with pytest.raises(UsageError):
            judge(site, feed, "4.0", "3", {n: Choice.of(c) for n, c in chosen.items()}, None)


def test_ready_as_a_command(shared_scene: Scene) -> None:
    ran = harbor(shared_scene.folder, "ready", "--core", "4.0", "--runtime", "3", code=1)
    assert "✗ BLOCKED" in ran.out
    assert "replace-by:picture-rail" in re.sub(r"\s", "", ran.out)
    told = harbor(shared_scene.folder, "ready", "--core", "4.0", "--runtime", "3", "--json", code=1).json
    assert told["verdict"] == "blocked"
    assert next(d for d in told["decisions"] if d["name"] == "gallery-wall")["open"] is True
    assert harbor(shared_scene.folder, "ready", "--core", "7", code=2).err.startswith("✗ the feed has no tansy-core 7")
    assert "NAME=DECISION" in harbor(shared_scene.folder, "ready", "--extension", "x", code=2).err


def test_secrets_are_not_shown(shared_scene: Scene) -> None:
    secret = values_in((shared_scene.root / "settings.ini").read_text(), "ini", Path("x"))["site.secret"]
    for words in (("survey", "--json"), ("ready", "--core", "4.0", "--json")):
        assert secret not in harbor(shared_scene.folder, *words, code=None).out


# -- figures for people ---------------------------------------------------------------------------------------


def test_figures() -> None:
    assert [size(n) for n in (0, 999, 1024, 1536, 150 * 1024, 5 * 1024**3)] == [
        "0 B",
        "999 B",
        "1.0 KiB",
        "1.5 KiB",
        "150 KiB",
        "5.0 GiB",
    ]
    assert [plural(n, "row") for n in (0, 1, 1204)] == ["0 rows", "1 row", "1,204 rows"]
    assert [duration(s) for s in (0.084, 3.21, 245)] == ["84 ms", "3.2 s", "4 min 05 s"]
    moment = parse_stamp("2026-01-02T03:04:05.678Z")
    assert stamp(moment) == "2026-01-02T03:04:05.678Z"
    assert age(now()) == "just now"
    for text, later in (("3 hours ago", "06:10"), ("10 minutes ago", "03:14")):
        assert age(moment, parse_stamp(f"2026-01-02T{later}:05Z")) == text
    assert age(moment, parse_stamp("2026-01-12T03:04:05Z")) == "10 days ago"
    assert age(moment, parse_stamp("2029-01-12T03:04:05Z")) == "3 years ago"
    assert shorten("a  b\nc", 10) == "a b c"
    assert shorten("abcdefgh", 5) == "abcd…"


def test_errors_carry_what_where_and_advice() -> None:
    told = KeenHarborError("it broke", where="/x", line=7, advice="mend it", details=["here", "there"]).as_json()
    assert told == {
        "kind": "failed", "what": "it broke", "where": "/x:7", "advice": "mend it", "details": ["here", "there"],
        "exit_code": 3,
    }  # fmt: skip


def test_the_scene_is_the_same_each_time(tmp_path: Path) -> None:
    one, two = set_scene(tmp_path / "a"), set_scene(tmp_path / "b")
    first, second = plain_files(one.root), plain_files(two.root)
    assert first.keys() == second.keys()
    assert [p for p in first if first[p] != second[p]] == ["settings.ini"]
    assert sorted(p.name for p in (one.folder / "feed").iterdir()) == sorted(
        p.name for p in (two.folder / "feed").iterdir()
    )
    with pytest.raises(UsageError, match="not empty"):
        (tmp_path / "mine").mkdir()
        (tmp_path / "mine" / "file").write_text("x")
        set_scene(tmp_path / "mine")
