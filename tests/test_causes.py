"""Findings of one cause are told as one entry, and no cause is swallowed."""

from __future__ import annotations

from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from keenharbor.compare import Finding, Look, Observation, Weight, group
from keenharbor.compare.look import LOGGED_IN, PageSeen
from keenharbor.compare.markup import read_markup
from keenharbor.trial.accepted import accept, read_accepted, sort_out
from keenharbor.trial.causes import Noticed, entries, entry_of
from keenharbor.trial.titles import titles_of

COUNT = iter(range(10**6))


def finding(
    kind: str, place: str = "", *pages: str, weight: str = "doubt", step: str | None = "core", before: str = "",
    after: str = "", text: str = "",
) -> Finding:  # fmt: skip
    number = next(COUNT)
    return Finding(
        f"{kind}-{number}", kind, place, Weight(weight), text or f"{kind} {place}", pages, before, after, step
    )  # fmt: skip


def test_the_same_change_on_many_pages_and_in_many_blocks_is_one() -> None:
    found = [
        finding("text-changed", f"#part{n}", f"/p{n}", before=f"Lane {n} since 1974 kept", after=f"Lane {n} since 1994 "
            f"kept")
        for n in range(30)
    ]  # fmt: skip
    other = finding("text-changed", "#foot", "/p1", before="Write to the desk", after="Write to the lane")
    (one, two) = entries([*found, other])
    assert sorted((len(one.findings), len(two.findings))) == [1, 30]
    assert max((one, two), key=lambda e: len(e.findings)).follows == "29 × another text"


def test_links_follow_pages_that_moved_and_pages_follow_the_data() -> None:
    moved = finding("page-moved", "/old", "/old", weight="damage", before="/old", after="/new")
    listed = finding("link-gone", "#menu", "/", "/a", before="/old, /b")
    elsewhere = finding("link-gone", "#foot", "/", before="/imprint")
    title = finding(
        "rows-changed", "pages", before="id 3: title = About the lane", after="id 3: title = All of the lane"
    )
    shown = finding("title-changed", "title", "/about", before="About the lane", after="All of the lane")
    heads = {e.head.kind + str(len(e.findings)) for e in entries([moved, listed, elsewhere, title, shown])}
    assert heads == {"page-moved2", "link-gone1", "title-changed2"}
    (of_title,) = entries([title, shown])
    assert of_title.noticed is Noticed.VISITORS, "what a visitor sees stands first, whatever it comes from"


def test_the_interface_of_the_administration_is_one_entry_an_area_and_its_damage_is_not() -> None:
    pages = [f"/admin/shop/{n}/{LOGGED_IN}" for n in range(40)]
    changes = [finding(("block-new", "text-moved")[n % 2], f"#b{n}", pages[n], weight="note") for n in range(40)]
    broken = finding("form-gone", "#save", pages[3], weight="damage")
    public = finding("text-changed", "#b", "/", before="a b c d e f g h", after="a b c d e f x")
    made = entries([*changes, broken, public])
    assert [(e.noticed, e.weight, len(e.findings)) for e in made] == [
        (Noticed.VISITORS, Weight.DOUBT, 1), (Noticed.EDITORS, Weight.DAMAGE, 1), (Noticed.EDITORS, Weight.NOTE, 40),
    ]  # fmt: skip
    assert made[2].text == "the administration looks otherwise: admin, on 40 pages"


def test_what_a_failed_step_leaves_follows_from_it() -> None:
    failed = finding("step-failed", "migrate", weight="damage", step="migrate")
    pages = finding("page-fails", "status 503", "/a", "/b", weight="damage", step="migrate")
    check = finding("check-failed", "buy", weight="damage", step="migrate", after="step 1: status 503, expected 200")
    other = finding("page-fails", "status 500", "/calm", weight="damage", step="core")
    line = finding("log", "GET /c", text="new in the error log: GET /calm: TypeError", after="GET /calm: TypeError")
    stray = finding("log", "PHP", text="new in the error log: GET /calmer: Notice", after="GET /calmer: Notice")
    made = {e.head.kind: {f.kind for f in e.others} for e in entries([failed, pages, check, other, line, stray])}
    assert made == {"step-failed": {"page-fails", "check-failed"}, "page-fails": {"log"}, "log": set()}


def test_failures_for_one_reason_the_log_of_them_and_data_under_one_name_are_one_cause() -> None:
    why = "step 2: 'Welcome' is not on the page"
    nobody = [finding("check-failed", n, weight="damage", after=why) for n in ("a member logs in", "the admin logs in")]
    nobody.append(finding("log-in-failed", "log in", weight="damage", after=why))
    line = finding("log", "mail", after="mail was not sent: Connection refused")
    assert [len(e.findings) for e in entries([*nobody, line])] == [4]
    other = finding("check-failed", "buy", weight="damage", after="step 1: the form 'buy' has no field name")
    assert len(entries([*nobody, line, other])) == 3, "with two reasons nobody knows whose the line is"
    field = finding("field-lost", "buy", "/shop", weight="damage")
    assert len(entries([other, field])) == 1 and len(entries([other, finding("form-gone", "bu", "/")])) == 2
    notice = finding("log", "old", after="a notice: this will go in the next release")
    assert len(entries([other, notice])) == 2

    gone = finding("schema-gone", "table shop_events")
    rows = finding("rows-lost", "shop_events", weight="damage", before="id 1, 2")
    shown = finding("text-lost", "#events", "/calendar", weight="damage")
    setting = finding("setting-changed", "blocks.growers-notes.kinds.1", weight="damage", before="bean", after="beao")
    block = finding("block-gone", "#growers-notes", "/a", weight="damage")
    text = finding("text-changed", "#growers-notes", "/b", before="as", after="es")
    parts = entries([gone, rows, shown, setting, block, text])
    made = {frozenset(f.kind for f in e.findings) for e in parts}
    assert made == {
        frozenset({"schema-gone", "rows-lost", "text-lost"}), frozenset({"setting-changed", "block-gone"}),
        frozenset({"text-changed"}),
    }  # fmt: skip
    stale = [
        finding("stale-cache", "page cache", p, weight="damage", step=s) for p, s in (("/a", "one"), ("/b", "two"))
    ]
    assert len(entries([*stale, text])) == 2


def test_a_page_that_is_away_takes_its_menu_entries_and_the_rows_that_did_it_along() -> None:
    away = finding("page-fails", "status 404", "/leek/", weight="damage")
    menus = [finding("block-gone", f"#{n}leek", "/", "/a", weight="damage", before="Leek") for n in ("", "tree-menu-")]
    other = finding("block-gone", "#leeks", "/b", weight="damage", before="Other")
    rows = finding("rows-changed", "pages", before="id 2: status = 2", after="id 2: status = 1")
    assert sorted(len(e.findings) for e in entries([away, *menus, rows])) == [4]
    assert sorted(len(e.findings) for e in entries([away, *menus, other, rows])) == [1, 1, 3], (
        "whose the rows are is open"
    )
    shown = finding("description-changed", "description", "/p", before="Skirret likes the wall.", after="")
    cell = finding(
        "rows-changed", "posts", before="id 3: content = <p>Skirret likes the wall.</p>", after="id 3: content = "
    )
    assert len(entries([shown, cell, other])) == 2

    form, field = (f"/admin/forms/9/{LOGGED_IN}", f"/admin/forms/9/?all=1{LOGGED_IN}")
    lost = [finding("field-lost", "f", form, weight="damage"), finding("block-gone", "#x", field, weight="damage")]
    elsewhere = finding("block-gone", "#y", f"/admin/pages/{LOGGED_IN}", weight="damage", before="That")
    assert sorted(len(e.findings) for e in entries([*lost, elsewhere])) == [1, 2]


def test_steps_are_never_put_together() -> None:
    one, two = (finding("text-changed", "#a", "/", step=s, before="kale and leek", after="kale") for s in ("a", "b"))
    assert len(entries([one, two])) == 2
    assert entry_of([one, two], two.id) is not None and entry_of([one, two], "nothing") is None


kinds = st.sampled_from(
    [
        "text-changed",
        "text-lost",
        "block-new",
        "link-gone",
        "page-fails",
        "rows-changed",
        "setting-changed",
        "files",
        "log",
    ]
)
found = st.lists(
    st.builds(
        lambda kind, place, pages, weight, step, before: finding(
            kind, place, *pages, weight=weight, step=step, before=before
        ),
        kinds, st.sampled_from(["#a", "#b", "status 500", "shop.x"]),
        st.lists(st.sampled_from(["/", "/a", "/b", "/admin/" + LOGGED_IN]), max_size=3, unique=True),
        st.sampled_from(["damage", "doubt", "note"]), st.sampled_from(["one", "two", None]),
        st.sampled_from(["", "kale and leek", "id 1: title = Kale and more"]),
    ),
    max_size=14,
)  # fmt: skip


@given(found)
def test_every_finding_is_in_one_entry_and_none_is_told_milder_than_it_is(given_findings: list[Finding]) -> None:
    made = entries(given_findings)
    told = [f.id for e in made for f in e.findings]
    assert sorted(told) == sorted(f.id for f in given_findings)
    for entry in made:
        assert entry.weight is min((f.weight for f in entry.findings), key=lambda w: w.rank)
        assert {f.step for f in entry.findings} == {entry.step}
    weights = [e.weight is Weight.NOTE for e in made]
    assert weights == sorted(weights), "what is only told comes last"


def test_what_was_accepted_stays_accepted_on_more_pages_as_long_as_the_change_is_the_same(tmp_path: Path) -> None:
    plan = tmp_path / "upgrade.toml"

    def found(*seen: tuple[str, str, str]) -> Finding:
        observations = [
            Observation("text-changed", "#foot", Weight.DOUBT, "x", page, before, after) for page, before, after in seen
        ]
        (made,) = group((o, "core", None) for o in observations)
        return made

    first = found(("/a", "Page A since 1974", "Page A since 1994"))
    accept(plan, [first], "the year was wrong", "ida")
    agreed = read_accepted(plan)
    again = [
        (("/a", "Page A since 1974", "Page A since 1994"), ("/b", "Page B since 1974", "Page B since 1994")),
        (("/c (logged in)", "C since 1974", "C since 1994"),),
    ]  # fmt: skip
    for seen in again:
        assert sort_out([found(*seen)], agreed) == ([], [found(*seen)])
    other = found(again[0][0], ("/b", "Page B since 1974", "Page B"))
    assert sort_out([other], agreed) == ([other], []), "a change that nobody saw is hidden behind none"
    # Of old files, which know no changes, the pages decide.
    assert all(a.model_copy(update={"changes": []}).fits(first, a.on) for a in agreed)
    assert not any(a.model_copy(update={"changes": []}).fits(found(*again[0]), a.on) for a in agreed)


def test_pages_are_called_by_their_titles_without_what_all_end_with() -> None:
    def look(**titles: str) -> Look:
        made = Look("http://x")
        for path, title in titles.items():
            markup = read_markup(f"<title>{title}</title><p>x", "http://x", f"/{path}")
            made.pages[f"/{path}"] = PageSeen(f"/{path}", 200, markup=markup)
        return made

    site = look(a="Kale | Marrow Lane", b="Leek | Marrow Lane", c="Marrow Lane", d="Bean - late | Marrow Lane", e="")
    assert titles_of(site, {"/a", "/c", "/d", "/e", "/none"}) == {
        "/a": "Kale",
        "/c": "Marrow Lane",
        "/d": "Bean - late",
    }
    assert titles_of(look(a="Kale - red", b="Leek"), {"/a"}) == {"/a": "Kale - red"}
    assert titles_of(Look("http://x"), {"/a"}) == {}
