"""Scripted visits in a browser: forms that scripts build, buttons that only scripts react to."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import environment, harbor
from keenharbor.compare import Visitor
from keenharbor.compare.camera import missing_browser
from keenharbor.compare.look import make_checks, member_cookies
from keenharbor.host.ports import port_is_taken
from keenharbor.site.load import open_site
from keenharbor.site.model import CheckPart, CheckStep
from test_forms import site_file

pytestmark = pytest.mark.skipif(bool(missing_browser()) and "CI" not in os.environ, reason=missing_browser() or "")

PAGE = """<!doctype html><title>Shelf</title><div id="app">…</div><script>
const app = document.getElementById('app');
function form() {
  app.innerHTML = '<form id="enter"><input name="who" placeholder="Name"><input name="word" type="password">' +
    '<select name="shelf"><option value="a">A</option><option value="b">B</option></select>' +
    '<label>Stay <input type="checkbox" name="stay"></label><button>Open the shelf</button></form>';
  document.getElementById('enter').addEventListener('submit', async event => {
    event.preventDefault();
    const answer = await fetch('/enter', {method: 'POST', body: new URLSearchParams(new FormData(event.target))});
    if (answer.ok) shelf(); else app.append(' not let in');
  });
}
function shelf() {
  app.innerHTML = '<p>Good day. <span role="button" onclick="more()">Show more</span> sign out</p>';
}
async function more() { app.append(await (await fetch('/more')).text()); BROKEN }
setTimeout(() => document.cookie.includes('in=') ? shelf() : form(), 300);
new Image().src = 'http://127.0.0.1:9/elsewhere.png';
</script>"""
SERVER = """
import sys
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from urllib.parse import parse_qs


class Handler(BaseHTTPRequestHandler):
    def answer(self, status, text, cookie=None):
        self.send_response(status)
        self.send_header("Content-Type", "text/html; charset=utf-8")
        if cookie:
            self.send_header("Set-Cookie", cookie)
        self.end_headers()
        self.wfile.write(text.encode())

    def do_GET(self):
        if self.path == "/more":
            inside = "in=yes" in self.headers.get("Cookie", "")
            self.answer(200 if inside else 403, "skirret" if inside else "closed")
        elif self.path == "/gone":
            self.answer(404, "<title>Gone</title>")
        else:
            self.answer(200, Path("page.html").read_text())

    def do_POST(self):
        sent = parse_qs(self.rfile.read(int(self.headers["Content-Length"])).decode())
        with open("entered.log", "a") as log:
            log.write(repr(sorted(sent.items())) + chr(10))
        good = sent.get("who") == ["ida"] and sent.get("word") == ["seed"]
        self.answer(204 if good else 403, "", "in=yes" if good else None)

    def log_message(self, *words):
        pass


HTTPServer(("127.0.0.1", int(sys.argv[sys.argv.index("--port") + 1])), Handler).serve_forever()
"""


@pytest.fixture
def shelf(tmp_path: Path) -> Iterator[tuple[Path, str]]:
    """A site whose pages are built by scripts, served; and its site file."""
    (tmp_path / "site").mkdir()
    (tmp_path / "site/serve.py").write_text(SERVER)
    (tmp_path / "site/page.html").write_text(PAGE.replace("BROKEN", ""))
    site_file(
        tmp_path, database={"engine": "none"},
        runtime={"name": "python", "version": "3", "launchers": {"3": sys.executable}},
        serve={"command": ["{runtime}", "serve.py", "--port", "{port}"]},
    )  # fmt: skip
    address = open_site(tmp_path / "keenharbor.toml").address
    port = int(address.rpartition(":")[2])
    server = subprocess.Popen(
        [sys.executable, "serve.py", "--port", str(port)], cwd=tmp_path / "site", env=environment()
    )
    end = time.monotonic() + 20
    while not port_is_taken(port) and time.monotonic() < end:
        time.sleep(0.05)
    yield tmp_path, address
    server.kill()
    server.wait()


def visit(address: str, *steps: CheckStep, seconds: float = 10) -> str | None:
    check = CheckPart(name="x", browser=True, seconds=seconds, steps=list(steps))
    with Visitor(address) as visitor:
        return make_checks(visitor, [check])["x"].problem


ENTER = CheckStep(
    submit="enter", fields={"who": "ida", "Name": "ida", "word": "seed", "shelf": "b", "stay": "1"}, text="Good day"
)


def test_forms_that_scripts_build_are_filled_and_buttons_pressed(shelf: tuple[Path, str]) -> None:
    folder, address = shelf
    assert visit(address, CheckStep(get="/"), ENTER, CheckStep(press="Show more", text="skirret")) is None
    (sent,) = (folder / "site/entered.log").read_text().splitlines()
    assert sent == "[('shelf', ['b']), ('stay', ['on']), ('who', ['ida']), ('word', ['seed'])]"
    # The same through plain requests cannot be done: the check says what it lacks.
    with Visitor(address) as visitor:
        plain = CheckPart(name="x", steps=[CheckStep(get="/"), CheckStep(submit="enter")])
        assert make_checks(visitor, [plain])["x"].problem == "step 2: there is no form 'enter' on the page"
        member = CheckPart(name="m", browser=True, steps=[CheckStep(get="/"), ENTER])
        assert member_cookies(visitor, member) == {"in": "yes"}


@pytest.mark.parametrize(
    ("steps", "problem"),
    [
        ([CheckStep(get="/gone")], "step 1: status 404, expected 200"),
        ([CheckStep(get="/", text="No such words")], "step 1: 'No such words' is not on the page"),
        # It stands in the source of a script, which says it to those who are let in.
        ([CheckStep(get="/", text="Good day")], "step 1: 'Good day' is not on the page"),
        ([CheckStep(get="/"), CheckStep(submit="leave")], "step 2: there is no form 'leave' on the page"),
        ([CheckStep(get="/"), CheckStep(fields={"shoe": "9"})], "step 2: there is no field 'shoe' on the page"),
        ([CheckStep(get="/"), CheckStep(press="Close")], "step 2: there is no button 'Close' on the page"),
        ([CheckStep(get="/", selector="#app form", text="Open")], None),
        ([CheckStep(get="/", selector="table")], "step 1: nothing on the page fits 'table'"),
        (
            [CheckStep(get="/"), CheckStep(submit="form[1]", fields={"who": "env:NO_SUCH"})],
            "step 2: the variable NO_SUCH is not set",
        ),
    ],
)
def test_what_is_not_there_is_said(shelf: tuple[Path, str], steps: list[CheckStep], problem: str | None) -> None:
    assert visit(shelf[1], *steps, seconds=1) == problem


def test_a_script_that_breaks_is_quoted(shelf: tuple[Path, str]) -> None:
    (shelf[0] / "site/page.html").write_text(PAGE.replace("app.append(await", "app.appendd(await"))
    problem = visit(shelf[1], CheckStep(get="/"), ENTER, CheckStep(press="Show more", text="skirret"), seconds=1)
    assert problem is not None and problem.startswith("step 3: 'skirret' is not on the page; a script of the page says")
    assert "appendd is not a function" in problem


def test_init_finds_a_log_in_that_scripts_build_and_a_trial_sees_it_break(shelf: tuple[Path, str]) -> None:
    folder, address = shelf
    (folder / "secret").write_text("seed\n")
    words = ("init", "site", "--yes", "--force", "--address", address, "--log-in", "ida", "--password", "file:secret")
    harbor(folder, *words, "--out", "found.toml", code=None)
    (check,) = open_site(folder / "found.toml").model.check
    assert check.browser and check.steps[1].press == "Open the shelf" and check.steps[1].text == "sign out"
    with (folder / "keenharbor.toml").open("a") as out:
        out.write((folder / "found.toml").read_text().partition("[[check]]")[2].join(("\n[[check]]\nseconds = 4", "")))
    harbor(folder, "snapshot", "take")
    (folder / "upgrade.toml").write_text(
        'format = 1\n[plan]\nsite = "lane"\ncore = "1.0"\nruntime = "3"\n[[step]]\nname = "new-look"\n'
        'kind = "command"\ncommand = ["sed", "-i", "s/Good day/Hello/;s/sign out/bye/", "page.html"]\n'
    )
    told = harbor(folder, "trial", "run", "--json", code=1).json
    (finding,) = [f for f in told["findings"] if f["kind"] == "check-failed"]
    assert finding["step"] == "new-look" and "'sign out' is not on the page" in finding["text"]


def test_without_a_browser_nothing_is_begun(shelf: tuple[Path, str], tmp_path: Path) -> None:
    folder, _ = shelf
    with (folder / "keenharbor.toml").open("a") as out:
        out.write('\n[[check]]\nname = "by hand"\nbrowser = true\nsteps = [{ get = "/" }]\n')
    harbor(folder, "snapshot", "take")
    (folder / "empty").mkdir()
    ran = harbor(folder, "snapshot", "drill", "newest", code=2, PATH=str(folder / "empty"))
    assert "the check 'by hand' is made in a browser" in ran.err and "no browser was found" in ran.err
    with (folder / "keenharbor.toml").open("a") as out:
        out.write('\n[[check]]\nname = "half"\nsteps = [{ get = "/" }, { press = "Go" }]\n')
    assert "want a form to 'submit', or 'browser = true'" in harbor(folder, "survey", code=2).err
