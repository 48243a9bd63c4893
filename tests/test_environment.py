"""A Python site's virtual environment: made anew for a clone, changed by a step, put in place on live, and back."""

from __future__ import annotations

import base64
import hashlib
import subprocess
import sys
import zipfile
from pathlib import Path

import pytest

from conftest import harbor
from keenharbor.base.errors import KeenHarborError
from keenharbor.base.progress import Silent
from keenharbor.host import ReadPath, ReadTree
from keenharbor.host.environment import EnvironmentsHere, install, make_environment
from keenharbor.live.environments import (
    KEPT,
    environment_back,
    environment_missing,
    install_beside,
    kept_environment,
    thin_environments,
)
from keenharbor.live.rollback import rehearse_way
from keenharbor.live.ways import WayBack
from keenharbor.site.components import pins_of
from keenharbor.site.edits import distribution_edits
from keenharbor.site.feed import NoFeed
from keenharbor.site.load import open_site
from keenharbor.site.view import SiteView
from keenharbor.snapshot import TakeOptions, take_snapshot
from keenharbor.store import Store
from keenharbor.trial.control import Control
from made_sites import put

SERVE = """
import sys, http.server, press
class Handler(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        found = self.path == "/"
        text = ("<title>Press</title><main><p>Made with press %s.</p></main>" % press.__version__).encode()
        self.send_response(200 if found else 404)
        self.send_header("Content-Type", "text/html")
        self.send_header("Content-Length", str(len(text)))
        self.end_headers()
        self.wfile.write(text)
    def log_message(self, *a): pass
http.server.ThreadingHTTPServer(("127.0.0.1", int(sys.argv[-1])), Handler).serve_forever()
"""


def wheel(folder: Path, name: str, version: str, requires: str = "") -> None:
    """A wheel by hand (https://packaging.python.org/en/latest/specifications/binary-distribution-format/)."""
    folder.mkdir(exist_ok=True)
    info = f"{name}-{version}.dist-info"
    files = {
        f"{name}/__init__.py": f'__version__ = "{version}"\n\n\ndef main() -> None:\n    print("{name} {version}")\n',
        f"{info}/METADATA": f"Metadata-Version: 2.1\nName: {name}\nVersion: {version}\n"
        + (f"Requires-Dist: {requires}\n" if requires else ""),
        f"{info}/WHEEL": "Wheel-Version: 1.0\nGenerator: by hand\nRoot-Is-Purelib: true\nTag: py3-none-any\n",
        f"{info}/entry_points.txt": f"[console_scripts]\n{name} = {name}:main\n",
    }
    sums = {
        p: base64.urlsafe_b64encode(hashlib.sha256(t.encode()).digest()).rstrip(b"=").decode() for p, t in files.items()
    }
    record = "".join(f"{p},sha256={s},{len(files[p])}\n" for p, s in sums.items()) + f"{info}/RECORD,,\n"
    with zipfile.ZipFile(folder / f"{name}-{version}-py3-none-any.whl", "w") as archive:
        for path, text in {**files, f"{info}/RECORD": record}.items():
            archive.writestr(path, text)


@pytest.fixture(scope="module")
def wheels(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("wheels") / "wheels"
    for version in ("1.0", "2.0"):
        wheel(folder, "press", version)
    wheel(folder, "press_gallery", "1.0", "press<2")
    return folder


@pytest.fixture
def folder(tmp_path: Path, wheels: Path) -> Path:
    """A Python site without a database, on the made-up core ``press``, with its virtual environment beside it."""
    subprocess.run([sys.executable, "-m", "venv", str(tmp_path / "venv")], check=True)
    pip = [str(tmp_path / "venv/bin/python"), "-m", "pip", "install", "-q", "--no-index", "--find-links", str(wheels)]
    subprocess.run([*pip, "press==1.0"], check=True, capture_output=True)
    put(tmp_path / "site", "serve.py", SERVE)
    packages = next((tmp_path / "venv").glob("lib/python*/site-packages")).relative_to(tmp_path)
    version = ".".join(map(str, sys.version_info[:3]))
    put(tmp_path, "keenharbor.toml", f'''format = 1
[site]
name = "press"
root = "site"
address = "http://press.example.test"
[platform]
name = "press"
[core]
distribution = "press"
package = "press"
[database]
engine = "none"
[runtime]
name = "python"
version = "{version}"
packages = "../{packages}"
wheelhouse = "{wheels}"
[runtime.launchers]
"{version}" = "{tmp_path}/venv/bin/python"
[serve]
command = ["{{runtime}}", "serve.py", "{{port}}"]
[feed]
path = "feed.json"
''')  # fmt: skip
    put(tmp_path, "feed.json", '{"format": 1, "releases": []}')
    return tmp_path


def plan(folder: Path, *steps: str) -> None:
    version = ".".join(map(str, sys.version_info[:3]))
    head = f'format = 1\n[plan]\nsite = "press"\ncore = "2.0"\nruntime = "{version}"\n'
    put(folder, "upgrade.toml", head + "".join(f"[[step]]\n{s}\n" for s in steps))


def says(environment: Path) -> str:
    return subprocess.run([environment / "bin/press"], capture_output=True, text=True, check=True).stdout.strip()


def test_a_trial_installs_into_the_clone_alone(folder: Path) -> None:
    put(folder, "site/requirements.txt", "press==1.0  # ours\n")
    harbor(folder, "snapshot", "take")
    pins = 'name = "pins"\nkind = "pins"\nfiles = ["requirements.txt"]'
    plan(folder, 'name = "up"\nkind = "distributions"\nwants = ["press==2.0"]', pins)
    assert harbor(folder, "plan", "check", "--json").json["verdict"] == "clear"
    told = harbor(folder, "trial", "run", "--keep", "--json").json
    assert "press: ==1.0 → ==2.0" in told["steps"][1]["output"]
    assert (next((folder / "harbor/clones").iterdir()) / "site/requirements.txt").read_text() == "press==2.0  # ours\n"
    assert (folder / "site/requirements.txt").read_text() == "press==1.0  # ours\n"
    assert told["findings"] == [], "that the version on the page follows is as it should be"
    assert "press: 1.0 → 2.0" in told["steps"][0]["output"]
    assert says(folder / "venv") == "press 1.0"
    own = next((folder / "harbor/clones").iterdir()) / "environment"
    assert says(own) == "press 2.0"
    assert str(folder / "venv") not in (own / "bin/press").read_text()
    harbor(folder, "clone", "close", "--all")
    assert not own.exists()


def test_what_does_not_go_together_fails_the_step(folder: Path, wheels: Path) -> None:
    harbor(folder, "snapshot", "take")
    plan(
        folder,
        'name = "more"\nkind = "distributions"\nwants = ["press_gallery==1.0"]',
        'name = "up"\nkind = "distributions"\nwants = ["press==2.0"]',
        'name = "nothing"\nkind = "distributions"\nwants = ["press==9.0"]',
        'name = "out"\nkind = "distributions"\nremoves = ["press_gallery"]',
    )
    told = harbor(folder, "trial", "run", "--go-on", "--json", code=1).json
    problems = {s["name"]: s["problem"] for s in told["steps"]}
    assert problems["more"] is None and problems["out"] is None
    assert "press-gallery 1.0 has requirement press<2" in problems["up"].replace("_", "-")
    assert "No matching distribution" in told["steps"][2]["output"]


def test_a_fresh_environment_keeps_edits_and_names_its_own_place(folder: Path, tmp_path: Path) -> None:
    packages = next((folder / "venv").glob("lib/python*/site-packages"))
    (packages / "press/__init__.py").write_text('__version__ = "1.0"\n\n\ndef main() -> None:\n    print("edited")\n')
    make_environment(folder / "venv", tmp_path / "fresh")
    assert says(tmp_path / "fresh") == "edited"
    copied = next((tmp_path / "fresh").glob("lib/python*/site-packages"))
    assert pins_of(ReadPath(ReadTree(str(copied)))) == pins_of(ReadPath(ReadTree(str(packages)))) != {}
    ran = install(tmp_path / "fresh", ["press==2.0"], [], open_site(folder / "keenharbor.toml").wheelhouse(), 60)
    assert ran.code == 0 and says(tmp_path / "fresh") == "press 2.0" and says(folder / "venv") == "edited"
    (folder / "venv/bin/python").unlink()
    with pytest.raises((KeenHarborError, OSError)):
        make_environment(folder / "venv", tmp_path / "other")


def test_live_is_changed_beside_and_goes_back_with_the_snapshot(folder: Path) -> None:
    site: SiteView = open_site(folder / "keenharbor.toml")
    store = Store.create(site.store_folder)
    before = take_snapshot(site, store, TakeOptions(), Silent(), None)
    assert before.manifest.environment["press"] == "1.0"
    refused = install_beside(site, ["press==9.0"], [], site.wheelhouse(), 60)
    assert refused.code != 0 and says(folder / "venv") == "press 1.0"
    assert [p.name for p in folder.iterdir() if p.name.startswith(".venv")] == []
    assert install_beside(site, ["press==2.0"], [], site.wheelhouse(), 60).code == 0
    assert says(folder / "venv") == "press 2.0" and site.core_version() == "2.0"
    assert ".next" not in (folder / "venv/bin/press").read_text()
    after = take_snapshot(site, store, TakeOptions(), Silent(), None)
    for _ in range(2):  # as often as one likes
        assert environment_missing(site, before) == ""
        environment_back(site, before)
        assert says(folder / "venv") == "press 1.0"
        environment_back(site, after)
        assert says(folder / "venv") == "press 2.0"
    # Killed between the two renames: nothing is in place, and it goes on.
    (folder / "venv").rename(folder / ".venv.before-2")
    environment_back(site, before)
    assert says(folder / "venv") == "press 1.0"
    for kept in folder.glob(".venv.before-*"):
        kept.rename(folder / f"away-{kept.name}")
    assert "install the versions that 'keenharbor snapshot show" in environment_missing(site, after)
    environment_back(site, after)
    assert says(folder / "venv") == "press 1.0", "what is not kept is not made up"
    for number in range(4):
        (folder / f".venv.before-{number}").mkdir()
    thin_environments(site)
    assert len(list(folder.glob(".venv.before-*"))) == KEPT


def test_a_way_back_is_rehearsed_with_the_environment_that_is_kept(folder: Path) -> None:
    site: SiteView = open_site(folder / "keenharbor.toml")
    store = Store.create(site.store_folder)
    before = take_snapshot(site, store, TakeOptions(), Silent(), None)
    assert kept_environment(site, before) is None, "live's own is it"
    assert install_beside(site, ["press==2.0"], [], site.wheelhouse(), 60).code == 0
    like = kept_environment(site, before)
    assert like is not None and ".venv.before-" in like
    after = take_snapshot(site, store, TakeOptions(), Silent(), None)
    control = Control(site, before, NoFeed(site.site_file), like=like)
    try:
        control.start()
        page = control.stage.look(samples=1, timed=False).pages["/"]
        assert page.markup is not None and any("1.0" in b.text for b in page.markup.blocks.values()), page.markup
    finally:
        control.drop()
    (folder / "site/left-since").write_text("by a visitor")
    tried = rehearse_way(site, store, WayBack(before, after), NoFeed(site.site_file), Silent())
    assert tried.works and tried.files == 1, tried
    assert says(folder / "venv") == "press 2.0" and kept_environment(site, before) == like


def test_an_environment_is_known_by_whatever_way_its_programs_are_named(folder: Path, tmp_path: Path) -> None:
    """The launcher leads through a link; the clone must run in its own environment all the same."""
    (tmp_path / "link").symlink_to(folder / "venv")
    file = folder / "keenharbor.toml"
    text = file.read_text()
    file.write_text(text.replace(f"{folder}/venv/bin/python", f"{tmp_path}/link/bin/python"))
    environments = EnvironmentsHere()
    assert environments.inside(str(folder / "venv"), str(tmp_path / "link/bin/python")) == "bin/python"
    assert environments.inside(str(folder / "venv"), sys.executable) is None
    harbor(folder, "snapshot", "take")
    plan(
        folder,
        'name = "up"\nkind = "distributions"\nwants = ["press==2.0"]',
        'name = "ask"\nkind = "request"\npath = "/"\ntext = "press 2.0"',
    )
    told = harbor(folder, "trial", "run", "--json").json
    assert [s["problem"] for s in told["steps"]] == [None, None] and says(folder / "venv") == "press 1.0"
    # Another interpreter has no environment here: nothing is installed anywhere.
    file.write_text(text.replace(f"{folder}/venv/bin/python", sys.executable))
    refused = harbor(folder, "trial", "run", "--json", code=None).json
    assert "steps" not in refused or "no virtual environment of its own" in refused["steps"][0]["problem"]
    assert says(folder / "venv") == "press 1.0"


def test_a_file_that_two_distributions_own_is_no_edit_while_it_is_as_one_of_them_shipped_it(folder: Path) -> None:
    packages = next((folder / "venv").glob("lib/python*/site-packages"))
    fork = '__version__ = "1.0.fork"\n'
    told = base64.urlsafe_b64encode(hashlib.sha256(fork.encode()).digest()).rstrip(b"=").decode()
    put(packages, "press_fork-3.0.dist-info/METADATA", "Metadata-Version: 2.1\nName: press_fork\nVersion: 3.0\n")
    put(packages, "press_fork-3.0.dist-info/RECORD", f"press/__init__.py,sha256={told},{len(fork)}\n")
    site = open_site(folder / "keenharbor.toml")
    assert distribution_edits(site)[0] == []
    put(packages, "press/__init__.py", fork)
    assert distribution_edits(site)[0] == []
    put(packages, "press/__init__.py", fork + "# by hand\n")
    assert [(e.path, e.removed) for e in distribution_edits(site)[0]] == [("press/__init__.py", False)]
    (packages / "press/__init__.py").unlink()
    assert [(e.path, e.removed) for e in distribution_edits(site)[0]] == [("press/__init__.py", True)]
