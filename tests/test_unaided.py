"""On a site it has never met: what `init` works out and brings, and what goes without a feed."""

from __future__ import annotations

import io
import json
import os
import re
import shutil
import sqlite3
import subprocess
import tarfile
import time
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Pages, environment, harbor
from keenharbor.base.errors import DamagedError
from keenharbor.clone.server import free_port
from keenharbor.compare import Visitor
from keenharbor.compare.look import filled
from keenharbor.compare.markup import read_markup
from keenharbor.compare.visitor import VisitError
from keenharbor.database import Schema, Table
from keenharbor.demo.scene import Scene
from keenharbor.host import Here, ReadPath, WalkRules
from keenharbor.site.feed import allows
from keenharbor.site.gates import Gate, gate_for
from keenharbor.site.indexfeed import Index
from keenharbor.site.inference.contents import TableKind, _with_related
from keenharbor.site.inference.ground import Ground
from keenharbor.site.inference.inferred import Given, infer_site
from keenharbor.site.load import open_site
from keenharbor.site.releasefiles import release_files
from keenharbor.site.settings import settings_in
from keenharbor.site.sitefeed import feed_of
from keenharbor.tree import AreaRules, scan_tree

PHP = shutil.which("php")
needs_php = pytest.mark.skipif(PHP is None, reason="php is not installed")


def put(root: Path, files: dict[str, str]) -> Path:
    for path, text in files.items():
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        (root / path).write_text(text)
    return root


SHELF = {
    "index.php": "<?php\nrequire 'config.php';\nsession_start();\necho '<title>Shelf</title><a "
        "href=\"/join.php\">join</a>';\n"
    "if (isset($_SESSION['in'])) { echo 'Leave: sign out'; }\n",
    "join.php": "<?php\nrequire 'config.php';\nsession_start();\nif ($_SERVER['REQUEST_METHOD'] === 'POST') {\n"
    "    if ($_POST['user'] === 'ida' && $_POST['pass'] === 'seed') { $_SESSION['in'] = 1; header('Location: /'); "
    "exit; "
    "}\n"
    "}\necho '<title>Join</title><form method=post id=\"f\"><input name=user><input name=pass "
    "type=password></form>';\n",
    "config.php": "<?php\ndefine('SELF_URL_PATH', 'http://127.0.0.1:{port}/');\ndefine('PLUGINS', 'notes, share');\n"
    "define('CACHE_DIR', 'cache');\ndefine('ICONS_DIR', 'icons');\n",
    "release.txt": "20.12\n",
    "plugins/notes/init.php": "<?php class Notes {}\n", "plugins/share/init.php": "<?php class Share {}\n",
    "plugins/mail/init.php": "<?php class Mail {}\n",
    "plugins/mail/filters/far.php": "<?php\nclass Far { public $site_url = 'https://far.example'; public $title = "
        "'Far'; }\n",
    "classes/fetch.php": "<?php\nclass Fetch {\n    function get() {\n        $o['protocol_version'] = '1.1';\n"
    "        $home_url = 'https://elsewhere.example';\n    }\n}\n",
    "lib/Cache/Store.php": "<?php class Store {}\n", "classes/Cache/Disk.php": "<?php class Disk {}\n",
    "classes/Log/Writer.php": "<?php class Writer {}\n",
    "vendor/psr/Log/Logger.php": "<?php class Logger {}\n",
    "images/logo.png": "x", "cache/pages/.keep": "", "icons/one.png": "x",
}  # fmt: skip


@contextmanager
def shelf(folder: Path) -> Iterator[tuple[Path, str]]:
    """A PHP system that nobody knows, served on loopback."""
    port = free_port()
    root = put(folder / "shelf", {p: t.replace("{port}", str(port)) for p, t in SHELF.items()})
    server = subprocess.Popen(
        [str(PHP), "-S", f"127.0.0.1:{port}"], cwd=root, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        env=environment(),
    )  # fmt: skip
    address = f"http://127.0.0.1:{port}"
    try:
        with Visitor(address) as visitor:
            for _ in range(100):
                try:
                    visitor.get("/")
                    break
                except VisitError:
                    time.sleep(0.05)
        yield root, address
    finally:
        server.kill()
        server.wait()


def found_in(root: Path) -> Any:
    return infer_site(Ground(Here(root.parent), str(root)), Given())


def test_what_a_library_a_plugin_or_a_function_says_is_not_the_sites(tmp_path: Path) -> None:
    root = put(tmp_path / "shelf", SHELF)
    os.utime(root / "images/logo.png", (1, 1))
    found = found_in(root)
    assert found.address is not None and found.address.address == "http://127.0.0.1:{port}"
    assert found.title is None
    assert (found.core.version, found.core.version_file) == ("20.12", "release.txt")
    assert found.extensions.part.folder == "plugins" and found.extensions.part.format == "folder"
    assert {c.name for c in found.extensions.components} == {"notes", "share", "mail"}
    assert found.switch.switch.setting == "PLUGINS" and {"notes", "share"} <= found.switch.on
    areas = found.areas
    assert areas["cache"] == ["cache"] and areas["media"] == ["icons"] and "logs" not in areas
    assert {"classes", "lib", "index.php", "join.php"} <= set(areas["core"])
    assert "images" not in areas["media"] and "lib/Cache" not in areas["cache"]
    # Where the site itself says none, what others say is not taken for it.
    config = root / "config.php"
    config.write_text("".join(x for x in config.read_text().splitlines(True) if "SELF_URL" not in x))
    assert found_in(root).address is None


def test_values_inside_functions_are_told_as_such() -> None:
    text = (
        "<?php\n$a = 'x';\nfunction f() { $b = 'y'; $c = function () { return 1; }; $d = 'z'; }\nclass K { public $e "
        "= 'w'; }\n$g = 'v';"
    )
    inside = {s.key: s.inside for s in settings_in(text, "php", Path("x.php"))}
    assert inside == {"$a": False, "$b": True, "$d": True, "$e": False, "$g": False}


@pytest.mark.parametrize(
    ("text", "version"),
    [
        ("<?php\n/**\n * Version: 3.4.1\n */\nclass V {}\n", "3.4.1"),
        ("<?php\n// 2.0\n", "2.0"),
        ("<?php\n// since 1.2 of the library\n// 9.9.9\n", None),
    ],
)
def test_a_version_in_a_comment_of_a_file_that_is_named_for_it(tmp_path: Path, text: str, version: str | None) -> None:
    found = found_in(put(tmp_path / "s", {"index.php": "<?php echo 1;", "core/version.php": text}))
    assert (found.core.version if found.core else None) == version


def test_tables_that_belong_to_a_visitors_table_come_along() -> None:
    def table(name: str, *columns: str) -> Table:
        return Table(name, columns, columns[:1], "")

    tables = (
        table("shop_comments", "id", "body"), table("shop_commentmeta", "id", "value"),
        table("pages", "id", "owner_id"),
        table("shop_replies", "id", "comment_id"), table("user_notes", "id", "user_id"),
        table("user_groups", "id", "user_id"),
        table("accounts", "id", "email"), table("posts", "id", "account_id"),
    )  # fmt: skip
    kinds = {"shop_comments": "visitors", "accounts": "visitors"}
    told = _with_related(
        [TableKind(t.name, kinds.get(t.name, "content"), 0, "") for t in tables], Schema("sqlite", "3", tables)
    )
    visitors = {k.table for k in told if k.kind == "visitors"}
    assert visitors == {"shop_comments", "shop_commentmeta", "shop_replies", "user_notes", "accounts"}


# -- a feed is no must ----------------------------------------------------------------------------------------


@pytest.fixture
def bare(scene: Scene) -> Scene:
    """The demo's site without its feed."""
    text = scene.site_file.read_text()
    scene.site_file.write_text(re.sub(r"\[feed\]\n(.+\n)+", "", text))
    return scene


def test_without_a_feed_the_rest_is_judged(bare: Scene) -> None:
    told = harbor(bare.folder, "ready", "--core", "4.0", "--runtime", "3", "--json", code=1).json
    feed = next(c for c in told["checks"] if c["subject"] == "feed")
    assert feed["verdict"] == "caution" and "no feed is named" in feed["reason"]
    assert all(d["action"] == "keep" for d in told["decisions"])
    assert "no feed is named" in harbor(bare.folder, "ready", "--latest", code=2).err
    assert "--release FOLDER" in harbor(bare.folder, "plan", "draft", "--no-pages", code=2).err


def release_of(scene: Scene, folder: Path) -> Path:
    shutil.copytree(scene.root, folder, ignore=shutil.ignore_patterns("media", "var", "*.db"))
    for file in folder.rglob("*.py"):
        file.write_text(file.read_text() + "\n# as released\n")
    (folder / "core/VERSION").write_text("3.9\n")
    return folder


def test_a_release_that_was_unpacked_is_put_in_place(bare: Scene) -> None:
    release_of(bare, bare.folder / "next")
    version = open_site(bare.site_file).model.core.version_file
    (bare.folder / "next" / str(version)).write_text("3.9\n")
    settings = {p: p.read_bytes() for p in bare.root.glob("*.ini")}
    drafted = harbor(bare.folder, "plan", "draft", "--release", "next", "--run", "true", "--no-pages", "--json").json
    assert [s["kind"] for s in drafted["step"]][:2] == ["release", "command"] and drafted["plan"]["core"] == "3.9"
    assert harbor(bare.folder, "plan", "check", "--json").json["verdict"] == "clear"
    harbor(bare.folder, "snapshot", "take")
    told = harbor(bare.folder, "trial", "run", "--json", code=None).json
    step = told["steps"][0]
    assert step["problem"] is None and "→ 3.9" in step["output"], step
    assert {p: p.read_bytes() for p in settings} == settings


def packed(kind: str, members: dict[str, bytes], *, links: bool = False) -> bytes:
    out = io.BytesIO()
    if kind == "zip":
        with zipfile.ZipFile(out, "w") as archive:
            for name, data in members.items():
                archive.writestr(name, data)
        return out.getvalue()
    with tarfile.open(fileobj=out, mode="w:gz") as tar:
        for name, data in members.items():
            info = tarfile.TarInfo(name)
            info.size, info.mode = len(data), 0o755
            tar.addfile(info, io.BytesIO(data))
        if links:
            link = tarfile.TarInfo("top/out")
            link.type, link.linkname = tarfile.SYMTYPE, "/etc/passwd"
            tar.addfile(link)
    return out.getvalue()


@pytest.mark.parametrize("name", ["r.tar.gz", "r.zip"])
def test_a_release_in_an_archive(tmp_path: Path, name: str) -> None:
    kind = name.rpartition(".")[2]
    (tmp_path / name).write_bytes(packed(kind, {"top/a.php": b"a", "top/b/c.php": b"c"}, links=kind == "gz"))
    assert {p: c for p, (c, _) in release_files(tmp_path / name).files()} == {"a.php": b"a", "b/c.php": b"c"}
    for bad in ("../out", "/etc/out", "top/../../out"):
        (tmp_path / name).write_bytes(packed(kind, {bad: b"x"}))
        with pytest.raises(DamagedError, match="leads out"):
            list(release_files(tmp_path / name).files())
    (tmp_path / name).write_bytes(packed(kind, {"top/a.php": b"a" * 5000})[:-40])
    with pytest.raises(DamagedError):
        list(release_files(tmp_path / name).files())


def test_wheels_say_themselves_what_an_index_would(tmp_path: Path) -> None:
    for name, told in (
        ("good-1.0-py3-none-any.whl", "Requires-Dist: other>=2\nRequires-Python: >=3.9\n"),
        ("odd.whl", ""),
    ):
        with zipfile.ZipFile(tmp_path / name, "w") as wheel:
            wheel.writestr("good-1.0.dist-info/METADATA", f"Metadata-Version: 2.1\nName: good\n{told}")
            wheel.writestr("good/vendored/other-1.dist-info/METADATA", "Name: other\n")
    (tmp_path / "broken-1.0-py3-none-any.whl").write_bytes(b"no zip")
    index = Index(str(tmp_path))
    found = index.project("good")
    assert found is not None and found[0]["files"][0]["requires-python"] == ">=3.9"
    assert b"other>=2" in (index.data(f"{found[0]['files'][0]['url']}.metadata", found[1], None) or b"")
    assert index.project("other") is None and index.project("broken") is not None


# -- the maintenance gate -------------------------------------------------------------------------------------

STARTS = st.sampled_from([
    "<?php\n", "<?php ", "<?php\n\tfoo();\n", "<?php declare(strict_types=1);\nnamespace A\\B;\n\nuse C;\n",
    "#!/usr/bin/php\n<?php\n// a word\n/* more\n */\ndeclare(strict_types = 1) ;\n", "<?php // x\r\necho 1;\r\n",
])  # fmt: skip


@given(STARTS, st.text("abc;$ \n{}'\r", max_size=60))
def test_a_gate_is_taken_out_to_the_byte(start: str, rest: str) -> None:
    gate = Gate("php", ("index.php",))
    text = (start + rest).replace("\r\n", "\n").replace("\r", "")
    if "\r\n" in start:
        text = text.replace("\n", "\r\n")
    put_in = gate.put_into("index.php", text.encode())
    assert put_in != text.encode() and gate.put_into("index.php", put_in) == put_in
    assert gate.take_out(put_in) == text.encode()


@needs_php
@pytest.mark.parametrize("start", ["<?php\n", "<?php declare(strict_types=1);\nnamespace A;\n", "<?php "])
def test_php_takes_a_file_with_a_gate(tmp_path: Path, start: str) -> None:
    file = tmp_path / "index.php"
    file.write_bytes(Gate("php", ("index.php",)).put_into("index.php", f"{start}echo 'here';\n".encode()))
    ran = subprocess.run([str(PHP), str(file)], capture_output=True, text=True, check=True)
    assert ran.stdout == "here"


@needs_php
def test_init_finds_the_log_in_and_brings_a_gate(tmp_path: Path) -> None:
    with shelf(tmp_path) as (root, address):
        (tmp_path / "secret").write_text("seed\n")
        (tmp_path / "answers.toml").write_text('log-in = "ida"\npassword = "file:secret"\n')
        before = {p: (root / p).read_bytes() for p in ("index.php", "join.php", "config.php")}
        ran = harbor(tmp_path, "init", root, "--yes", "--answers", "answers.toml", "--maintenance")
        assert "tried on a clone" in ran.err and "maintenance gate: begin" in ran.out
        text = (tmp_path / "keenharbor.toml").read_text()
        assert 'log_in = "a member logs in"' in text and '"file:secret"' in text and "seed\\n" not in text
        assert 'text = "sign out"' in text and f'address = "{address}"' in text
        site = open_site(tmp_path / "keenharbor.toml")
        assert site.model.maintenance is not None and set(site.model.maintenance.gate) == {"index.php", "join.php"}
        with Visitor(address) as visitor, Visitor(address, {"X-Harbor-Pass": "word"}) as knows:
            assert visitor.get("/").status == 200
            (root / "maintenance.flag").write_text("word")
            end = time.monotonic() + 10  # PHP looks for changed code every two seconds
            while [visitor.get(p).status for p in ("/", "/join.php")] != [503, 503] and time.monotonic() < end:
                time.sleep(0.2)
            assert [visitor.get(p).status for p in ("/", "/join.php")] == [503, 503]
            assert knows.get("/").status == 200
            (root / "maintenance.flag").unlink()
        harbor(tmp_path, "init", "--no-maintenance", "--yes")
        assert {p: (root / p).read_bytes() for p in before} == before
        assert open_site(tmp_path / "keenharbor.toml").model.maintenance is None
        wrong = harbor(
            tmp_path, "init", root, "--yes", "--force", "--log-in", "ida", "--password", "env:NO_SUCH", code=2
        )
        assert "NO_SUCH is not set" in wrong.err
        assert (
            "never written down"
            in harbor(tmp_path, "init", root, "--force", "--log-in", "i", "--password", "x", code=2).err
        )


@needs_php
def test_a_gate_is_tried_in_the_clones_own_files(tmp_path: Path) -> None:
    """A front file that names the database: live's content in the clone would lead it to live's."""
    with shelf(tmp_path) as (root, address):
        with sqlite3.connect(root / "shelf.db") as db:
            db.execute("CREATE TABLE seeds (name TEXT)")
        db.close()
        put(root, {"index.php": "<?php\ndefine('DB_FILE', '" + str(root / "shelf.db") + "');\n"
            "require 'config.php';\nif (!str_contains(DB_FILE, '/clones/') && php_sapi_name() === 'cli-server' "
            f"&& !str_ends_with($_SERVER['HTTP_HOST'], '{address.rpartition(':')[2]}')) {{ http_response_code(500); "
            "exit; }\necho '<title>Shelf</title>';\n"})  # fmt: skip
        harbor(tmp_path, "init", root, "--yes", "--maintenance")
        gate = open_site(tmp_path / "keenharbor.toml").model.maintenance
        assert gate is not None and "index.php" in gate.gate and gate.flag == "maintenance.flag"


def test_a_flag_of_which_the_site_speaks_itself_is_left_to_it(tmp_path: Path) -> None:
    put(
        tmp_path, {"index.php": "<?php\nif (is_file('maintenance.flag')) { http_response_code(503); exit; }\necho 1;\n"}
    )
    tree = Here(tmp_path.parent).reading(str(tmp_path))
    entries = scan_tree(tree, WalkRules(AreaRules({}))).entries
    assert gate_for(ReadPath(tree), entries, "php", []).flag == "closed-for-a-change.flag"


def test_a_cutover_does_not_rely_on_a_flag_that_nobody_looks_at(served: Scene) -> None:
    text = served.site_file.read_text()
    platform = (served.folder / "tansy.toml") if (served.folder / "tansy.toml").exists() else None
    flag = '\n[maintenance]\nflag = "var/another.flag"\nheader = "X-Maintenance-Pass"\n'
    served.site_file.write_text(text + flag)
    assert platform is None or platform.exists()
    plan = '[[step]]\nname = "a"\nkind = "purge-cache"\n'
    site = open_site(served.site_file)
    (served.folder / "upgrade.toml").write_text(
        f'format = 1\n[plan]\nsite = "{site.name}"\ncore = "{site.core_version()}"\nruntime = '
        f'"{site.runtime_version()}"\n{plan}'
    )
    harbor(served.folder, "trial", "run", code=None)
    told = harbor(served.folder, "cutover", "--yes", code=None)
    assert "goes on answering while the maintenance flag stands" in told.err, told.err
    assert not (served.root / "var/another.flag").exists()


# -- smaller things -------------------------------------------------------------------------------------------


def test_emptying_a_cache_leaves_its_folders(scene: Scene) -> None:
    site = open_site(scene.site_file)
    cache = site.model.areas["cache"][0].partition("/*")[0]
    (scene.root / cache / "deep/er").mkdir(parents=True)
    (scene.root / cache / "deep/er/x.html").write_text("old")
    harbor(scene.folder, "snapshot", "take", "--label", "a")
    (scene.root / "media/new.txt").write_text("x")
    harbor(scene.folder, "snapshot", "restore", "a", "--live", "--yes", code=None)
    assert (scene.root / cache / "deep/er").is_dir() and not (scene.root / cache / "deep/er/x.html").exists()


def test_identifiers_that_are_drawn_name_nothing() -> None:
    def page(identity: str) -> str:
        return f"<main><form id='{identity}' method=post action='/x'><input name=a></form></main>"

    drawn = [read_markup(page(i), "http://s.test", "/").forms.keys() for i in (
        "0008d46d-f91a-4c39-ba5b-21cf9d0f1ab5", "00cd290a-1b06-4335-bd67-5612863f958a", "f17648123456",
        "a1b2c3d4e5f6a7",
    )]  # fmt: skip
    assert len({tuple(d) for d in drawn}) == 1
    assert list(read_markup(page("contact-form-2"), "http://s.test", "/").forms) == ["contact-form-2"]


def test_values_of_checks_stand_for_what_is_elsewhere(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "p").write_text("seed\r\n")
    monkeypatch.setenv("WORD", "bean")
    told = filled({"a": "env:WORD", "b": f"file:{tmp_path}/p", "c": "x {unique}", "d": "{today}"}, "77")
    assert (told["a"], told["b"], told["c"]) == ("bean", "seed", "x 77") and re.fullmatch(r"\d{4}-\d\d-\d\d", told["d"])
    for missing in ("env:NO_SUCH_WORD", f"file:{tmp_path}/none"):
        with pytest.raises(LookupError):
            filled({"a": missing}, "1")


def test_nothing_but_this_machine_is_visited_unasked(tmp_path: Path, pages: Pages) -> None:
    put(tmp_path / "s", {"index.php": "<?php echo 1;", "VERSION": "1.0", "config.php":
                         "<?php define('SITE_URL', 'https://seeds.example.org');"})  # fmt: skip
    ran = harbor(tmp_path, "init", "s", "--yes", "--pages", code=None)
    assert "not visited unasked" in ran.err
    assert not pages.asked if hasattr(pages, "asked") else True


def test_the_manual_is_there_and_true(tmp_path: Path) -> None:
    import importlib.util

    topics = harbor(tmp_path, "manual", "--json").json
    for topic in topics:
        assert len(harbor(tmp_path, "manual", topic, "--json").json["text"]) > 300
    assert "no topic 'nothing'" in harbor(tmp_path, "manual", "nothing", code=2).err
    assert json.loads(harbor(tmp_path, "manual", "plan.schema").out)["title"] == "Plan"
    script = Path(__file__).parents[1] / "docs/make_reference.py"
    spec = importlib.util.spec_from_file_location("make_reference", script)
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    for file, text in module.files().items():
        assert file.read_text(encoding="utf-8") == text, f"make it anew: python docs/make_reference.py ({file.name})"


def test_documents_name_no_option_that_is_not_there() -> None:
    home = Path(__file__).parents[1]
    known = {part.split("\n", 1)[0].strip(): part
        for part in (home / "docs/reference/commands.md").read_text().split("\n## keenharbor ")[1:]}  # fmt: skip
    wrong = []
    for file in (home / "README.md", *(home / "docs").glob("*.md")):
        for found in re.finditer(r"keenharbor ([a-z]+)(?: ([a-z]+))?([^\n`]*)", file.read_text()):
            part = known.get(f"{found[1]} {found[2]}") or known.get(found[1], "")
            said = re.findall(r"(?<!\S)--[a-z][a-z-]+", found[3])
            wrong += [
                f"{file.name}: {found[0]}" for option in said if part and option not in part and option != "--help"
            ]
    assert not wrong, wrong


def test_a_version_by_itself_is_what_is_wanted_at_least() -> None:
    assert allows("5.0", "5.2") and allows(" 5.0 ", "5.0") and not allows("5.0", "4.9") and allows("", "1")


def test_a_minor_version_means_the_newest_of_it(shared_scene: Scene) -> None:
    site = open_site(shared_scene.site_file)
    feed = feed_of(site)
    assert feed is not None
    package = site.model.core.package
    releases = [
        r.model_copy(update={"version": v}) for r in feed.of(package)[:1] for v in ("8.0", "8.0.1", "8.1.3", "8.1.10")
    ]
    feed.releases = releases
    assert feed.newest_like(package, "8.0") == "8.0" and feed.newest_like(package, "8.1") == "8.1.10"
    assert feed.newest_like(package, "8.0.1") == "8.0.1" and feed.newest_like(package, "9") == "9"
    asked = harbor(shared_scene.folder, "ready", "--core", "3", code=None)
    assert asked.code <= 1 and "plan draft --core 3.4" in asked.out, "the newest of 3 is 3.4"


def test_a_draft_says_that_its_target_is_blocked(scene: Scene) -> None:
    ran = harbor(scene.folder, "plan", "draft", "--core", "4.0", "--no-pages")
    assert "'ready' calls this target blocked" in ran.out
