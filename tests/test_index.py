"""An index of Python distributions as a feed: recorded in a folder, and over HTTP."""

from __future__ import annotations

import base64
import hashlib
import json
import threading
from collections.abc import Iterator, Mapping
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

from conftest import harbor
from keenharbor.base.errors import DamagedError, KeenHarborError, UsageError
from keenharbor.site.indexfeed import Index, IndexFeed, required
from keenharbor.trial.plan import read_plan
from made_sites import distribution, put

Releases = Mapping[str, Mapping[str, tuple[str, list[str]]]]

RELEASES: Releases = {
    "press": {
        "1.0": (">=3.9", ["frame<3"]), "1.1": (">=3.9", ["frame>=1,<3"]),
        "2.0": (">=3.10", ["frame>=3", 'tool>=1; python_version < "4"']),
        "3.0": (">=3.13", ["frame>=3"]), "2.1rc1": (">=3.10", []),
    },
    "frame": {"2.0": ("", []), "2.1": ("", []), "3.2": ("", [])},
    "tool": {"1.5": ("", []), "0.9": ("", [])},
    "press-gallery": {"1.0": ("", ["press<2"]), "1.2": ("", ["press>=1.1,<3"])},
    "press-forms": {"1.0": ("", ["press<2", "press-gallery"])},
}  # fmt: skip


def record(folder: Path, releases: Releases = RELEASES) -> Path:
    for name, versions in releases.items():
        files = []
        for version, (python, requires) in versions.items():
            wheel = f"{name.replace('-', '_')}-{version}-py3-none-any.whl"
            text = f"Metadata-Version: 2.1\nName: {name}\nVersion: {version}\n" + "".join(
                f"Requires-Dist: {r}\n" for r in requires
            )
            put(folder, f"{wheel}.metadata", text)
            files.append({"filename": wheel, "url": wheel, "hashes": {"sha256": "0" * 64}, "requires-python": python,
                          "core-metadata": {"sha256": hashlib.sha256(text.encode()).hexdigest()}})  # fmt: skip
        files.append({"filename": "odd name", "url": "x"})
        put(folder, f"{name}.json", json.dumps({"meta": {"api-version": "1.1"}, "name": name, "files": files}))
    return folder


@pytest.fixture
def site(tmp_path: Path) -> Path:
    """A Python site on the made-up core ``press``, described, with a recorded index."""
    root = tmp_path / "site"
    packages = ".venv/lib/python3.11/site-packages"
    put(root, ".venv/pyvenv.cfg", "version = 3.11.4\n")
    for name, version, requires in (
        ("press", "1.0", ["frame<3"]), ("frame", "2.0", []), ("press-gallery", "1.0", ["press<2"]),
        ("press-forms", "1.0", ["press<2"]),
    ):  # fmt: skip
        distribution(root, packages, name, version, [name.replace("-", "_")], requires)
    put(
        root,
        "conf/settings.py",
        "INSTALLED_APPS = ['press', 'press.pages', 'press_gallery', 'press_forms', 'frame.sites']\nSITE_URL = "
        "'https://a.test'\n",
    )
    put(root, "manage.py", "raise SystemExit\n")
    harbor(tmp_path, "init", "site", "--yes")
    record(tmp_path / "index")
    with (tmp_path / "keenharbor.toml").open("a") as file:
        file.write('\n[feed]\nindex = "index"\n')
    return tmp_path


def checks_of(folder: Path, *words: str) -> dict[str, dict[str, str]]:
    told = harbor(folder, "ready", *words, "--json", code=None).json
    return {c["subject"]: c for c in told["checks"]} | {f"decision {d['name']}": d for d in told["decisions"]}


def test_what_must_move_along_is_told_and_what_cannot_is_named(site: Path) -> None:
    found = checks_of(site, "--core", "2.0", "--extension", "press-forms=remove")
    assert found["versions together"]["verdict"] == "clear"
    assert found["moves along: frame"]["reason"] == "2.0 → 3.2: press 2.0 wants frame >=3"
    assert found["moves along: tool"]["reason"].startswith("1.5 comes new")
    assert found["decision press-gallery"]["version"] == "1.2"
    blocked = checks_of(site, "--core", "2.0", "--forget", "press-forms")
    assert blocked["extension press-forms"]["verdict"] == "blocked"
    assert checks_of(site, "--core", "3.0")["runtime"]["verdict"] == "blocked"
    assert "newer core" in checks_of(site, "--latest")


def test_a_plan_puts_distributions_in_place_in_one_set(site: Path) -> None:
    put(site / "site", "requirements.txt", "press==1.0\npress-forms==1.0\n")
    put(site / "site", "uv.lock", "")
    harbor(site, "plan", "draft", "--core", "2.0", "--extension", "press-forms=remove")
    steps = {s.name: s for s in read_plan(site / "upgrade.toml").step}
    assert list(steps) == ["off-press-forms", "distributions", "migrate", "pins"]
    assert steps["distributions"].wants == ["frame==3.2", "press==2.0", "press-gallery==1.2", "tool==1.5"]  # type: ignore[union-attr]
    assert steps["distributions"].removes == ["press-forms"]  # type: ignore[union-attr]
    assert (steps["pins"].files, steps["pins"].removes) == (["requirements.txt"], ["press-forms"])  # type: ignore
    assert "uv.lock: made by a tool of its own" in (site / "upgrade.toml").read_text()
    assert "Take press-forms out of INSTALLED_APPS in conf/settings.py." in (site / "upgrade.toml").read_text()
    assert steps["migrate"].command == ["{runtime}", "manage.py", "migrate", "--noinput"]  # type: ignore[union-attr]
    told = harbor(site, "plan", "check", "--json", code=1).json
    assert [c["reason"] for c in told["checks"]] == ["the site has no virtual environment of its own"]
    text = (site / "upgrade.toml").read_text()
    (site / "upgrade.toml").write_text(text.replace("press==2.0", "press==7.7"))
    found = {c["reason"] for c in harbor(site, "plan", "check", "--json", code=1).json["checks"]}
    assert any("the index has no press 7.7" in r for r in found) and any("lead to core 7.7" in r for r in found)


def test_what_the_core_stands_on_may_be_named_to_go_along(site: Path) -> None:
    record(site / "index", {**RELEASES, "press": {**RELEASES["press"], "1.2": (">=3.9", ["frame>=1"])}})
    goal = ("--core", "1.2", "--extension", "press-forms=remove")
    told = checks_of(site, *goal)
    assert "moves along: frame" not in told
    assert told["could move along"]["reason"].endswith("--also frame=3.2 (now 2.0)")
    harbor(site, "plan", "draft", *goal, "--also", "Frame=3.2")
    steps = {s.name: s for s in read_plan(site / "upgrade.toml").step}
    assert "frame==3.2" in steps["distributions"].wants  # type: ignore[union-attr]
    drafted = harbor(site, "plan", "draft", *goal, "--out", "other.toml")
    assert "other.toml, then: keenharbor trial run other.toml" in drafted.out
    assert checks_of(site, *goal, "--also", "frame=3.2")["moves along: frame"]["reason"] == "2.0 → 3.2: as you said"
    blocked = checks_of(site, "--core", "1.1", "--extension", "press-forms=remove", "--also", "frame=3.2")
    assert blocked["versions together"]["verdict"] == "blocked"
    assert "the index has no frame 9" in harbor(site, "ready", "--also", "frame=9", code=2).err
    assert "NAME=VERSION is wanted" in harbor(site, "ready", "--also", "frame", code=2).err


def test_an_edit_of_an_installed_distribution_is_found(site: Path) -> None:
    packages = site / "site/.venv/lib/python3.11/site-packages"
    module = packages / "press/__init__.py"
    record_file = packages / "press-1.0.dist-info/RECORD"
    digest = base64.urlsafe_b64encode(hashlib.sha256(module.read_bytes()).digest()).rstrip(b"=").decode()
    record_file.write_text(f"press/__init__.py,sha256={digest},10\n")
    edits = [e for e in harbor(site, "survey", "--json").json["edits"] if e["package"] == "press"]
    assert not edits
    module.write_text("changed\n")
    (edit,) = [e for e in harbor(site, "survey", "--json").json["edits"] if e["package"] == "press"]
    assert (edit["path"], edit["removed"]) == ("press/__init__.py", False)


def feed(index: Index, installed: Mapping[str, str] | None = None) -> IndexFeed:
    return IndexFeed(index, "press", "3.11.4", installed or {}, Path("site.toml"))


def test_releases_are_the_newest_of_each_minor_version(tmp_path: Path) -> None:
    found = feed(Index(str(record(tmp_path))), {"press": "1.1"})
    assert [r.version for r in found.of("press")] == ["1.1", "2.0", "3.0"]
    assert [r.version for r in found.of("Press")] == ["1.1", "2.0", "3.0"]
    release = found.need("press", "2.0")
    assert release.requires.packages == {"frame": ">=3", "tool": ">=1"}
    assert release.requires.runtime == ">=3.10"
    assert found.need("press-gallery", "1.2").requires.core == "<3,>=1.1"
    assert found.of("nothing") == []


def test_marked_requirements_count_where_their_marker_holds() -> None:
    lines = [
        "a>=1",
        "A<3",
        'b; python_version < "3"',
        'c; extra == "x"',
        "not a requirement !!",
        'd>=2; python_full_version >= "3.11.2"',
    ]
    assert required(lines, "3.11.4") == {"a": ">=1,<3", "d": ">=2"}


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (lambda d: d.update(files=3), "lists no files"),
        (lambda d: d["files"][0].update(url="../../etc/passwd"), "outside its folder"),
        (lambda d: d["files"][0].update({"core-metadata": {"sha256": "1" * 64}}), "not what it said"),
    ],
)
def test_a_wrong_answer_is_refused(tmp_path: Path, change: Any, said: str) -> None:
    record(tmp_path / "index")
    file = tmp_path / "index/press.json"
    told = json.loads(file.read_text())
    change(told)
    file.write_text(json.dumps(told))
    with pytest.raises((UsageError, DamagedError), match=said):
        feed(Index(str(tmp_path / "index"))).of("press")


class Server(ThreadingHTTPServer):
    folder: Path
    asked: list[str]


class _Handler(BaseHTTPRequestHandler):
    server: Server

    def do_GET(self) -> None:
        self.server.asked.append(self.path)
        name = self.path.removeprefix("/simple/").strip("/")
        file = self.server.folder / (name if name.endswith(".metadata") else f"{name}.json")
        if name.endswith(".metadata"):
            file = self.server.folder / name.rpartition("/")[2]
        if not file.is_file():
            self.send_error(404)
            return
        assert name.endswith(".metadata") or self.headers["Accept"] == "application/vnd.pypi.simple.v1+json"
        self.send_response(200)
        self.end_headers()
        self.wfile.write(file.read_bytes())

    def log_message(self, format: str, *args: object) -> None:
        """Nothing."""


@pytest.fixture
def server(tmp_path: Path) -> Iterator[Server]:
    made = Server(("127.0.0.1", 0), _Handler)
    made.folder, made.asked = record(tmp_path / "served"), []
    thread = threading.Thread(target=made.serve_forever)
    thread.start()
    yield made
    made.shutdown()
    thread.join()
    made.server_close()


def test_over_http_answers_are_kept_and_used_when_the_index_is_away(server: Server, tmp_path: Path) -> None:
    place = f"http://127.0.0.1:{server.server_port}/simple"
    first = feed(Index(place, tmp_path / "cache"))
    assert [r.version for r in first.of("press")] == ["1.0", "1.1", "2.0", "3.0"]
    asked = len(server.asked)
    again = feed(Index(place, tmp_path / "cache"))
    assert len(again.of("press")) == 4
    assert len(server.asked) == asked + 1, "what a release says of itself is not asked for again"
    assert again.of("nothing-there") == []
    server.shutdown()
    server.server_close()
    index = Index(place, tmp_path / "cache")
    assert len(feed(index).of("press")) == 4
    assert index.from_cache
    with pytest.raises(KeenHarborError, match="cannot be reached"):
        feed(index).of("frame")
