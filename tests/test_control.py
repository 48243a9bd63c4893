"""What the clock does by itself, and what a broken site hides: told from what a step did."""

from __future__ import annotations

import json
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from conftest import harbor
from keenharbor.compare import Look, Noise, Weight, compare_pages
from keenharbor.compare.look import CheckSeen, PageSeen
from keenharbor.compare.markup import read_markup
from keenharbor.trial.control import by_the_clock, not_by_the_clock
from test_forms import site_file

# A page that says what time it is in words, closes at a moment, and counts nothing.
CLOCK = """
import json, sys, time
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path


class Handler(BaseHTTPRequestHandler):
    def do_GET(self):
        said = json.loads(Path("said.json").read_text())
        if self.path == "/note" and said.get("broken"):
            self.send_response(500)
            self.end_headers()
            return
        state = "open, come in" if time.time() < said["closes"] else "closed until spring, sorry"
        body = f"<title>Lane</title><main><p>The lane is {state}. {said['text']}</p><a href='/note'>note</a></main>"
        if self.path == "/note":
            body = f"<title>Note</title><p>{said.get('note', 'A note of the lane.')}</p>"
        self.send_response(200)
        self.send_header("Content-Type", "text/html")
        self.end_headers()
        self.wfile.write(body.encode())

    def log_message(self, *words):
        pass


HTTPServer(("127.0.0.1", int(sys.argv[sys.argv.index("--port") + 1])), Handler).serve_forever()
"""
PLAN = 'format = 1\n[plan]\nsite = "lane"\ncore = "1.0"\nruntime = "3"\n'


def clock_site(folder: Path, closes_in: float) -> Path:
    (folder / "site").mkdir()
    (folder / "site/serve.py").write_text(CLOCK)
    (folder / "site/said.json").write_text(f'{{"closes": {time.time() + closes_in}, "text": "Bring a bag of beans."}}')
    site_file(
        folder, database={"engine": "none"}, areas={"settings": ["said.json"], "cache": ["*.log"]},
        runtime={"name": "python", "version": "3", "launchers": {"3": sys.executable}},
        serve={"command": ["{runtime}", "serve.py", "--port", "{port}"]},
    )  # fmt: skip
    harbor(folder, "snapshot", "take")
    return folder


def rehearsed(folder: Path, *steps: tuple[str, str], code: int | None = None) -> Any:
    text = PLAN
    for name, command in steps:
        text += f'[[step]]\nname = "{name}"\nkind = "command"\ncommand = ["sh", "-c", {json.dumps(command)}]\n'
    (folder / "upgrade.toml").write_text(text)
    return harbor(folder, "trial", "run", "--go-on", "--json", code=code).json


def of_pages(told: Any) -> list[tuple[str, str, str]]:
    return [(f["kind"], f["step"], f["weight"]) for f in told["findings"] if f["pages"]]


def test_what_the_clock_does_is_no_steps_doing(tmp_path: Path) -> None:
    clock_site(tmp_path, closes_in=9)
    told = rehearsed(tmp_path, ("wait", "sleep 12"))
    assert told["findings"] == [] and told["healed"] == [] and told["verdict"] == "pass"


def test_a_change_in_words_that_the_clock_moves_is_seen_and_laid_to_its_step(tmp_path: Path) -> None:
    clock_site(tmp_path, closes_in=9)
    told = rehearsed(
        tmp_path,
        ("cut", "sed -i 's/ Bring a bag of beans.//' said.json; sed -i 's/Bring a bag of beans.//' said.json"),
        ("wait", "sleep 12"),
    )  # fmt: skip
    assert of_pages(told) == [("text-lost", "cut", "damage")]


def test_a_page_that_died_heals_nothing(tmp_path: Path) -> None:
    clock_site(tmp_path, closes_in=900)
    told = rehearsed(
        tmp_path,
        ("spoil", 'sed -i \'s/\\("text".*\\)}/\\1, "note": "Nothing."}/\' said.json'),
        ("break", """sed -i 's/^{/{"broken": 1, /' said.json"""),
    )
    found = {f["kind"]: f for f in told["findings"] if f["pages"] == ["/note"]}
    assert found["page-fails"]["step"] == "break"
    assert found["text-changed"]["step"] == "spoil" and found["text-changed"]["weight"] == "doubt"
    assert "cannot be confirmed since step break" in found["text-changed"]["text"]
    assert not [f for f in told["healed"] if f["pages"] == ["/note"]]


def test_what_was_put_right_again_is_healed(tmp_path: Path) -> None:
    clock_site(tmp_path, closes_in=900)
    told = rehearsed(tmp_path, ("spoil", "sed -i s/beans/peas/ said.json"), ("mend", "sed -i s/peas/beans/ said.json"))
    assert [f["kind"] for f in told["healed"] if f["pages"]] == ["text-changed"] and of_pages(told) == []


def page(text: str, path: str = "/") -> Look:
    return Look(
        "http://x", {path: PageSeen(path, 200, markup=read_markup(f"<main><p>{text}</p></main>", "http://x", path))}
    )


@pytest.mark.parametrize(
    ("before", "control", "after", "kinds"),
    [
        ("read one hour ago", "read one day ago", "read one day ago", []),
        ("read one hour ago", "read one day ago", "read one day ago by Ida", ["text-changed"]),
        ("kale and beans, one hour ago", "kale and beans, one day ago", "kale one day ago", ["text-lost"]),
        ("kale", "kale", "leek", ["text-changed"]),
        ("read one hour ago", "read one day ago", "read one hour ago", []),
    ],
)
def test_both_sides_cancel(before: str, control: str, after: str, kinds: list[str]) -> None:
    seen = compare_pages(page(before), page(after), Noise())
    kept = not_by_the_clock(seen, page(control), page(after), Noise(), {}, [])
    assert [o.kind for o in kept] == kinds
    assert bool(by_the_clock(page(before), page(control), Noise())) == (before != control)


def test_a_check_that_fails_on_both_sides_is_no_steps_doing() -> None:
    good, bad = CheckSeen("buy", None), CheckSeen("buy", "step 2: the shop is closed")
    before, control, after = page("x"), page("x"), page("x")
    before.checks, control.checks, after.checks = {"buy": good}, {"buy": bad}, {"buy": bad}
    seen = compare_pages(before, after, Noise())
    assert [o.kind for o in seen] == ["check-failed"]
    assert not_by_the_clock(seen, control, after, Noise(), {}, []) == []
    control.checks = {"buy": good}
    assert not_by_the_clock(seen, control, after, Noise(), {}, []) == seen


def test_what_the_steps_did_is_told_under_the_kind_that_it_had_before_the_clock_moved() -> None:
    before, control = page("kale and beans, an hour old"), page("kale and beans, a day old")
    after = page("kale a day old")
    seen = compare_pages(before, after, Noise())
    assert [o.kind for o in seen] == ["text-changed"]
    (told,) = not_by_the_clock(seen, control, after, Noise(), {}, [])
    assert (told.kind, told.weight) == ("text-lost", Weight.DAMAGE) and "lost text" in told.text
    (told,) = not_by_the_clock(seen, control, after, Noise(), {}, [], {seen[0].identity})
    assert (told.kind, told.weight) == ("text-changed", Weight.DAMAGE)
