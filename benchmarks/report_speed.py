"""A report of many observations: how large it is, how long it takes to write, and to open in a browser.

python benchmarks/report_speed.py [OBSERVATIONS]
"""

from __future__ import annotations

import random
import sys
import tempfile
import time
from pathlib import Path

from playwright.sync_api import sync_playwright
from scaling import SITE

from keenharbor.compare import Observation, Weight
from keenharbor.compare.camera import browser_arguments, browser_program
from keenharbor.compare.findings import group
from keenharbor.compare.look import LOGGED_IN
from keenharbor.report.trial import report_html
from keenharbor.site.load import open_site
from keenharbor.trial.causes import entries
from keenharbor.trial.result import Isolation, StepRecord, TrialResult

KINDS = ("text-changed", "text-lost", "block-gone", "link-gone", "title-changed", "headings-changed", "block-new")
WORDS = [
    "kale",
    "leek",
    "bean",
    "seed",
    "lane",
    "wall",
    "grower",
    "notes",
    "calendar",
    "swap",
    "pear",
    "quince",
    "medlar",
    "skirret",
    "orache",
]


def observations(count: int) -> list[tuple[Observation, str | None, str | None]]:
    """Differences on pages for visitors and behind a log-in, by eight steps; texts of every length that is kept."""
    chance = random.Random(5)
    made: list[tuple[Observation, str | None, str | None]] = []
    for number in range(count):
        page = f"/{chance.choice(WORDS)}/{chance.randrange(count // 4)}/" + chance.choice(("", LOGGED_IN))
        before, after = (" ".join(chance.choices(WORDS, k=18))[:120] for _ in range(2))
        seen = Observation(
            chance.choice(KINDS), f"#block-{chance.randrange(count // 3)}", chance.choice(list(Weight)),
            f"the block #{number} says something else", page, before, after,
        )  # fmt: skip
        made.append((seen, f"step-{chance.randrange(8)}", None))
    return made


def main(count: int = 5000) -> None:
    """Make it, write it, open it."""
    findings = group(observations(count))
    steps = tuple(StepRecord(f"step-{n}", "run it", None, 1, 1.0, "", 3, 1, f"c{n}") for n in range(8))
    result = TrialResult(
        id="20261125-030000-abcd", site="lane", plan_file="upgrade.toml", plan_digest="d",
        snapshot="20261125-020000-abcd", started_at="2026-11-25T03:00:00.000Z", seconds=12.3, verdict="fail",
        findings=tuple(findings), healed=(), slower=(), steps=steps, noise=(), pages=count // 4,
        isolation=Isolation("aa", "aa", (), False, 0, {}, (), ()), clone=None, known=(), timings={},
    )  # fmt: skip
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "site").mkdir()
        (folder / "site/VERSION").write_text("1.0\n")
        (folder / "keenharbor.toml").write_text(SITE.format(port=9, database='engine = "none"', python=sys.executable))
        site = open_site(folder / "keenharbor.toml")
        began = time.monotonic()
        text = report_html(site, result)
        wrote = time.monotonic() - began
        (folder / "report.html").write_text(text)
        told = entries(findings)
        with sync_playwright() as play:
            browser = play.chromium.launch(executable_path=browser_program(), args=browser_arguments())
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            took = []
            for _ in range(3):
                began = time.monotonic()
                page.goto((folder / "report.html").as_uri(), wait_until="load")
                page.evaluate("() => new Promise(done => requestAnimationFrame(() => setTimeout(done)))")
                took.append(time.monotonic() - began)
            browser.close()
    print(
        f"{count} observations, {len(findings)} findings, {len(told)} entries: {len(text.encode()) / 1e6:.1f} MB (bar "
        f"5),"
    )
    print(f"written in {wrote:.2f} s, open and drawn in {', '.join(f'{t:.2f}' for t in took)} s (bar 1)")


if __name__ == "__main__":
    main(*(int(w) for w in sys.argv[1:]))
