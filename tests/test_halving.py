"""Between the steps some pages stand for all; what only the last look shows is laid to its step all the same."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from conftest import harbor
from keenharbor.compare import Look, Observation, Weight
from keenharbor.compare.crew import Crew
from keenharbor.compare.look import LOGGED_IN, PageSeen
from keenharbor.trial.halving import MOST_CLONES, Halving
from keenharbor.trial.observing import laid_of_pages, unconfirmed
from keenharbor.trial.record import SeenStep
from keenharbor.trial.result import StepRecord
from keenharbor.trial.sentinels import FROM_PAGES, parents_of, shape, stands_for_all
from keenharbor.trial.steps.command import CommandStep
from test_forms import site_file


def looked(paths: Sequence[str], dead: Sequence[str] = (), *, cut: bool = False) -> Look:
    return Look("http://h", {p: PageSeen(p, 500 if p in dead else 200) for p in paths}, cut=cut)


def steps_of(count: int, pages: Sequence[str], sentinels: Sequence[str], since: dict[str, int]) -> list[SeenStep]:
    """``since``: from which step on each page differs; only the last look is at all of them."""
    made = []
    for number in range(count):
        last = number == count - 1
        seen_pages = pages if last else sentinels
        made.append(SeenStep(
            {}, StepRecord(f"s{number}", "", None, 1, 0.0, "", 0, 0, f"c{number}"), looked(seen_pages, cut=not last),
            [different(p) for p in seen_pages if since.get(p, count) <= number], partial=not last,
        ))  # fmt: skip
    return made


def different(page: str) -> Observation:
    return Observation("text-changed", f"block of {page}", Weight.DOUBT, "says something else", page)


PAGES = [f"/p/{n}" for n in range(12)]


@given(
    count=st.integers(1, 14), since=st.dictionaries(st.sampled_from(PAGES), st.integers(0, 13), max_size=4),
    sentinels=st.sets(st.sampled_from(PAGES), max_size=3),
)  # fmt: skip
def test_each_difference_is_laid_to_the_step_since_which_it_is_there(
    count: int, since: dict[str, int], sentinels: set[str]
) -> None:
    since = {p: min(at, count - 1) for p, at in since.items()}
    steps = steps_of(count, PAGES, sorted(sentinels), since)
    asked: list[int] = []

    def look_at(number: int, pages: Sequence[str], onwards: bool) -> tuple[Look, list[Observation]]:
        assert 0 <= number < count - 1 and pages
        asked.append(number)
        return looked(pages, cut=True), [different(p) for p in pages if since.get(p, count) <= number]

    halving = Halving(steps, looked(PAGES), look_at)
    halving.lay()
    assert not halving.undecided and len(asked) == len(set(asked)) <= min(MOST_CLONES, count)
    assert {o.page: name for o, name, _ in laid_of_pages(steps, looked(PAGES))} == {
        p: f"s{at}" for p, at in since.items()
    }
    if len(set(since.values())) == 1:
        assert len(asked) <= max(1, count - 1).bit_length()


@given(
    count=st.integers(2, 14), since=st.dictionaries(st.sampled_from(PAGES), st.integers(0, 13), max_size=6),
    idle=st.sets(st.integers(0, 13), max_size=9), start=st.booleans(),
)  # fmt: skip
def test_nothing_is_laid_to_a_step_that_changed_nothing_and_its_state_is_not_asked(
    count: int, since: dict[str, int], idle: set[int], start: bool
) -> None:
    doing = [n for n in range(count) if n not in idle]
    since = {p: max((n for n in doing if n <= at), default=-1) for p, at in since.items()}
    since = {p: at for p, at in since.items() if at >= 0}
    steps = steps_of(count, PAGES, PAGES[:2], since)
    for number, step in enumerate(steps):
        step.step = {"kind": "command"}
        step.record = replace(step.record, files_changed=int(number in doing))
    asked: list[int] = []

    def look_at(number: int, pages: Sequence[str], onwards: bool) -> tuple[Look, list[Observation]] | None:
        asked.append(number)
        return (looked(pages, cut=True), [different(p) for p in pages if since[p] <= number]) if start else None

    Halving(steps, looked(PAGES), look_at).lay()
    assert set(asked) <= set(doing) and len(asked) == len(set(asked))
    told = {o.page: int(name[1:]) for o, name, _ in laid_of_pages(steps, looked(PAGES)) if name}
    assert told.keys() == since.keys()
    if start:
        assert told == since
    elif doing:
        assert set(told.values()) <= set(doing), "what is not known is laid to a step that did something"


def test_what_a_page_had_shown_before_it_died_is_looked_for() -> None:
    steps = steps_of(5, PAGES, PAGES[:1], {})
    broken = Observation("page-broken", "/p/7", Weight.DAMAGE, "does not load", "/p/7")
    steps[-1].look = looked(PAGES, dead=["/p/7"])
    steps[-1].observations = [broken]

    def look_at(number: int, pages: Sequence[str], onwards: bool) -> tuple[Look, list[Observation]]:
        if number >= 3:
            return looked(pages, dead=["/p/7"], cut=True), [broken]
        return looked(pages, cut=True), [different("/p/7")] if number >= 1 else []

    Halving(steps, looked(PAGES), look_at).lay()
    assert [n for n, s in enumerate(steps) if broken in s.observations] == [3, 4]
    assert different("/p/7") in steps[2].observations


@given(
    count=st.integers(2, 12), since=st.dictionaries(st.sampled_from(PAGES), st.integers(0, 11), max_size=4),
    dies=st.dictionaries(st.sampled_from(PAGES), st.integers(0, 11), max_size=4),
    sentinels=st.sets(st.sampled_from(PAGES), max_size=3), all_die=st.booleans(), down=st.booleans(),
)  # fmt: skip
def test_what_a_later_step_hides_is_told_and_laid_to_its_own(
    count: int, since: dict[str, int], dies: dict[str, int], sentinels: set[str], all_die: bool, down: bool
) -> None:
    """Each page differs from a step on, and fails from another on; the last step may end all, or the whole site."""
    last = count - 1
    since = {p: min(at, last) for p, at in since.items()}
    death = {p: min(at, last) for p, at in dies.items()} | (
        {p: min(dies.get(p, last), last) for p in PAGES} if all_die else {}
    )

    def fails(page: str) -> Observation:
        return Observation("page-fails", f"error of {page}", Weight.DAMAGE, "fails", page)

    def state(number: int, pages: Sequence[str]) -> tuple[Look, list[Observation]]:
        dead = [p for p in pages if death.get(p, count) <= number]
        found = [fails(p) if p in dead else different(p) for p in pages if p in dead or since.get(p, count) <= number]
        return looked(pages, dead, cut=len(pages) < len(PAGES)), found

    steps = steps_of(count, PAGES, sorted(sentinels), {})
    for number, step in enumerate(steps):
        step.look, step.observations = state(number, PAGES if number == last else sorted(sentinels))
    if down:
        steps[-1].look, steps[-1].observations = None, [Observation("does-not-start", "site", Weight.DAMAGE, "none")]
    halving = Halving(steps, looked(PAGES), lambda number, pages, onwards: state(number, pages))
    halving.lay()
    laid = list(laid_of_pages(steps, looked(PAGES)))
    laid += unconfirmed(steps, laid, looked(PAGES))
    told = {(o.kind, o.page): step for o, step, _ in laid if o.page}
    for page, at in since.items():
        end = min(death.get(page, count), last if down else count)
        if at < end:
            assert told.pop(("text-changed", page)) == f"s{at}"
    for page, at in death.items():
        if at < last or not down:
            assert told.pop(("page-fails", page)) == f"s{at}"
    assert not told and not halving.undecided


def test_a_state_that_does_not_start_decides_nothing() -> None:
    steps = steps_of(4, PAGES, PAGES[:1], {"/p/5": 1})
    Halving(steps, looked(PAGES), lambda number, pages, onwards: None).lay()
    assert [name for _, name, _ in laid_of_pages(steps, looked(PAGES))] == ["s3"]


def test_one_page_of_each_kind_of_address_stands_for_all() -> None:
    paths = [
        "/", "/about", "/contact", *(f"/growers/{n}-and-co" for n in range(40)), *(f"/notes/{n}" for n in range(40)),
        "/find?q=a", "/find?q=b", f"/{LOGGED_IN}", f"/notes/3{LOGGED_IN}", "/seed-swap/list",
    ]  # fmt: skip
    look = looked(paths)
    step = CommandStep(name="seed-swap", kind="command", command=["true"])
    chosen = stands_for_all(look, ["/"], [step])
    assert chosen == [
        "/", "/about", "/contact", "/growers/0-and-co", "/notes/0", "/find?q=a", f"/{LOGGED_IN}",
        f"/notes/3{LOGGED_IN}",
        "/seed-swap/list",
    ] and len(paths) > FROM_PAGES  # fmt: skip
    assert stands_for_all(look, ["/"], [step], ["/notes/39"])[5:6] == ["/notes/39"]
    many = looked([*paths, *(f"/post-{n}" for n in range(40))])
    assert not {"/contact", "/post-0"} & set(stands_for_all(many, ["/"], [step])), (
        "at a top of many names one stands for all"
    )
    few = looked(paths[:FROM_PAGES])
    assert stands_for_all(few, ["/"], [step]) == paths[:FROM_PAGES]
    assert (
        shape("/growers/x/2024?b=1&a=2", parents_of(["/growers/x/1", "/growers/x/2", "/growers/y"]))
        == "growers/x/#?a&b"
    )


class Counting:
    """Stands for a visitor; knows how many are at work."""

    def __init__(self, bears: int = 99, at_once: list[int] | None = None) -> None:
        self.bears, self.at_once = bears, at_once if at_once is not None else [0, 0]

    def another(self) -> Counting:
        return Counting(self.bears, self.at_once)

    def close(self) -> None: ...


def test_a_crew_grows_as_far_as_it_helps_and_asks_again_what_was_too_much() -> None:
    import threading
    import time

    lock = threading.Lock()

    def visit(visitor: Any, path: str) -> tuple[str, bool]:
        with lock:
            visitor.at_once[0] += 1
            visitor.at_once[1] = max(visitor.at_once)
            bears = visitor.at_once[0] <= visitor.bears
        time.sleep(0.012)
        with lock:
            visitor.at_once[0] -= 1
        return path, bears

    paths = [f"/{n}" for n in range(120)]
    strong, weak = Counting(), Counting(bears=2)
    found = list(Crew(strong, 4).each(visit, paths, lambda f: not f[1]))  # type: ignore[arg-type]
    assert [p for p, _ in found] == paths and strong.at_once[1] in (3, 4)  # 3 where the machine is busy
    found = list(Crew(weak, 4).each(visit, paths, lambda f: not f[1]))  # type: ignore[arg-type]
    assert all(good for _, good in found) and weak.at_once[1] >= 3


def rehearsed(folder: Path, look: dict[str, Any], did: Sequence[str]) -> Any:
    """A trial of shell commands on the site of pages in a folder."""
    site_file(
        folder, database={"engine": "none"}, look=look,
        runtime={"name": "python", "version": "3", "launchers": {"3": sys.executable}},
        serve={"command": ["{runtime}", "-m", "http.server", "--bind", "127.0.0.1", "-d", "pages", "{port}"]},
    )  # fmt: skip
    (folder / "upgrade.toml").write_text(
        'format = 1\n[plan]\nsite = "lane"\ncore = "1.0"\nruntime = "3"\n'
        + "".join(
            f'[[step]]\nname = "s{n}"\nkind = "command"\ncommand = ["sh", "-c", "{c}"]\nexpects = ["pages/**"]\n'
            for n, c in enumerate(did)
        )
    )
    harbor(folder, "snapshot", "take")
    return harbor(folder, "trial", "run", "--json", code=None).json


def test_a_trial_of_many_pages_lays_each_finding_to_its_step(tmp_path: Path) -> None:
    pages = tmp_path / "site/pages"
    (pages / "n").mkdir(parents=True)
    names = [f"n/{n}.html" for n in range(70)]
    links = "".join(f'<a href="/{n}">{n}</a>' for n in names)
    (pages / "index.html").write_text(f"<title>Lane</title><p>All notes.</p>{links}")
    for name in names:
        (pages / name).write_text(f"<title>Note</title><p>One note of many, {name}.</p>")
    told = rehearsed(
        tmp_path, {"sitemaps": []},
        ["true", "echo '<p>More.</p>' >> pages/n/33.html", "rm pages/n/50.html", "true",
         "echo '<p>More.</p>' >> pages/index.html", "true", "echo '<p>End.</p>' >> pages/n/41.html"],
    )  # fmt: skip
    by_page = {p: f["step"] for f in told["findings"] for p in f["pages"]}
    assert by_page == {"/n/33.html": "s1", "/n/50.html": "s2", "/": "s4", "/n/41.html": "s6"}, told["findings"]
    assert any("between the steps at most" in r and "of 71 pages" in r for r in told["remarks"])


def test_of_pages_that_were_left_out_more_are_looked_at_where_others_of_their_kind_differ(tmp_path: Path) -> None:
    pages = tmp_path / "site/pages"
    (pages / "n").mkdir(parents=True)
    (pages / "m").mkdir()
    names = [f"{kind}/{n}.html" for kind in "nm" for n in range(45)]
    links = "".join(f'<a href="/{n}">{n}</a>' for n in names)
    (pages / "index.html").write_text('<title>Lane</title><p>All.</p><a href="/all.html">all</a>')
    (pages / "all.html").write_text(f"<title>Every note</title>{links}")
    for name in names:
        (pages / name).write_text(f"<title>Note</title><p>One note of many, {name}.</p>")
    did = ["true", "for f in pages/n/*; do echo '<p>More.</p>' >> $f; done", "true"]
    told = rehearsed(tmp_path, {"sitemaps": [], "limit": 50}, did)
    assert "findings" in told, told
    assert [f["step"] for f in told["findings"]] == ["s1"], told["findings"]
    (finding,) = told["findings"]
    assert set(finding["pages"]) == {f"/{n}" for n in names if n.startswith("n/")}
    assert told["pages"] > 50 and any("not looked at ('limit' under [look])" in r for r in told["remarks"])
