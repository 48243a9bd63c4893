"""Plans, steps, clones and trials on the made-up site."""

from __future__ import annotations

import json
import re
import signal
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import tomlkit

from conftest import PROGRAM, environment, fits_the_schema, harbor, plain_dump, query, state_of
from keenharbor.clone.clone import Clone
from keenharbor.clone.mailbox import Mailbox
from keenharbor.clone.making import make_clone, open_clone
from keenharbor.demo.amend import amended
from keenharbor.demo.scene import Scene
from keenharbor.host.ports import port_is_taken
from keenharbor.site.feed import Feed, Package, read_feed
from keenharbor.site.load import open_site
from keenharbor.site.writable import Writable
from keenharbor.snapshot import find_snapshot
from keenharbor.store import Store
from keenharbor.trial import steps as kinds
from keenharbor.trial.plan import Plan, read_plan
from keenharbor.trial.steps import Outcome, Workplace, perform

# -- plans ----------------------------------------------------------------------------------------------------


def test_a_drafted_plan_says_why_and_can_be_read(scene: Scene) -> None:
    told = harbor(scene.folder, "plan", "draft", "--core", "4.0", "--runtime", "3", "--json").json
    assert told["open"] == ["gallery-wall"]
    text = (scene.folder / "upgrade.toml").read_text()
    assert "# STILL OPEN: gallery-wall" in text
    assert "# Edited here by hand: extensions/events-calendar/main.py" in text
    names = [s.name for s in read_plan(scene.folder / "upgrade.toml").step]
    assert names == [
        "update-events-calendar",
        "update-member-cards",
        "update-seed-search",
        "runtime",
        "core",
        "update-loan-desk",
        "check",
    ]
    shown = harbor(scene.folder, "plan", "show").out
    assert "switch the runtime to 3" in shown
    assert "there is a plan already" in harbor(scene.folder, "plan", "draft", "--core", "4.0", code=2).err


def test_decisions_become_steps(scene: Scene) -> None:
    words = ("--extension", "gallery-wall=replace-by:picture-rail", "--extension", "home-address=remove")
    harbor(scene.folder, "plan", "draft", "--core", "4.0", "--runtime", "3", *words)
    steps = {s.name: s for s in read_plan(scene.folder / "upgrade.toml").step}
    replacing, removing = steps["replace-gallery-wall"], steps["remove-home-address"]
    assert isinstance(replacing, kinds.PackageStep)
    assert (replacing.package, replacing.replaces) == ("picture-rail", "gallery-wall")
    assert isinstance(removing, kinds.RemoveStep)
    assert removing.uninstall == "home-address"


def test_nothing_to_do_is_said(scene: Scene) -> None:
    decided = [w for n in ("events-calendar", "member-cards", "seed-search") for w in ("--extension", f"{n}=keep")]
    assert "nothing to do" in harbor(scene.folder, "plan", "draft", *decided, code=2).err
    assert not (scene.folder / "upgrade.toml").exists()


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('[[step]]\nname = "a"\nkind = "dance"', "kind"),
        (
            '[[step]]\nname = "a"\nkind = "runtime"\nversion = "3"\nretires = 2',
            "'step.0.runtime.retires': this key is not known",
        ),
        ('[[step]]\nname = "a"\nkind = "runtime"', "version"),
        (
            '[[step]]\nname = "a"\nkind = "purge-cache"\n[[step]]\nname = "a"\nkind = "purge-cache"',
            "two steps of the plan are named 'a'",
        ),
        ("", "'step': this key is missing"),
    ],
)
def test_a_wrong_plan_is_told(tmp_path: Path, text: str, said: str) -> None:
    file = tmp_path / "upgrade.toml"
    file.write_text(f'format = 1\n[plan]\nsite = "x"\ncore = "1"\nruntime = "1"\n{text}\n')
    ran = harbor(tmp_path, "plan", "show", code=2)
    assert said in ran.err
    assert "upgrade.toml" in ran.err
    assert "there is no plan here" in harbor(tmp_path, "plan", "show", "other.toml", code=2).err


def test_comments_do_not_make_another_plan(tmp_path: Path) -> None:
    text = 'format = 1\n[plan]\nsite = "x"\ncore = "1"\nruntime = "1"\n[[step]]\nname = "a"\nkind = "purge-cache"\n'
    digests = set()
    for number, version in enumerate((text, "# remark\n" + text, text.replace('"a"', '"b"'))):
        (tmp_path / f"{number}.toml").write_text(version)
        digests.add(read_plan(tmp_path / f"{number}.toml").digest)
    assert len(digests) == 2


# -- clones and steps -----------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def clone(shared_scene: Scene) -> Iterator[tuple[Clone, Feed]]:
    """A clone with its server running, for steps that do not disturb each other."""
    scene = shared_scene
    harbor(scene.folder, "snapshot", "take")
    site = open_site(scene.site_file)
    snapshot = find_snapshot(Store(site.store_folder), "newest")
    with Mailbox() as box:
        made = make_clone(site, snapshot, "test", mail_port=box.port)
        with made:
            yield made, read_feed(scene.folder / "feed/feed.json")
        made.drop()


def live_words(scene: Scene) -> list[bytes]:
    """All that would lead a clone to live, in the forms in which it may stand."""
    words = [scene.address, f"127.0.0.1:{scene.port}", str(scene.root), str(scene.database)]
    return [f.encode() for w in words for f in (w, w.replace("/", "\\/"), w.replace(":", "%3A").replace("/", "%2F"))]


def traces(scene: Scene, clone: Clone) -> list[str]:
    """Where anything of live stands in a clone's files and database; a search of its own."""
    found = []
    for path in clone.folder.rglob("*"):
        if path.is_file() and path.name != "clone.json" and path.suffix != ".db":
            found += [f"{path}: {w!r}" for w in live_words(scene) if w in path.read_bytes()]
    dump = "\n".join(plain_dump(Path(clone.facts.database))).encode()
    return found + [f"database: {w!r}" for w in live_words(scene) if w in dump]


def test_nothing_of_live_is_left_in_a_clone(shared_scene: Scene, clone: tuple[Clone, Feed]) -> None:
    made, _ = clone
    assert traces(shared_scene, made) == []
    assert sum(made.facts.rewritten_cells.values()) == 4
    settings = made.site.settings()
    assert settings["site.address"] == made.address
    assert settings["database.path"] == made.facts.database
    assert settings["mail.port"] != str(shared_scene.mail_port)
    cell = query(Path(made.facts.database), "SELECT value FROM settings WHERE name = 'blocks.placement'")[0][0]
    link = f"{made.address}/notes"
    assert f's:{len(link)}:"{link}"' in cell, "the length was not made anew"


def test_the_clone_keeps_its_visitors(clone: tuple[Clone, Feed]) -> None:
    from keenharbor.compare import Visitor

    made, _ = clone
    with Visitor(made.address, {"Host": "another.example"}) as visitor:
        answer = visitor.get("/about")
    assert answer.status == 301
    assert answer.header("Location") == f"{made.address}/about"


def do(clone: tuple[Clone, Feed], **values: Any) -> Outcome:
    made, feed = clone
    step = read_step({"name": "s", "retry_pause": 0, **values})
    return perform(step, Workplace(made.site, feed, made.address))


def read_step(values: dict[str, Any]) -> Any:
    plan = {"format": 1, "plan": {"site": "x", "core": "1", "runtime": "1"}, "step": [values]}
    return Plan.model_validate(plan).step[0]


def test_a_command_is_good_by_code_and_text(clone: tuple[Clone, Feed]) -> None:
    assert do(clone, kind="command", command=["{runtime}", "tansy.py", "version"], text="3.4").problem is None
    assert "did not print" in (
        do(clone, kind="command", command=["{runtime}", "tansy.py", "version"], text="9").problem or ""
    )
    assert "ended with code 3: last words" in (
        do(clone, kind="command", command=["sh", "-c", "echo last words; exit 3"]).problem or ""
    )
    assert do(clone, kind="command", command=["sh", "-c", "exit 3"], success=[3]).problem is None
    slow = do(clone, kind="command", command=["sleep", "60"], time_limit=0.3)
    assert "was stopped after" in (slow.problem or "")
    assert slow.seconds < 10
    assert "No such file" in (do(clone, kind="command", command=["/nowhere/program"]).problem or "")


def test_a_step_is_tried_again_as_often_as_it_says(clone: tuple[Clone, Feed], tmp_path: Path) -> None:
    script = f"echo x >> {tmp_path}/tries; test $(wc -l < {tmp_path}/tries) -ge 3"
    assert do(clone, kind="command", command=["sh", "-c", script], retries=1).tries == 2
    (tmp_path / "tries").unlink()
    third = do(clone, kind="command", command=["sh", "-c", script], retries=5)
    assert (third.problem, third.tries) == (None, 3)


def test_requests_settings_and_sql(clone: tuple[Clone, Feed]) -> None:
    made, _ = clone
    assert do(clone, kind="request", path="/about", text="We lend seeds").problem is None
    assert "status 404, expected 200" in (do(clone, kind="request", path="/nothing").problem or "")
    assert do(clone, kind="setting", file="site.name", value="Renamed").problem is None
    assert made.site.settings()["site.name"] == "Renamed"
    assert "has no 'site.nothing'" in (do(clone, kind="setting", file="site.nothing", value="x").problem or "")
    changed = do(clone, kind="setting", database="blocks.placement", key="growers-notes.kinds.0", value="herb")
    assert (changed.problem, changed.settings) == (None, ("blocks.placement.growers-notes.kinds.0",))
    cell = query(Path(made.facts.database), "SELECT value FROM settings WHERE name = 'blocks.placement'")[0][0]
    assert 'i:0;s:4:"herb"' in cell
    assert "has no 'zzz'" in (
        do(clone, kind="setting", database="blocks.placement", key="zzz", value="x").problem or ""
    )
    assert "1 rows changed" in do(clone, kind="sql", sql="UPDATE pages SET title = 'T' WHERE slug = 'about'").output
    assert "refused" in (do(clone, kind="sql", sql="UPDATE nowhere SET x = 1").problem or "")


def test_extensions_are_switched_and_removed(clone: tuple[Clone, Feed]) -> None:
    made, _ = clone
    assert do(clone, kind="extension", extension="home-address", on=False).problem is None
    states = {c.name: c.on for c in made.site.components()}
    assert (states["home-address"], states["loan-mail"]) == (False, True)
    assert do(clone, kind="remove", uninstall="home-address").problem is None
    assert not (Path(made.site.place) / "extensions/home-address").exists()
    assert "there is no extension 'home-address'" in (do(clone, kind="remove", uninstall="home-address").problem or "")
    assert "no path fits" in (do(clone, kind="remove", paths=["nothing/*"]).problem or "")
    (Path(made.site.place) / "var/strays").mkdir()
    (Path(made.site.place) / "var/strays/x").write_text("x")
    assert do(clone, kind="remove", paths=["var/strays"]).problem is None
    assert not (Path(made.site.place) / "var/strays").exists()


def test_an_edit_that_the_release_wipes_is_told_and_one_that_is_carried_stays(clone: tuple[Clone, Feed]) -> None:
    made, _ = clone
    file = Path(made.site.place) / "extensions/events-calendar/main.py"
    before = file.read_text()
    carried = do(clone, kind="package", package="events-calendar", version="2.0", carry_local_edits=True)
    assert (carried.problem, carried.wiped) == (None, ())
    assert "bring your own envelopes" in file.read_text()
    assert "Since 2.0" in file.read_text()
    assert carried.versions == {"1.3": "2.0"}
    back = do(clone, kind="package", package="events-calendar", version="1.3")
    assert [path for path, _ in back.wiped] == ["extensions/events-calendar/main.py"]
    file.write_text(before.replace('"""Events at /calendar."""', '"""Our own calendar."""'))
    conflict = do(clone, kind="package", package="events-calendar", version="2.0", carry_local_edits=True)
    assert "cannot be carried over: the release and the edit both changed the lines from 1 on" in (
        conflict.problem or ""
    )
    assert "Our own calendar" in file.read_text(), "a conflict changes nothing"


def test_a_damaged_package_is_refused_before_anything_is_written(clone: tuple[Clone, Feed]) -> None:
    made, feed = clone
    package = feed.folder / "member-cards-1.5.tar.gz"
    sound = package.read_bytes()
    package.write_bytes(sound[:-30] + b"x" * 30)
    before = (Path(made.site.place) / "extensions/member-cards/main.py").read_text()
    try:
        refused = do(clone, kind="package", package="member-cards", version="1.5")
    finally:
        package.write_bytes(sound)
    assert "the package is damaged: its SHA-256 is not the one in the feed" in (refused.problem or "")
    assert (Path(made.site.place) / "extensions/member-cards/main.py").read_text() == before


def test_settings_are_kept_when_a_release_resets_them(clone: tuple[Clone, Feed]) -> None:
    made, _ = clone
    database = Path(made.facts.database)
    assert (
        do(clone, kind="package", package="seed-search", version="2.0", keep_settings=["seed-search"]).problem is None
    )
    assert json.loads(query(database, "SELECT value FROM settings WHERE name = 'seed-search'")[0][0]) == {
        "per_page": 12,
        "notes_too": True,
    }
    missing = do(clone, kind="package", package="seed-search", version="2.0", keep_settings=["no-such"])
    assert "there was no setting 'no-such' to keep" in (missing.problem or "")
    assert "the feed has no seed-search 9" in (
        do(clone, kind="package", package="seed-search", version="9").problem or ""
    )


def test_a_further_try_goes_by_what_the_first_one_found(clone: tuple[Clone, Feed], tmp_path: Path) -> None:
    """The first try breaks off with half of the files in place, the second behind a migration that resets a setting."""
    made, feed = clone
    database, folder = Path(made.facts.database), Path(made.site.place) / "extensions/loan-mail"
    query(database, "UPDATE settings SET value = 'ours' WHERE name = 'desk.greeting'")
    package = feed.package(feed.need("loan-mail", "1.1"))
    newer = Package(
        "loan-mail",
        "9.0",
        {**package.files, "extension.ini": package.files["extension.ini"].replace(b"1.1", b"9.0"), "zz.txt": b"new"},
    )
    (tmp_path / "tries").write_text("")
    migrate = f"echo x >> {tmp_path}/tries; test $(wc -l < {tmp_path}/tries) -ge 2"
    commands = made.site.model.commands.model_copy(update={"migrate": ["sh", "-c", migrate]})
    model = made.site.model.model_copy(update={"commands": commands})
    site = Writable(
        model, made.site.site_file, made.site.place, made.site.database_place, made.site.work, made.site.store_folder
    )
    writes: list[str] = []

    whole_write = site.tree.write

    def write(path: str, content: bytes, mode: int | None = None, *, durable: bool = False) -> None:
        writes.append(path)
        if path.endswith("zz.txt") and writes.count(path) == 1:
            raise OSError(28, "No space left on device")
        whole_write(path, content, mode, durable=durable)

    site.tree.write = write  # type: ignore[method-assign]

    class Breaking(Workplace):
        def run(self, command: Any, time_limit: float, **places: str) -> Any:
            query(database, "UPDATE settings SET value = 'reset' WHERE name = 'desk.greeting'")
            return super().run(command, time_limit, **places)

    class OneMore(Feed):
        def need(self, name: str, version: str) -> Any:
            return feed.need(name, "1.1").model_copy(update={"version": version})

        def package(self, release: Any) -> Package:
            return newer if release.version == "9.0" else feed.package(release)

    more = OneMore.__new__(OneMore)
    more.folder, more.releases = feed.folder, feed.releases
    step = read_step(
        {"name": "s", "kind": "package", "package": "loan-mail", "version": "9.0", "retries": 2, "retry_pause": 0,
            "keep_settings": ["desk.greeting"]})  # fmt: skip
    done = perform(step, Breaking(site, more, made.address))
    assert (done.problem, done.tries) == (None, 3)
    assert {p.name: p.read_bytes() for p in folder.iterdir()} == newer.files
    assert done.versions == {"1.1": "9.0"}
    assert query(database, "SELECT value FROM settings WHERE name = 'desk.greeting'") == [("ours",)]


def test_the_runtime_is_switched_only_to_one_that_is_there(clone: tuple[Clone, Feed]) -> None:
    made, _ = clone
    assert "loam 7 is not installed here" in (do(clone, kind="runtime", version="7").problem or "")
    assert made.site.runtime_version() == "2"
    (Path(made.site.place) / "var/cache/x.html").write_text("old")
    assert do(clone, kind="purge-cache").problem is None
    assert not (Path(made.site.place) / "var/cache/x.html").exists()


def test_clones_are_made_listed_opened_and_closed(scene: Scene) -> None:
    harbor(scene.folder, "snapshot", "take")
    before = state_of(scene)
    made = harbor(scene.folder, "clone", "make", "--json").json
    opened = harbor(scene.folder, "clone", "open", made["id"][:13], "--seconds", "0.3", "--json").json
    assert opened["address"] == f"http://127.0.0.1:{made['port']}"
    assert not port_is_taken(made["port"])
    (listed,) = harbor(scene.folder, "clone", "list", "--json").json
    assert (listed["id"], listed["running"]) == (made["id"], False)
    harbor(scene.folder, "clone", "close", made["id"])
    assert list((scene.folder / "harbor/clones").iterdir()) == []
    assert "There is no clone" in harbor(scene.folder, "clone", "list").out
    assert "there is no clone 'x'" in harbor(scene.folder, "clone", "close", "x", code=2).err
    assert state_of(scene) == before


def test_a_taken_port_is_one_clear_error(scene: Scene) -> None:
    import socket

    harbor(scene.folder, "snapshot", "take")
    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = taken.getsockname()[1]
        ran = harbor(scene.folder, "clone", "make", "--port", str(port), code=3)
    assert f"port {port} is taken by another program" in ran.err
    assert not (scene.folder / "harbor/clones").exists()


def test_compare_finds_what_a_person_changed_in_a_clone_and_nothing_else(served: Scene) -> None:
    scene = served
    taken = harbor(scene.folder, "snapshot", "take", "--json").json
    same = harbor(scene.folder, "compare", "live", "newest", "--json").json
    assert [f for f in same["findings"] if f["weight"] != "note"] == []
    assert same["pages"] == 12
    made = harbor(scene.folder, "clone", "make", "--json").json
    untouched = harbor(scene.folder, "compare", "newest", f"clone:{made['id']}", "--no-pages", "--json").json
    assert untouched["findings"] == []
    root = Path(made["root"])
    query(Path(made["database"]), "UPDATE settings SET value = replace(value, '12', '30') WHERE name = 'seed-search'")
    query(Path(made["database"]), "DELETE FROM notes WHERE id = 1")
    (root / "themes/marrow/assets/theme.css").unlink()
    found = harbor(scene.folder, "compare", "live", f"clone:{made['id']}", "--json", code=1).json
    by_kind = {f["kind"]: f for f in found["findings"]}
    assert by_kind["setting-changed"]["place"] == "seed-search.per_page"
    assert by_kind["rows-lost"]["place"] == "notes"
    assert by_kind["files"]["place"] == "themes removed"
    assert by_kind["file-broken"]["place"] == "/themes/marrow/assets/theme.css"
    assert "both sides are the same" in harbor(scene.folder, "compare", "live", "live", code=2).err
    text = harbor(scene.folder, "compare", taken["id"], f"clone:{made['id']}", "--no-pages", code=1).out
    assert "✗ damage" in text and "pages: not looked at" in text


# -- trials ---------------------------------------------------------------------------------------------------


def test_an_unchanged_site_has_no_finding_in_two_trials(served: Scene) -> None:
    """A plan that does nothing to be seen: all that is found would be false."""
    scene = served
    plan = 'format = 1\n[plan]\nsite = "marrow-lane"\ncore = "3.4"\nruntime = "2"\n'
    plan += (
        '[[step]]\nname = "nothing"\nkind = "command"\ncommand = ["true"]\n[[step]]\nname = "again"\nkind = '
        '"purge-cache"\n'
    )
    (scene.folder / "upgrade.toml").write_text(plan)
    scene.site_file.write_text(scene.site_file.read_text().replace("limit = 12", "limit = 500"))
    before = state_of(scene)
    with Mailbox(scene.mail_port) as post:
        for _ in range(2):
            told = harbor(scene.folder, "trial", "run", "--json").json
            assert (told["verdict"], told["findings"]) == ("pass", [])
            fits_the_schema(told)
            assert told["isolation"]["untouched"] is True
            assert told["isolation"]["traces"] == []
            assert len(told["isolation"]["mails"]) == 6, "once before the looks, in each of four, and for the way back"
            assert told["pages"] == 36
    assert post.messages == [], "a clone's mail left it"
    assert state_of(scene) == before
    (taken,) = harbor(scene.folder, "snapshot", "list", "--json").json
    assert taken["proven"]["good"] is True
    assert len(harbor(scene.folder, "trial", "list", "--json").json) == 2
    assert "✓ PASS" in harbor(scene.folder, "trial", "show").out


def change_live_during(scene: Scene, sql: str) -> Any:
    """A trial of nothing, while somebody else changes live's database as soon as the clone is being made."""
    plan = 'format = 1\n[plan]\nsite = "marrow-lane"\ncore = "3.4"\nruntime = "2"\n'
    plan += '[[step]]\nname = "nothing"\nkind = "command"\ncommand = ["true"]\n'
    (scene.folder / "upgrade.toml").write_text(plan)
    words = [*PROGRAM, "trial", "run", "--json"]
    with subprocess.Popen(words, cwd=scene.folder, env=environment(), stdout=subprocess.PIPE, text=True) as running:
        end = time.monotonic() + 60
        while not list(scene.folder.glob("harbor/clones/*/clone.json")) and time.monotonic() < end:
            time.sleep(0.02)
        query(scene.database, sql)
        out, _ = running.communicate(timeout=120)
    return json.loads(out)


def test_a_trial_says_who_changed_live_meanwhile(served: Scene) -> None:
    """Visitors write to their tables; nobody has a reason to change a page. The clone was sealed, and that is all that
    is said."""
    loan = (
        "INSERT INTO loans (variety_id, name, email, taken_on, due_on) VALUES (1, 'Meanwhile', 'm@post.example', "
        "'2026-01-01', '2026-09-01')"
    )
    told = change_live_during(served, loan)
    assert told["isolation"]["untouched"] is False
    assert told["isolation"]["only_visitors"] is True
    assert "table loans" in told["isolation"]["differences"]
    assert told["verdict"] == "pass"
    told = change_live_during(served, "UPDATE pages SET title = 'Changed' WHERE slug = 'about'")
    assert (told["verdict"], told["isolation"]["only_visitors"]) == ("fail", False)
    assert [f["kind"] for f in told["findings"]] == ["live-changed"]
    shown = " ".join(harbor(served.folder, "trial", "show").out.split())
    assert "live changed during the trial: table pages" in shown


def test_a_kept_clone_can_be_visited_and_a_failed_step_can_stop_a_trial(served: Scene) -> None:
    scene = served
    plan = 'format = 1\n[plan]\nsite = "marrow-lane"\ncore = "3.4"\nruntime = "2"\n'
    plan += (
        '[[step]]\nname = "breaks"\nkind = "command"\ncommand = ["false"]\n[[step]]\nname = "after"\nkind = '
        '"purge-cache"\n'
    )
    (scene.folder / "upgrade.toml").write_text(plan)
    told = harbor(scene.folder, "trial", "run", "--keep", "--json", code=1).json
    assert [s["name"] for s in told["steps"]] == ["breaks"]
    assert [(f["kind"], f["step"]) for f in told["findings"]] == [("step-failed", "breaks")]
    (listed,) = harbor(scene.folder, "clone", "list", "--json").json
    assert listed["id"] == told["clone"]
    report = Path(told["report"]).read_text()
    assert "✗ fail" in report
    assert "http://" not in report.replace(scene.address, "").replace("http://www.w3.org", "").replace(
        "http://purl.org", ""
    ).replace("http://creativecommons.org", ""), "the report would ask the network"
    assert report.count("<link") == report.count("<script src") == 0
    site = open_site(scene.site_file)
    assert traces(scene, open_clone(site, told["clone"])) == [], (
        "the steps and the looks brought something of live back"
    )
    assert json.loads((Path(told["report"]).parent / "result.json").read_text())["verdict"] == "fail"


def test_a_snapshot_that_does_not_come_up_is_not_proven(scene: Scene) -> None:
    (scene.root / "core/rules.py").write_text("raise SystemExit('broken before')\n")
    taken = harbor(scene.folder, "snapshot", "take", "--json").json
    harbor(scene.folder, "plan", "draft", "--core", "4.0", "--runtime", "3")
    ran = harbor(scene.folder, "trial", "run", code=3)
    assert "the site does not start: it ended at once: broken before" in ran.err
    assert harbor(scene.folder, "snapshot", "show", "--json").json["proven"] is None
    assert "no: it did not come up in trial" in " ".join(harbor(scene.folder, "snapshot", "show").out.split())
    record = json.loads((scene.folder / "harbor/store/records" / f"{taken['id']}.json").read_text())["document"]
    assert [p["good"] for p in record["proofs"]] == [False]
    assert list((scene.folder / "harbor/trials").iterdir()) == []
    assert list((scene.folder / "harbor/clones").iterdir()) == []


def test_a_killed_trial_leaves_a_clone_that_can_be_closed(served: Scene) -> None:
    scene = served
    harbor(scene.folder, "plan", "draft", "--core", "4.0", "--runtime", "3")
    before = state_of(scene)
    with subprocess.Popen(
        [*PROGRAM, "trial", "run"],
        cwd=scene.folder,
        env=environment(),
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        text=True,
    ) as running:
        assert running.stderr is not None
        for line in running.stderr:
            if "step 1 of" in line:
                break
        running.send_signal(signal.SIGKILL)
    both = harbor(scene.folder, "clone", "list", "--json").json
    assert sorted(c["purpose"].split()[1] == "control" for c in both) == [False, True]
    harbor(scene.folder, "clone", "close", "--all")
    assert list((scene.folder / "harbor/trials").iterdir()) == []
    assert harbor(scene.folder, "clone", "list", "--json").json == []
    end = time.monotonic() + 5
    while any(port_is_taken(c["port"]) for c in both) and time.monotonic() < end:
        time.sleep(0.05)
    assert not any(port_is_taken(c["port"]) for c in both)
    assert state_of(scene) == before


def test_a_plan_for_another_site_or_without_a_trial_is_refused(served: Scene) -> None:
    scene = served
    harbor(scene.folder, "plan", "draft", "--core", "4.0", "--runtime", "3")
    assert "has not been rehearsed" in harbor(scene.folder, "cutover", "--yes", code=2).err
    plan = scene.folder / "upgrade.toml"
    plan.write_text(plan.read_text().replace('site = "marrow-lane"', 'site = "other"'))
    assert "for the site 'other'" in harbor(scene.folder, "cutover", "--yes", code=2).err


def test_the_amended_plan_is_valid(scene: Scene) -> None:
    harbor(scene.folder, "plan", "draft", "--core", "4.0", "--runtime", "3")
    file = scene.folder / "upgrade.toml"
    file.write_text(amended(file.read_text()))
    assert len(read_plan(file).step) == 11
    text = file.read_text()
    assert "# Notes of seed-search 2.0" in text, "comments are kept"
    for block in re.split(r"(?m)^\[\[step\]\]$", text)[1:]:
        assert not re.search(r"(?m)^#.*\n(.*\n)*\w+ =", block), f"a key stands below the comments of the next: {block}"
    assert tomlkit.parse(file.read_text())["step"][0]["replaces"] == "gallery-wall"  # type: ignore[index]


def test_the_host_takes_up_a_change_without_refusing_visitors(served: Scene) -> None:
    from keenharbor.compare import Visitor
    from keenharbor.live.putting import reload_host

    site = open_site(served.site_file)
    with Visitor(site.address) as visitor:
        assert visitor.get("/about").status == 200
        (served.root / "core/VERSION").write_text("3.4.1\n")
        assert "Tansy 3.4.1" not in visitor.get("/about").text
        reload_host(site)
        assert "Tansy 3.4.1" in visitor.get("/about").text
