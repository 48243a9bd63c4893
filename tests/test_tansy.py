"""The stand-in system by itself: what it promises to its visitors, and the troubles that are planted in it."""

from __future__ import annotations

import importlib.util
import json
import re
import shutil
import subprocess
import sys
from collections.abc import Iterator
from datetime import date, timedelta
from pathlib import Path
from types import ModuleType
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import query
from keenharbor.clone.mailbox import Mailbox
from keenharbor.compare import Visitor
from keenharbor.compare.visitor import Answer
from keenharbor.database import serialised
from keenharbor.demo.packages import TANSY, installed_at_first, publish
from keenharbor.demo.scene import Host, Scene, set_scene
from keenharbor.demo.visitors import borrow
from keenharbor.site.feed import read_feed


def load(path: Path) -> ModuleType:
    spec = importlib.util.spec_from_file_location(f"tansy_{path.stem}", path)
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


@pytest.fixture(scope="module")
def running(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Scene]:
    scene = set_scene(tmp_path_factory.mktemp("tansy") / "s")
    with Host(scene):
        yield scene


def get(scene: Scene, path: str, fresh: bool = True, **headers: str) -> Answer:
    with Visitor(scene.address, {k.replace("_", "-"): v for k, v in headers.items()}) as visitor:
        return visitor.get(path, fresh)


def tansy(scene: Scene, *words: str, loam: str = "2") -> subprocess.CompletedProcess[str]:
    launcher = scene.runtimes / f"loam-{loam}" / "bin" / "loam"
    return subprocess.run(
        [str(launcher), "tansy.py", *words], cwd=scene.root, capture_output=True, text=True, check=False
    )


def upgrade(scene: Scene, *packages: str) -> None:
    """Unpack releases over the site, as somebody does by hand."""
    feed = read_feed(scene.folder / "feed/feed.json")
    for word in packages:
        name, version = word.rsplit("-", 1)
        base = scene.root if name == "tansy-core" else scene.root / "extensions" / name
        for path, content in feed.package(feed.need(name, version)).files.items():
            (base / path).parent.mkdir(parents=True, exist_ok=True)
            (base / path).write_bytes(content)


@pytest.mark.parametrize(
    ("path", "text"),
    [
        ("/", "Seeds to lend"),
        ("/varieties", "Painted Lady runner bean"),
        ("/varieties/stone-path-thyme", "Packets on the shelf: "),
        ("/varieties/stone-path-thyme", 'id="growers-notes"'),
        ("/calendar", "bring your own envelopes"),
        ("/gallery", "Squash weigh-in"),
        ("/notes", "cite"),
        ("/loans", 'id="borrow"'),
        ("/search?q=bean", "/varieties/"),
        ("/about", "We lend seeds"),
        ("/members", "ML-003"),
        ("/login", 'name="card"'),
    ],
)
def test_pages(running: Scene, path: str, text: str) -> None:
    answer = get(running, path)
    assert answer.status == 200
    assert text in answer.text


def test_there_are_24_seeds_with_pictures(running: Scene) -> None:
    pictures = re.findall(r'src="(/media/seeds/[^"]+)"', get(running, "/varieties").text)
    assert len(set(pictures)) == 24
    for picture in pictures:
        answer = get(running, picture)
        assert (answer.status, answer.header("Content-Type")) == (200, "image/png")
        assert answer.content.startswith(b"\x89PNG")


def test_pages_that_are_not_there(running: Scene) -> None:
    for path in ("/nothing", "/varieties/nothing", "/media/nothing.png", "/media/../settings.ini", "/settings.ini"):
        assert get(running, path).status == 404, path


def test_visitors_who_come_by_another_name_are_sent_home(running: Scene) -> None:
    answer = get(running, "/about", Host="elsewhere.example")
    assert (answer.status, answer.header("Location")) == (301, f"{running.address}/about")


def test_finished_pages_are_kept_and_no_cache_passes_by(running: Scene) -> None:
    get(running, "/notes", fresh=False)
    again = get(running, "/notes", fresh=False)
    assert again.header("X-Page-Cache") == "hit"
    assert get(running, "/notes").header("X-Page-Cache") == ""
    assert get(running, "/loans", fresh=False).header("X-Page-Cache") == "", "a page with a token is not kept"
    assert "cached pages removed" in tansy(running, "purge").stdout
    assert get(running, "/notes", fresh=False).header("X-Page-Cache") == ""


def test_maintenance_locks_visitors_out_but_for_the_pass(running: Scene) -> None:
    flag = running.root / "var/maintenance.flag"
    flag.write_text("word")
    try:
        assert get(running, "/about").status == 503
        assert get(running, "/about", X_Maintenance_Pass="wrong").status == 503
        assert get(running, "/about", X_Maintenance_Pass="word").status == 200
    finally:
        flag.unlink()
    assert get(running, "/about").status == 200


def test_a_loan_is_written_and_mailed(running: Scene) -> None:
    with Mailbox(running.mail_port) as box:
        assert borrow(running.address, "Maren Tull", "long-tom-carrot") == "Lent: Long Tom carrot"
        (mail,) = box.messages
    assert (mail.to, mail.subject) == (("maren.tull@post.example",), "Your loan: Long Tom carrot")
    assert f"{running.address}/varieties/long-tom-carrot" in mail.body
    assert query(running.database, "SELECT name FROM loans ORDER BY id DESC LIMIT 1") == [("Maren Tull",)]
    assert "A seed, a name" in borrow(running.address, "X", "no-such-seed")


def log_in(visitor: Visitor, card: str, password: str) -> Answer:
    token = re.search(r'name="token" value="(\w+)"', visitor.get("/login").text)
    assert token is not None
    return visitor.post("/login", {"token": token[1], "card": card, "password": password})


def test_members_log_in_and_the_admin_edits(running: Scene) -> None:
    with Visitor(running.address) as visitor:
        assert "do not fit" in log_in(visitor, "ML-001", "wrong").text
        assert visitor.get("/account").header("Location") == "/login"
        assert log_in(visitor, "ML-001", "cress-1").header("Location") == "/account"
        assert "Welcome, " in visitor.get("/account").text
        token = re.search(r'name="token" value="(\w+)"', visitor.get("/admin").text)
        assert token is not None
        saved = visitor.post("/admin", {"token": token[1], "about": "<p>We lend seeds, still.</p>", "per_page": "9"})
        assert "Saved." in saved.text
        refused = visitor.post("/admin", {"token": "made up", "about": "gone"})
        assert "Saved." not in refused.text
    assert "We lend seeds, still." in get(running, "/about", fresh=False).text
    assert (
        json.loads(query(running.database, "SELECT value FROM settings WHERE name = 'seed-search'")[0][0])["per_page"]
        == 9
    )
    with Visitor(running.address) as member:
        log_in(member, "ML-003", "cress-3")
        assert member.get("/admin").header("Location") == "/login"


def test_an_error_is_a_page_and_a_line_in_the_log(running: Scene) -> None:
    query(running.database, "ALTER TABLE gallery_pictures RENAME TO hidden")
    try:
        assert get(running, "/gallery").status == 500
    finally:
        query(running.database, "ALTER TABLE hidden RENAME TO gallery_pictures")
    assert "GET /gallery: OperationalError" in (running.root / "var/log/error.log").read_text()


# -- what is planted ------------------------------------------------------------------------------------------


@pytest.fixture
def fresh(tmp_path: Path) -> Scene:
    return set_scene(tmp_path / "s")


def test_the_new_core_asks_for_the_new_runtime(fresh: Scene) -> None:
    assert tansy(fresh, "check").stdout == "all requirements are met\n"
    upgrade(fresh, "tansy-core-4.0")
    refused = tansy(fresh, "check")
    assert (refused.returncode, "needs loam 3.0 or newer" in refused.stderr) == (1, True)
    assert tansy(fresh, "check", loam="3").returncode == 0
    assert tansy(fresh, "version", loam="3").stdout == "4.0\n"


def test_the_migration_of_the_loan_desk_fails_once_and_works_twice(fresh: Scene) -> None:
    upgrade(fresh, "tansy-core-4.0", "loan-desk-3.0")
    first = tansy(fresh, "migrate", "loan-desk", loam="3")
    assert (first.returncode, first.stdout) == (1, "loan-desk: batch of 250 loans done, 170 left: run it again\n")
    second = tansy(fresh, "migrate", "loan-desk", loam="3")
    assert (second.returncode, second.stdout) == (0, "loan-desk: tables are at 30\n")
    assert query(fresh.database, "SELECT count(*) FROM loans WHERE channel IS NULL") == [(0,)]
    assert tansy(fresh, "migrate", "loan-desk", loam="3").stdout == ""


def test_an_update_resets_its_options(fresh: Scene) -> None:
    upgrade(fresh, "seed-search-2.0")
    assert tansy(fresh, "migrate", "seed-search").returncode == 0
    assert (
        json.loads(query(fresh.database, "SELECT value FROM settings WHERE name = 'seed-search'")[0][0])["per_page"]
        == 5
    )


def test_the_old_member_cards_break_on_the_new_runtime(fresh: Scene) -> None:
    (fresh.root / ".runtime").write_text("3\n")
    with Host(fresh):
        assert get(fresh, "/members").status == 404
        assert get(fresh, "/about").status == 200
    log = (fresh.root / "var/log/error.log").read_text()
    assert "extension member-cards could not be loaded: AttributeError: module 'loam' has no attribute 'fold'" in log


def test_the_nightly_task_does_harm_with_the_new_runtime_only(fresh: Scene) -> None:
    def suspended() -> int:
        return int(query(fresh.database, "SELECT count(*) FROM members WHERE suspended = 1")[0][0])

    # Late in a month most days look later than that, as texts that begin with the day.
    day = next(d for n in range(31) if (d := date.today() + timedelta(days=n)).day == 28)
    assert "overdue-notices: 0 borrowers are overdue" in tansy(fresh, "nightly", "--today", f"{day}").stdout
    assert suspended() == 0
    tansy(fresh, "nightly", "--today", f"{day}", loam="3")
    assert suspended() > 30


def test_extensions_are_switched(fresh: Scene) -> None:
    assert tansy(fresh, "extension", "off", "home-address").stdout == "home-address is off\n"
    assert tansy(fresh, "extension", "off", "nothing").returncode == 1
    assert query(fresh.database, "SELECT enabled FROM extensions WHERE name = 'home-address'") == [(0,)]


def test_a_picture_rail_takes_over_the_pictures(fresh: Scene) -> None:
    upgrade(fresh, "picture-rail-1.0")
    assert tansy(fresh, "migrate", "picture-rail").returncode == 0
    assert query(fresh.database, "SELECT count(*) FROM rail_pictures") == query(
        fresh.database, "SELECT count(*) FROM gallery_pictures"
    )
    assert query(fresh.database, "SELECT enabled FROM extensions WHERE name = 'picture-rail'") == [(1,)]


values = st.recursive(
    st.none() | st.booleans() | st.integers(-(10**9), 10**9) | st.text(max_size=12),
    lambda inner: st.dictionaries(
        st.text(min_size=1, max_size=6).filter(lambda k: not k.isdigit()), inner, min_size=1, max_size=4
    ),
    max_leaves=10,
)


@given(values)
def test_two_programs_agree_on_serialised_values(value: Any) -> None:
    """Tansy's own reader and the tool's share no code."""
    theirs = load(TANSY / "core_common/core/serial.py")
    text = theirs.dump(value)
    assert theirs.load(text) == value
    assert serialised.plain(serialised.parse(text)) == value
    assert theirs.load(serialised.write(serialised.from_plain(value))) == value


def test_packages_are_the_same_at_each_run_and_hold_no_marker_files(tmp_path: Path) -> None:
    one, two = publish(tmp_path / "a").parent, publish(tmp_path / "b").parent
    assert {p.name: p.read_bytes() for p in one.iterdir()} == {p.name: p.read_bytes() for p in two.iterdir()}
    feed = read_feed(one / "feed.json")
    for release in feed.releases:
        files = feed.package(release).files
        assert files
        assert not [p for p in files if p.endswith("__init__.py")]
    assert len([r for r in feed.releases if r.kind == "core"]) == 2
    assert {r.facts["version"] for r in installed_at_first() if r.facts["kind"] == "core"} == {"3.4"}


def test_the_stand_in_runs_without_the_tool(fresh: Scene, tmp_path: Path) -> None:
    """Copied elsewhere, with an interpreter that knows no installed package."""
    copy = tmp_path / "elsewhere"
    shutil.copytree(fresh.root, copy)
    launcher = fresh.runtimes / "loam-2"
    done = subprocess.run(
        [sys.executable, "-I", "-S", "-B", str(launcher / "launch.py"), "tansy.py", "check"],
        cwd=copy,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.stdout == "all requirements are met\n"
    for file in [*copy.rglob("*.py"), *launcher.rglob("*.py")]:
        assert "keenharbor" not in file.read_text().lower(), file
