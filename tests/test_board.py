"""The board of a fleet: what stands on a site's card, and the page in a real browser."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest

from conftest import harbor
from keenharbor.base.text import now, stamp
from keenharbor.compare.camera import browser_arguments, browser_program, missing_browser
from keenharbor.demo.scene import Scene
from keenharbor.report.board import board_as_html

HOSTILE = "<img src=x onerror=alert(1)> & \"ünïcode\" 'x'"


def card(name: str, **more: object) -> dict[str, Any]:
    at = now()
    made: dict[str, Any] = {
        "site": name, "title": name, "address": f"http://{name}.test", "state": "good", "attention": [],
        "core": "4.0", "core_newest": "4.0", "runtime": "loam 3.1", "database": "sqlite 3.40", "updates": [],
        "snapshot": "s", "taken_at": stamp(at - timedelta(hours=5)), "proven_at": None, "snapshots": 3,
        "places": [{"name": "cellar", "verdict": "good", "told": "", "url": "/cellar", "snapshots": 3,
                    "sent_at": stamp(at), "verified_at": None}],
        "trial": {"id": "t", "verdict": "pass", "at": stamp(at)},
        "way_back": {"to": "core 3.4", "since": stamp(at), "watched": "nothing went wrong"},
        "coming": [[stamp(at + timedelta(hours=7)), "snapshot"]], "duties": {},
    }  # fmt: skip
    return made | more


def said(name: str, group: str = "all", **more: object) -> dict[str, Any]:
    return {
        "site": name, "site_file": f"/srv/{name}.toml", "groups": [group], "verdict": "good", "told": "",
        "result": card(name, **more),
    }  # fmt: skip


SITES = [
    said("birch", core="3.4", updates=["core 4.0", "seed-search"]),
    said("ash", "shops", state="caution", attention=["3 local edits", HOSTILE]),
    said("cedar", state="failed", attention=["place cellar: 2 parcels damaged"]),
    {"site": "dead", "site_file": "/srv/dead.toml", "groups": ["shops"], "verdict": "failed",
     "told": f"the site file cannot be read: {HOSTILE}", "result": None},
]  # fmt: skip


def test_the_page_needs_no_network_and_shows_text_as_text() -> None:
    page = board_as_html(HOSTILE, SITES, now())
    assert "<img" not in page and "&lt;img" in page
    assert not re.findall(r"""(?<!img )(?:src|href)=|url\(|@import|https?://(?!\w+\.test)""", page)
    assert page.index("cedar") < page.index("ash") < page.index("birch"), "the worst first"
    assert "✗</b> 2 failed" in page and "✓</b> 1 good" in page
    assert len(board_as_html("x", SITES * 250, now())) < 5_000_000


@pytest.fixture(scope="module")
def page(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Any]:
    if (lacking := missing_browser()) and "CI" not in os.environ:
        pytest.skip(lacking)
    from playwright.sync_api import sync_playwright

    file = tmp_path_factory.mktemp("board") / "board.html"
    file.write_text(board_as_html("Gardens", SITES, now()))
    problems: list[str] = []
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=browser_program(), args=browser_arguments())
        made = browser.new_page()
        made.on("pageerror", lambda e: problems.append(str(e)))
        made.goto(file.as_uri())
        yield made
        browser.close()
    assert problems == []


def shown(page: Any) -> list[str]:
    return [t.split()[1] for t in page.locator("tr.site:visible td:first-child").all_inner_texts()]


def test_it_is_searched_sorted_and_walked_by_keys(page: Any) -> None:
    assert shown(page) == ["cedar", "dead", "ash", "birch"]
    page.keyboard.press("/")
    page.keyboard.type("seed-search")
    assert shown(page) == ["birch"] and page.locator("#shown").inner_text() == "1 of 4 shown"
    page.keyboard.press("Escape")
    assert len(shown(page)) == 4
    page.locator("th[data-key=core] button").click()
    assert shown(page)[0] == "dead" and page.locator("th[data-key=core]").get_attribute("aria-sort") == "ascending"
    page.locator("th[data-key=core] button").click()
    assert shown(page)[-1] == "dead"
    page.locator("th[data-key=state] button").click()
    page.locator("button.state.caution").click()
    assert shown(page) == ["ash"]
    page.keyboard.press("Escape")
    page.locator("#group").select_option("shops")
    assert shown(page) == ["dead", "ash"]
    page.keyboard.press("Escape")
    page.evaluate("document.activeElement.blur()")
    page.keyboard.press("j")
    page.keyboard.press("j")
    page.keyboard.press("Enter")
    assert page.locator("tr.more:visible").count() == 1 and "dead.toml" in page.locator("tr.more:visible").inner_text()
    page.keyboard.press("Enter")
    assert page.locator("tr.more:visible").count() == 0
    assert "5 h ago" in page.locator("tr.site").first.inner_text() and "in 7 h" in page.locator("tbody").inner_text()


def test_a_card_says_what_is_to_be_known(scene: Scene, tmp_path: Path) -> None:
    fleet = scene.folder / "fleet.toml"
    fleet.write_text('format = 1\n[[group]]\nname = "all"\nsites = ["keenharbor.toml"]\n')
    bare = harbor(scene.folder, "fleet", "board", "--json", code=3).json["sites"][0]["result"]
    assert bare["state"] == "failed" and "there is no snapshot" in bare["attention"]
    assert any("[routine]" in a for a in bare["attention"]) and "core 4.0" in bare["updates"]
    harbor(scene.folder, "snapshot", "take")
    harbor(scene.folder, "place", "add", "cellar", tmp_path / "cellar", "--key-to", tmp_path / "key.txt")
    harbor(scene.folder, "place", "send")
    with scene.site_file.open("a") as file:
        file.write('\n[routine]\nsnapshot = "daily 03:10"\n')
    done = harbor(scene.folder, "fleet", "board", "--json", code=1).json["sites"][0]["result"]
    assert done["state"] == "caution" and done["snapshots"] == 1 and done["coming"][0][1] == "snapshot"
    assert done["attention"] and all("place" not in a or "read back" in a for a in done["attention"])
    assert done["places"][0]["snapshots"] == 1 and done["way_back"] is None
    told = harbor(scene.folder, "fleet", "board", code=1).out
    assert "board.html: 1 site: 1 caution" in " ".join(told.split())
    assert "marrow-lane" in (scene.folder / "board.html").read_text()
