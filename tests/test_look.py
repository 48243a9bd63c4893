"""Looks: what a page says is read, noise is learnt, and each planted difference is found and nothing else."""

from __future__ import annotations

import gzip
import itertools
import random
import struct
import time
import zlib
from collections import Counter
from collections.abc import Callable, Sequence
from typing import Any
from urllib.parse import quote

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from conftest import Pages, serve_pages
from keenharbor.compare import (
    Look,
    Noise,
    Observation,
    Visitor,
    Weight,
    compare_pages,
    crew,
    learn_noise,
    slower_pages,
    take_look,
)
from keenharbor.compare.crew import Crew
from keenharbor.compare.findings import group, verdict_of
from keenharbor.compare.look import LOGGED_IN, make_checks
from keenharbor.compare.markup import read_markup
from keenharbor.compare.route import EACH, NUMBERED, QUERY_VARIANTS, Kinds, Route
from keenharbor.compare.sitemaps import places_in
from keenharbor.compare.visitor import VisitError
from keenharbor.site.model import CheckPart, CheckStep, LookPart

HEAD = '<html><head><title>{title}</title><link rel="stylesheet" href="/style.css"></head><body>'
HOME = (
    HEAD.format(title="Home")
    + '<nav id="menu"><a href="/a">A</a> <a href="/b?x=1">B</a> <a href="http://elsewhere.example/">out</a></nav>'
    + '<main id="content"><p>Welcome to the shed</p><img src="/pic.png">'
    + '<section id="note"><p>A note</p></section></main>'
    + '<form id="ask" method="post" action="/send"><input type="hidden" name="token" value="t1"><input name="q">'
    + '<select name="s"><option value="1">x<option value="2" selected>y</select><textarea '
    'name="t">kept</textarea></form></body></html>'
)


def small_site(pages: Pages) -> None:
    pages.content |= {
        "/": HOME,
        "/a": HEAD.format(title="A") + '<main id="content"><p>Page A</p><a href="/">home</a></main>',
        "/b": HEAD.format(title="B") + '<main id="content"><p>Page B</p></main>',
        "/style.css": (200, {"Content-Type": "text/css"}, "body{}"),
        "/pic.png": (200, {"Content-Type": "image/png"}, b"png"),
        "/send": "<h1>Thanks</h1>",
    }


def look(pages: Pages, checks: tuple[CheckPart, ...] = (), **options: Any) -> Look:
    with Visitor(pages.address) as visitor:
        return take_look(visitor, LookPart(**options), samples=2, checks=checks, learn=True)


def difference(pages: Pages, change: Callable[[Pages], None]) -> list[Observation]:
    small_site(pages)
    first, second = look(pages), look(pages)
    noise = learn_noise([first, second])
    change(pages)
    with Visitor(pages.address) as visitor:
        after = take_look(visitor, LookPart(), also=tuple(second.pages), samples=2)
    return compare_pages(second, after, noise)


def test_what_a_page_says_is_read() -> None:
    page = read_markup(HOME.replace("A note", "At http://x.example/a"), "http://x.example", "/")
    assert page.title == "Home"
    assert page.blocks["#content"].text == "Welcome to the shed"
    assert page.blocks["#note"].text == "At {site}/a"
    assert page.blocks["#menu"].links == ["/a", "/b?x=1", "http://elsewhere.example/"]
    assert page.images() == ["/pic.png"]
    assert page.assets == ["/style.css"]
    assert page.forms["ask"].fields == {"token": "t1", "q": "", "s": "2", "t": "kept"}
    assert (page.forms["ask"].method, page.forms["ask"].action) == ("post", "/send")


def test_relative_links_and_the_sites_own_address_become_paths() -> None:
    page = read_markup(
        '<body><a href="c#top">1</a><a href="http://x.example/d">2</a><a href="?p=2">3</a>', "http://x.example", "/a/b"
    )
    assert page.links() == ["/a/c", "/d", "/a/b?p=2"]


@pytest.mark.parametrize("text", ["", "<", "<p><b>unclosed", "\x00\x01", "<body><div id=x><div id=x>twice"])
def test_broken_markup_is_no_crash(text: str) -> None:
    read_markup(text, "http://x.example", "/")


def test_a_look_follows_links_within_the_site_only(pages: Pages) -> None:
    small_site(pages)
    seen = look(pages)
    assert sorted(seen.pages) == ["/", "/a", "/b?x=1"]
    assert seen.assets == {"/pic.png": 200, "/style.css": 200}
    assert all(p.loads for p in seen.pages.values())


def test_endless_addresses_and_the_limit_end_a_look(pages: Pages) -> None:
    count = itertools.count()
    pages.content["/"] = lambda *_: (
        f'<body><a href="/?page={next(count)}">next</a><a href="/deep/{next(count)}">deeper</a>'
    )
    pages.content["*"] = pages.content["/"]
    assert len(look(pages, limit=7).pages) == 7


def test_nothing_is_found_on_an_unchanged_site(pages: Pages) -> None:
    assert difference(pages, lambda p: None) == []


def test_what_changes_by_itself_is_noise_and_other_changes_beside_it_are_found(pages: Pages) -> None:
    count = itertools.count()
    clock = '<body><p id="clock">{}</p><p id="other">{}</p>'
    pages.content["/"] = lambda *_: clock.format(next(count), "calm")
    noise = learn_noise([look(pages), look(pages)])
    assert noise.listing() == ["numbers in block #clock on /"]
    before = look(pages)
    assert compare_pages(before, look(pages), noise) == []
    pages.content["/"] = lambda *_: clock.format(next(count), "changed")
    assert {o.kind for o in compare_pages(before, look(pages), noise)} == {"text-changed"}


def test_text_that_went_into_a_new_block_is_not_lost(pages: Pages) -> None:
    field = '<body><div id="form">Title: {} Status: {}</div>'
    pages.content["/"] = lambda *_: field.format("Shown in the list.", "Draft or not.")
    before = look(pages)
    pages.content["/"] = lambda *_: field.format('<p id="help">Shown in the list.</p>', "Draft or not.")
    found = compare_pages(before, look(pages), learn_noise([before]))
    assert {(o.kind, o.place, o.weight) for o in found} == {
        ("text-moved", "#form", Weight.NOTE), ("block-new", "#help", Weight.NOTE),
    }  # fmt: skip
    pages.content["/"] = lambda *_: field.format('<p id="help">Shown in the list.</p>', "Draft")
    found = compare_pages(before, look(pages), learn_noise([before]))
    assert ("text-lost", Weight.DAMAGE) in {(o.kind, o.weight) for o in found}, "more was lost than moved"


def test_ages_that_a_page_tells_do_not_hide_the_rest_of_their_block(pages: Pages) -> None:
    count = itertools.count(2)
    told = '<body><div id="post">Kale, {} minutes ago, {} <a href="/{}">more</a></div><p id="dice">{}</p>'
    words = itertools.cycle(["heads", "tails"])

    def page(text: str, link: str) -> Callable[..., str]:
        return lambda *_: told.format(next(count), text, link, next(words))

    pages.content["/"], pages.content["/a"], pages.content["/b"] = page("sown", "a"), "<p>a", "<p>b"
    noise = learn_noise([look(pages), look(pages)])
    assert noise.listing() == ["block #dice on /", "numbers in block #post on /"]
    before = look(pages)
    assert compare_pages(before, look(pages), noise) == []
    pages.content["/"] = page("mown", "a")
    assert [o.kind for o in compare_pages(before, look(pages), noise)] == ["text-changed"]
    pages.content["/"] = page("sown", "b")
    assert "link-gone" in {o.kind for o in compare_pages(before, look(pages), noise)}


def replace(path: str, old: str, new: str) -> Callable[[Pages], None]:
    def change(pages: Pages) -> None:
        assert old in pages.content[path]
        pages.content[path] = pages.content[path].replace(old, new)

    return change


def put(path: str, answer: Any) -> Callable[[Pages], None]:
    return lambda pages: pages.content.__setitem__(path, answer)


@pytest.mark.parametrize(
    ("change", "kind", "place", "weight"),
    [
        (replace("/", '<section id="note"><p>A note</p></section>', ""), "block-gone", "#note", Weight.DAMAGE),
        (replace("/", "Welcome to the shed", "Welcome to the"), "text-lost", "#content", Weight.DAMAGE),
        (replace("/", "Welcome", "Farewell"), "text-changed", "#content", Weight.DOUBT),
        (replace("/", "<title>Home", "<title>House"), "title-changed", "title", Weight.DOUBT),
        (replace("/", '<img src="/pic.png">', ""), "image-gone", "#content", Weight.DAMAGE),
        (replace("/", '<input name="q">', ""), "field-lost", "ask", Weight.DAMAGE),
        (replace("/", '<form id="ask"', '<form id="other"'), "form-gone", "ask", Weight.DAMAGE),
        (replace("/", '<a href="/a">A</a>', "A"), "link-gone", "#menu", Weight.DOUBT),
        (replace("/", "</main>", '</main><section id="extra">More</section>'), "block-new", "#extra", Weight.NOTE),
        (replace("/", "</main>", '</main><a href="/new">new</a>'), "link-broken", "/new", Weight.DAMAGE),
        (put("/a", (500, {}, "broken")), "page-fails", "status 500", Weight.DAMAGE),
        (put("/a", (302, {"Location": "http://live.example/"}, "")), "redirect", "/a", Weight.DAMAGE),
        (put("/a", (301, {"Location": "/a"}, "")), "redirect-loop", "/a", Weight.DAMAGE),
        (put("/style.css", (404, {}, "")), "file-broken", "/style.css", Weight.DAMAGE),
        (put("/pic.png", (200, {"Content-Type": "image/png"}, b"")), "file-broken", "/pic.png", Weight.DAMAGE),
    ],
)
def test_each_planted_difference_is_found(
    pages: Pages, change: Callable[[Pages], None], kind: str, place: str, weight: Weight
) -> None:  # fmt: skip
    found = [(o.kind, o.place, o.weight) for o in difference(pages, change)]
    assert (kind, place, weight) in found
    assert len(found) <= 3, found


def test_a_new_link_that_leads_nowhere_is_told_also_where_not_every_page_was_looked_at(pages: Pages) -> None:
    small_site(pages)
    replace("/", "</main>", '</main><a href="/long-broken">b</a>')(pages)
    before = look(pages)
    before.cut = True
    long_broken = before.pages.pop("/long-broken", None)
    replace("/", "</main>", '</main><a href="/new">new</a><a href="/there">t</a>')(pages)
    pages.content["/there"] = "<p>it may have been there</p>"
    found = {(o.kind, o.place) for o in compare_pages(before, look(pages), Noise())}
    assert long_broken is not None and ("link-broken", "/new") in found
    assert not {o for o in found if o[1] in ("/long-broken", "/there")}


def test_a_site_that_does_not_answer_is_a_finding_and_no_crash(pages: Pages) -> None:
    small_site(pages)
    before = look(pages)
    with Visitor("http://127.0.0.1:9") as visitor:
        after = take_look(visitor, LookPart(), also=tuple(before.pages))
    found = compare_pages(before, after, Noise())
    assert [o.kind for o in found if o.page][: len(before.pages)] == ["page-fails"] * len(before.pages)


def test_a_stale_cache_is_found_although_it_hides_the_change(pages: Pages) -> None:
    def cached(old: str, new: str) -> Callable[..., str]:
        return lambda method, path, headers, body: new if headers.get("Cache-Control") == "no-cache" else old

    found = difference(pages, put("/a", cached(HEAD.format(title="A") + '<main id="content"><p>Page A</p><a '
        'href="/">home</a></main>',
                                               HEAD.format(title="A") + '<main id="content"><p>Page</p><a '
                                                   'href="/">home</a></main>')))  # fmt: skip
    assert {o.kind for o in found} == {"text-lost", "stale-cache"}


def test_a_text_that_differs_by_the_version_only_is_as_it_should_be(pages: Pages) -> None:
    small_site(pages)
    pages.content["/b"] = '<body><p id="foot">Runs on Tansy 3.4</p>'
    before = look(pages)
    pages.content["/b"] = '<body><p id="foot">Runs on Tansy 4.0</p>'
    assert compare_pages(before, look(pages), Noise(), {"3.4": "4.0"}) == []
    assert compare_pages(before, look(pages), Noise()) != []


def check(*steps: dict[str, Any]) -> CheckPart:
    return CheckPart(name="visit", steps=[CheckStep(**s) for s in steps])


@pytest.mark.parametrize(
    ("steps", "problem"),
    [
        (({"get": "/", "text": "Welcome"}, {"submit": "ask", "fields": {"q": "x"}, "text": "Thanks"}), None),
        (({"get": "/", "text": "Goodbye"},), "'Goodbye' is not on the page"),
        (({"get": "/nowhere"},), "status 404, expected 200"),
        (({"get": "/nowhere", "status": 404},), None),
        (({"get": "/"}, {"submit": "login"}), "there is no form 'login'"),
        (({"get": "/"}, {"submit": "ask", "fields": {"zip": "1"}}), "has no field zip"),
        (({"get": "/", "mail_to": "a@b.example"},), "no mail to a@b.example"),
        (({"get": "/away"},), "leads out of the site"),
        (({"get": "/moved", "text": "Page A"},), None),
    ],
)
def test_scripted_visits(pages: Pages, steps: tuple[dict[str, Any], ...], problem: str | None) -> None:
    small_site(pages)
    pages.content |= {
        "/away": (302, {"Location": "http://live.example/x"}, ""),
        "/moved": (302, {"Location": "/a"}, ""),
    }
    seen = look(pages, checks=(check(*steps),)).checks["visit"]
    assert (seen.problem is None) if problem is None else (problem in (seen.problem or ""))


def test_cookies_are_kept_within_a_visit_and_dropped_after(pages: Pages) -> None:
    pages.content["/"] = lambda m, p, headers, b: (
        200,
        {"Set-Cookie": "who=ada; Path=/"},
        headers.get("Cookie") or "none",
    )
    with Visitor(pages.address) as visitor:
        assert [visitor.get("/").text, visitor.get("/").text] == ["none", "who=ada"]
        visitor.forget()
        assert visitor.get("/").text == "none"


def test_odd_answers_are_errors_of_the_visit_or_texts() -> None:
    import socket
    import threading

    listener = socket.create_server(("127.0.0.1", 0))
    answers = [b"nonsense\r\n\r\n", b"HTTP/1.1 200 OK\r\nContent-Length: 50\r\n\r\nshort",
        b"HTTP/1.1 200 OK\r\nContent-Type: text/html; charset=klingon\r\nContent-Length: 2\r\n\r\nhi"]  # fmt: skip

    def serve() -> None:
        for answer in answers:
            connection, _ = listener.accept()
            connection.recv(65536)
            connection.sendall(answer)
            connection.close()

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    address = f"http://127.0.0.1:{listener.getsockname()[1]}"
    with listener:
        for expected in (VisitError, VisitError):
            with Visitor(address, timeout=5) as visitor, pytest.raises(expected):
                visitor.get("/")
        with Visitor(address, timeout=5) as visitor:
            assert visitor.get("/").text == "hi"
        thread.join(5)


def observed(kind: str, place: str, page: str = "", weight: Weight = Weight.DAMAGE) -> Observation:
    return Observation(kind, place, weight, f"{kind} at {place}", page)


def test_the_same_difference_on_many_pages_is_one_finding_worst_first() -> None:
    seen = [(observed("note", "x", weight=Weight.NOTE), None, None)]
    seen += [(observed("block-gone", "#n", f"/{i}"), "core", None) for i in range(40)]
    seen += [(observed("block-gone", "#n", "/other"), "runtime", None)]
    found = group(seen)
    assert [(f.kind, f.step, len(f.pages)) for f in found] == [
        ("block-gone", "core", 40),
        ("block-gone", "runtime", 1),
        ("note", None, 0),
    ]
    assert len({f.id for f in found}) == 3
    assert found[0] == type(found[0]).from_json(found[0].as_json())


@pytest.mark.parametrize(
    ("weights", "verdict"),
    [
        ((), "pass"),
        ((Weight.NOTE,), "pass"),
        ((Weight.NOTE, Weight.DOUBT), "review"),
        ((Weight.DOUBT, Weight.DAMAGE), "fail"),
    ],
)
def test_verdicts(weights: tuple[Weight, ...], verdict: str) -> None:
    assert verdict_of(group((observed("k", str(n), weight=w), None, None) for n, w in enumerate(weights))) == verdict


def test_slower_is_said_only_when_large_and_sure() -> None:
    import random

    chance = random.Random(3)

    def times(median: float, count: int = 10) -> list[float]:
        return [median * chance.lognormvariate(0, 0.2) for _ in range(count)]

    before = {f"/{n}": times(0.02) for n in range(60)}
    after = {f"/{n}": times(0.02) for n in range(60)}
    assert slower_pages(before, after) == []
    after["/7"] = times(0.06)
    after["/8"] = times(0.021)
    after["/9"] = times(0.02)[:9] + [2.0]
    (found,) = slower_pages(before, after)
    assert found.path == "/7"
    assert 2 < found.ratio < 4
    assert found.low < found.shift < found.high
    assert slower_pages({"/x": [0.0001] * 10}, {"/x": [0.0009] * 10}) == [], "too small to matter"
    assert slower_pages({"/x": [0.1]}, {"/x": [9.0]}) == [], "too few to be sure"
    assert slower_pages({}, {}) == []


def png(width: int, height: int) -> bytes:
    """A picture, all black (https://www.w3.org/TR/png-3/)."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = struct.pack(">IIBBBBB", width, height, 8, 0, 0, 0, 0)
    body = zlib.compress(b"\0" * ((width + 1) * height))
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", body) + chunk(b"IEND", b"")


PICTURE = png(2, 1)
RICH = """<html><head><title>T</title><meta name="robots" content="index"><meta property="og:title" content="Seeds">
<script type="application/ld+json">{"@type": "Event", "name": "Swap"}</script></head><body>
<main id="m"><h1>Seeds</h1><p>kale, leek and bean from the garden of the library</p><img src="/p.png"><a href="/far">far</a></main></body></html>"""


def rich(pages: Pages) -> None:
    pages.content |= {
        "/": (200, {"X-Frame-Options": "DENY"}, RICH), "/p.png": (200, {"Content-Type": "image/png"}, PICTURE),
        "/far": "<html><head><title>Far</title></head><body><main id='m'>" + " ".join(f"word{i}" for i in range(40))
        + "</main>",
    }  # fmt: skip


def page(old: str, new: str, **headers: str) -> Callable[[Pages], None]:
    def change(pages: Pages) -> None:
        assert old in RICH
        pages.content["/"] = (200, {"X-Frame-Options": "DENY", **headers}, RICH.replace(old, new))

    return change


def move(pages: Pages, sends: bool) -> None:
    pages.content["/farther"] = pages.content["/far"]
    pages.content["/far"] = (301, {"Location": "/farther"}, "") if sends else (404, {}, "")
    pages.content["/"] = (
        200,
        {"X-Frame-Options": "DENY"},
        RICH.replace('"/far"', '"/farther"') + ("<a href='/far'></a>" if sends else ""),
    )


@pytest.mark.parametrize(
    ("change", "kind", "place", "weight"),
    [
        (page("kale, leek and bean", "bean, and leek kale,"), "order-changed", "#m", Weight.DOUBT),
        (page("library", "library \ufffd\ufffd"), "encoding", "#m", Weight.DAMAGE),
        (page("<h1>Seeds</h1>", "<h3>Seeds</h3>"), "headings-changed", "#m", Weight.DOUBT),
        (page('content="index"', 'content="noindex"'), "robots-changed", "robots", Weight.DAMAGE),
        (page('content="Seeds"', 'content="Weeds"'), "structured-changed", "og:title", Weight.DOUBT),
        (page('{"@type": "Event", "name": "Swap"}', "{}"), "structured-gone", "Event 1", Weight.DOUBT),
        (put("/", (200, {}, RICH)), "header-gone", "X-Frame-Options", Weight.DOUBT),
        (page("T</title>", "T</title>", **{"X-Robots-Tag": "noindex"}), "header-new", "X-Robots-Tag", Weight.DAMAGE),
        (put("/p.png", (200, {"Content-Type": "image/png"}, b"<html>sorry</html>")), "picture-broken", "/p.png",
            Weight.DAMAGE),
        (put("/p.png", (200, {"Content-Type": "image/png"}, png(2, 3))),
         "picture-resized", "/p.png", Weight.DOUBT),
        (put("/p.png", (200, {"Content-Type": "image/png"}, PICTURE + b"more")), "picture-changed", "/p.png",
            Weight.DOUBT),
        (lambda p: move(p, False), "page-moved", "/far", Weight.DAMAGE),
        (lambda p: move(p, True), "page-moved", "/far", Weight.NOTE),
        (page('"/far"', '"http://live.example.test/far"'), "leads-to-live", "http://live.example.test", Weight.DAMAGE),
        (put("/far", (302, {"Location": "http://live.example.test/x"}, "")), "leads-to-live", "/far", Weight.DAMAGE),
    ],
)  # fmt: skip
def test_what_only_machines_or_eyes_see_is_found(
    pages: Pages, change: Callable[[Pages], None], kind: str, place: str, weight: Weight
) -> None:
    rich(pages)
    noise = learn_noise([look(pages), look(pages)])
    before = look(pages)
    assert compare_pages(before, look(pages), noise, live=["http://live.example.test"]) == []
    change(pages)
    found = compare_pages(before, look(pages), noise, live=["http://live.example.test"])
    assert (kind, place, weight) in [(o.kind, o.place, o.weight) for o in found]
    assert len(found) <= 3


@pytest.mark.parametrize("wrong", ["cp1252", "latin-1"])
def test_a_wrong_encoding_is_told_from_another_text(pages: Pages, wrong: str) -> None:
    text = "<body><main id='m'>Bärlauch, Grünkohl und Gemüse für fröhliche Gärtner</main>"
    pages.content["/"] = text
    before = look(pages)
    pages.content["/"] = text.encode().decode(wrong)
    assert [o.kind for o in compare_pages(before, look(pages), learn_noise([before]))] == ["encoding"]


def test_titles_headers_and_files_that_change_by_themselves_are_noise(pages: Pages) -> None:
    count = itertools.count()
    pages.content |= {
        "/": lambda *_: (
            200,
            {"Content-Security-Policy": f"nonce-{next(count)}"},
            f"<title>{next(count)}</title><img src='/p.png'>",
        ),
        "/p.png": lambda *_: (200, {"Content-Type": "image/png"}, PICTURE + str(next(count)).encode()),
    }
    noise = learn_noise([look(pages), look(pages)])
    assert noise.listing() == ["headers of /", "title of /", "file /p.png"]
    assert compare_pages(look(pages), look(pages), noise) == []


def test_a_page_is_visited_until_it_says_twice_the_same(pages: Pages) -> None:
    pages.content["/"] = "<body><main id='m'>ready</main>"
    before = look(pages)
    noise = learn_noise([before, look(pages)])
    left = iter(["warming", "warming up"])
    pages.content["/"] = lambda *_: f"<body><main id='m'>{next(left, 'ready')}</main>"
    with Visitor(pages.address) as visitor:
        warm = take_look(visitor, LookPart(), samples=1, served=False, noise=noise)
    assert compare_pages(before, warm, noise) == []
    count = itertools.count()
    pages.content["/"] = lambda *_: f"<body><main id='m'>{next(count)}</main>"
    with Visitor(pages.address) as visitor:
        restless = take_look(visitor, LookPart(), samples=1, served=False, noise=noise)
    assert "unsettled" in [o.kind for o in compare_pages(before, restless, noise)]


def test_pages_are_walked_once_more_as_a_member_sees_them(pages: Pages) -> None:
    def home(method: str, path: str, headers: Any, body: str) -> tuple[int, dict[str, str], str]:
        member = "card=1" in (headers.get("Cookie") or "")
        return (
            200,
            {},
            "<a href='/own'>own</a><a href='/logout'>out</a><p id='hi'>Hello</p>" if member else "<p>Nobody</p>",
        )

    pages.content |= {
        "/": home, "/own": "<p id='own'>Yours</p>",
        "/in": lambda m,
        *_: (302, {"Location": "/", "Set-Cookie": "card=1"}, "") if m == "POST"
        else '<form id="f" method="post" action="/in"><input name="n">',
    }  # fmt: skip
    log_in = CheckPart.model_validate(
        {"name": "in", "steps": [{"get": "/in"}, {"submit": "f", "fields": {"n": "1"}, "text": "Hello"}]}
    )
    with Visitor(pages.address) as visitor:
        before = take_look(visitor, LookPart(), samples=1, log_in=log_in)
        assert {"/", "/ (logged in)", "/own (logged in)"} == before.pages.keys()
        assert ("GET", "/logout") not in pages.asked
        pages.content["/own"] = (500, {}, "")
        after = take_look(visitor, LookPart(), samples=1, log_in=log_in, also=tuple(before.pages))
    found = compare_pages(before, after, learn_noise([before]))
    assert [(o.kind, o.page) for o in found] == [("page-fails", "/own (logged in)")]


def test_when_nobody_can_log_in_it_is_said_once(pages: Pages) -> None:
    form = '<form id="f" method="post" action="/in"><input name="n"></form>'
    pages.content |= {
        "/": "<a href='/a'>a</a>", "/a": "<p>a</p>",
        "/in": lambda m, *_: (302, {"Location": "/", "Set-Cookie": "card=1"}, "") if m == "POST" else form,
    }  # fmt: skip
    log_in = CheckPart.model_validate({"name": "in", "steps": [{"get": "/in"}, {"submit": "f", "fields": {"n": "1"}}]})
    with Visitor(pages.address) as visitor:
        before = take_look(visitor, LookPart(), samples=1, log_in=log_in)
        pages.content["/in"] = lambda m, *_: (500, {}, "") if m == "POST" else form
        after = take_look(visitor, LookPart(), samples=1, log_in=log_in, also=tuple(before.pages))
    assert [o.kind for o in compare_pages(before, after, learn_noise([before]))] == ["log-in-failed"]


def test_boxes_and_buttons_send_what_a_browser_would(pages: Pages) -> None:
    sent: list[str] = []
    pages.content |= {
        "/": '<form id="f" method="post" action="/to"><input type="checkbox" name="on" value="1" checked><input '
        'type="checkbox" name="off">'
        '<input name="t" value="x"><button name="save" value="yes">Save</button><button name="drop" '
        'value="no">Drop</button></form>',
        "/to": lambda method, path, headers, body: (sent.append(body), "done")[1],
    }
    steps = [
        {"get": "/"},
        {"submit": "f", "press": "save", "fields": {"off": "2"}, "text": "done"},
        {"get": "/"},
        {"submit": "f", "press": "none"},
    ]
    check = CheckPart.model_validate({"name": "c", "steps": steps})
    with Visitor(pages.address) as visitor:
        look = take_look(visitor, LookPart(), samples=1, checks=[check])
    assert sent == ["on=1&t=x&off=2&save=yes"]
    assert look.checks["c"].problem == "step 4: the form 'f' has no button 'none'"
    markup = look.pages["/"].markup
    assert markup is not None and markup.forms["f"].names == {"on", "off", "t", "save", "drop"}


def test_many_new_definitions_of_a_step_are_told_together() -> None:
    def new(number: int, step: str) -> tuple[Observation, str, None]:
        place = f"{'table' if number == 9 else 'index'} d{number}"
        return Observation("schema-new", place, Weight.NOTE, f"{place} is new"), step, None

    found = group([*(new(n, "many") for n in range(1, 10)), *(new(n, "few") for n in (1, 2))])
    assert sorted((f.step, f.place) for f in found) == [
        ("few", "index d1"),
        ("few", "index d2"),
        ("many", "definitions"),
    ]
    assert next(f.text for f in found if f.step == "many").startswith("9 definitions are new: table d9, index d1")


@pytest.mark.parametrize(
    ("selector", "text", "problem"),
    [
        ("main#content > p", None, None),
        ("#menu a[href]", "A", None),
        ("main p", "Welcome to the shed", None),
        ("main .price", None, "step 1: nothing on the page fits 'main .price'"),
        ("#menu a", "Welcome", "step 1: what fits '#menu a' does not say 'Welcome'"),
    ],
)
def test_a_check_expects_something_that_fits_a_selector(
    pages: Pages, selector: str, text: str | None, problem: str | None
) -> None:
    small_site(pages)
    step = CheckStep(get="/", selector=selector, text=text)
    assert look(pages, checks=(CheckPart(name="c", steps=[step]),)).checks["c"].problem == problem


def test_a_selector_that_is_none_is_refused() -> None:
    with pytest.raises(ValidationError, match="this is no CSS selector"):
        CheckStep(get="/", selector="main [")


def sitemap(*pages: str, kind: str = "url") -> str:
    listed = "".join(f"<{kind}><loc>{p}</loc></{kind}>" for p in pages)
    return f'<?xml version="1.0"?><urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">{listed}</urlset>'


def test_pages_that_only_a_sitemap_lists_are_looked_at(pages: Pages) -> None:
    small_site(pages)
    here = pages.address
    pages.content |= {
        "/robots.txt": f"User-agent: *\nSitemap: {here}/more.xml.gz\nsitemap: http://elsewhere.example/x.xml\n",
        "/sitemap.xml": (200, {"Content-Type": "text/xml"},
            sitemap(f"{here}/hidden", f"{here}/a#top", "http://elsewhere.example/b", here, f"{here}?page=2",
                f"{here}.example.test/x")),
        "/more.xml.gz": (200, {"Content-Type": "application/gzip"},
            gzip.compress(sitemap(f"{here}/index.xml", kind="sitemap").encode())),
        "/index.xml": sitemap(f"{here}/deep?x=1&amp;y=2", "/secret/page"),
        "/hidden": "<title>Hidden</title>", "/deep": "<title>Deep</title>", "/secret/page": "no",
    }  # fmt: skip
    seen = look(pages, skip=["/secret"])
    assert {"/hidden", "/deep?x=1&y=2", "/sitemap.xml", "/more.xml.gz", "/index.xml", "/a"} <= seen.pages.keys()
    assert "/?page=2" in seen.pages and not {"/secret/page", "/a#top", ".example.test/x"} & seen.pages.keys()
    assert next(iter(seen.pages)) == "/" and list(seen.pages).index("/hidden") > list(seen.pages).index("/a")
    # One that is gone is a page that fails, and what it listed is still looked at.
    with Visitor(pages.address) as visitor:
        del pages.content["/sitemap.xml"]
        after = take_look(visitor, LookPart(skip=["/secret"]), samples=1, also=tuple(seen.pages))
    found = compare_pages(seen, after, learn_noise([seen, seen]))
    assert [(o.kind, o.page) for o in found] == [("page-fails", "/sitemap.xml")]
    assert "/hidden" not in look(pages, sitemaps=[]).pages


@given(st.binary(max_size=300))
def test_what_is_no_sitemap_lists_nothing_and_breaks_nothing(data: bytes) -> None:
    assert places_in(data) == ({}, [])
    whole = sitemap("http://h/a").encode()
    assert places_in(whole[: len(whole) - len(data) - 1])[0] in ({}, {"http://h/a": ""})


def test_a_sitemap_that_would_grow_without_end_is_left() -> None:
    bomb = '<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><urlset><url><loc>http://h/&b;</loc></url></urlset>'
    assert places_in(bomb.encode()) == ({}, [])
    assert places_in(gzip.compress(b" " * 60_000_000)) == ({}, [])


def test_pages_far_from_the_start_and_those_of_members_are_asked_for_less_often(
    pages: Pages, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("keenharbor.compare.look.TIMED_PAGES", 3)
    form = '<form id="f" method="post" action="/in"><input name="n"></form>'
    pages.content |= {
        "/": "".join(f"<a href='/p{n}'>{n}</a>" for n in range(6)), "*": "<p>a page</p>",
        "/in": lambda m, *_: (302, {"Location": "/", "Set-Cookie": "card=1"}, "") if m == "POST" else form,
    }  # fmt: skip
    log_in = CheckPart.model_validate({"name": "in", "steps": [{"get": "/in"}, {"submit": "f", "fields": {"n": "1"}}]})
    with Visitor(pages.address) as visitor:
        learnt = take_look(visitor, LookPart(), samples=5, log_in=log_in, learn=True, timed=True)
        later = take_look(
            visitor, LookPart(), samples=8, log_in=log_in, noise=Noise(), timed=True, also=tuple(learnt.pages)
        )
    visits = {p: len(s.seconds) for p, s in learnt.pages.items()}
    assert [visits[p] for p in ("/", "/p0", "/p1", "/p2", "/p5", "/ (logged in)", "/p3 (logged in)")] == [
        5, 5, 5, 2, 2, 2, 2,
    ]  # fmt: skip
    assert [len(later.pages[p].seconds) for p in ("/p1", "/p2", "/p3 (logged in)")] == [8, 2, 1]
    assert list(later.pages)[:3] == list(learnt.pages)[:3], "the same pages are timed"


def test_a_redirect_to_a_part_of_a_page_is_followed_without_it(pages: Pages) -> None:
    pages.content |= {
        "/": '<form id="f" method="post" action="/say"><input name="n"></form>',
        "/say": (302, {"Location": f"{pages.address}/said/?a=1#comment-5"}, ""),
        "/said/": "<p>It is there.</p>", "/old": (301, {"Location": "/said/#top"}, ""),
    }  # fmt: skip
    steps = [{"get": "/"}, {"submit": "f", "fields": {"n": "1"}, "text": "It is there"}]
    with Visitor(pages.address) as visitor:
        seen = make_checks(visitor, [CheckPart.model_validate({"name": "x", "steps": steps})])
        look = take_look(visitor, LookPart(starts=["/old"], limit=1), samples=1, served=False)
        pages.content["/say"] = (302, {"Location": "said/?b=2"}, "")
        again = make_checks(visitor, [CheckPart.model_validate({"name": "x", "steps": steps})])
        pages.content["/?p=7"] = "<p>It is there.</p>"
        pages.content["/say"] = (302, {"Location": f"{pages.address}?p=7"}, "")
        root = make_checks(visitor, [CheckPart.model_validate({"name": "x", "steps": steps})])
    assert root["x"].problem is None, "the root with a query needs no slash"
    assert again["x"].problem is None, "a relative place is one of the site"
    assert seen["x"].problem is None and look.pages["/old"].redirect == "/said/"
    assert not [path for _, path in pages.asked if "#" in path]


def test_two_copies_of_a_site_differ_in_no_form_of_their_address() -> None:
    def page(address: str) -> str:
        host, coded = address.removeprefix("http://"), address.replace(":", "%3A")
        return (
            f"<title>At {host}</title><meta name='description' content='See {address}/x'><body><p>Write to {host} or "
            f"{address}/about; {host}9 is another.</p><a "
            f"href='http://share.example/?u={coded.replace('/', '%2F')}%2Fa'>s</a>"
            f"<a href='http://share.example/?u={coded}/a&v={address}/b'>t</a><img src='http://cdn.example/?of={host}'>"
            f'<a href=\'{address}/own\'>o</a><script type=\'application/ld+json\'>{{"@type": "Page", "url": '
            f'"{address.replace("/", chr(92) + "/")}/p"}}</script></body>'
        )

    one, two = (read_markup(page(a), a, "/") for a in ("http://127.0.0.1:2101", "http://127.0.0.1:35007"))
    assert one.title == "At {host}" and one.links()[2] == "/own" and "{site}" in one.structured["Page 1"]
    text = one.blocks["page"].text if "page" in one.blocks else ""
    assert "127.0.0.1:21019 is another" in " ".join(b.text for b in one.blocks.values()) and "2101 " not in text
    left, right = (repr(m).replace("127.0.0.1:21019", "x").replace("127.0.0.1:350079", "x") for m in (one, two))
    assert left == right


@pytest.mark.parametrize(("bears", "least", "most"), [(8, 3.2, 4.0), (1, 1.0, 1.4), (2, 1.6, 2.5)])
def test_as_many_connections_as_make_it_faster_whatever_single_answers_take(
    monkeypatch: pytest.MonkeyPatch, bears: int, least: float, most: float
) -> None:
    """A site that ``bears`` so many at once, each answer of 100 ms give or take a third."""
    chance, clock, used = random.Random(6), [0.0], list[int]()

    class Timed(Crew):
        def _wave(self, work: Any, paths: Any) -> list[Any]:
            used.append(self._count)
            clock[0] += len(paths) * 0.1 / min(self._count, bears) * chance.uniform(0.7, 1.3)
            return list(paths)

    monkeypatch.setattr(crew.time, "monotonic", lambda: clock[0])
    visiting = Timed(Visitor("http://127.0.0.1:9"), 4)
    assert len(list(visiting.each(lambda visitor, path: path, ["/x"] * 4000, lambda page: False))) == 4000
    assert least <= sum(used) / len(used) <= most


def test_of_a_large_site_some_pages_of_each_kind_are_visited_and_those_first_that_changed_last() -> None:
    part = LookPart(starts=["/"], limit=300)
    days = {f"/post/{n}-a": f"2026-{1 + n % 12:02d}-{1 + n % 28:02d}" for n in range(9000)}
    route = Route(part, ["/"], days)
    linked = ["/about", *(f"/shop/{n}-b" for n in range(9000)), *(f"/shop/{n}-b/reviews" for n in range(2000))]
    visited: list[str] = []
    while len(visited) < part.limit:
        for path in route.coming(min(7, part.limit - len(visited))):
            visited.append(path)
            if path == "/":
                route.follow(path, None, read_markup("<a href=/about>a</a><a href=/shop/>b</a>", "http://h", path))
            if path == "/shop/":
                html = "".join(f"<a href='{p}'>x</a>" for p in linked)
                route.follow(path, None, read_markup(html, "http://h", path))
    assert len(set(visited)) == len(visited) == 300 and visited[:3] == ["/", "/about", "/shop/"]
    of = Kinds()
    kinds = Counter([of.of(p) for p in (*linked, *visited)][len(linked) :])
    assert kinds["post/*"] > 40 and kinds["shop/*"] > 40 and sum(p.endswith("/reviews") for p in visited) > 40
    posts = [p for p in visited if p.startswith("/post/")]
    later = [days[p] for p in posts[EACH:]]
    assert later == sorted(later, reverse=True) and later[0] == max(days[p] for p in days if p not in posts[:EACH])
    assert len(route.left()) == len(days) + len(linked) + 2 - 300 and not set(route.left()) & set(visited)


@pytest.mark.parametrize("said", [{"requests": 12}, {"minutes": 0.0005}])
def test_a_look_keeps_to_its_budget_and_says_what_it_left_out(pages: Pages, said: dict[str, Any]) -> None:
    names = [f"/n{n}" for n in range(60)]
    pages.content |= {"/": "".join(f'<a href="{n}">x</a>' for n in names), **dict.fromkeys(names, "<p>One.</p>")}
    with Visitor(pages.address) as visitor:
        seen = take_look(visitor, LookPart(sitemaps=[], **said), samples=0)
        sent = visitor.sent
    assert seen.cut and len(seen.pages) + len(seen.left) == 61 and len(seen.pages) < 50
    assert seen.spent == ("12 requests" if "requests" in said else "0.0005 minutes")
    assert "requests" not in said or sent <= 12 + 10


def test_a_weak_host_is_never_asked_too_soon_and_its_answers_are_timed_without_the_wait(pages: Pages) -> None:
    names = [f"/n{n}" for n in range(8)]
    last = [0.0]
    refused: list[str] = []

    def answer(method: str, path: str, headers: Any, body: str) -> Any:
        began, last[0] = time.monotonic() - last[0], time.monotonic()
        if began < 0.04:
            refused.append(path)
            return 503, {}, "too much"
        return "".join(f'<a href="{n}">x</a>' for n in names) + '<link rel="stylesheet" href="/a.css">'

    pages.content["*"] = answer
    with Visitor(pages.address) as visitor:
        seen = take_look(visitor, LookPart(pause=0.05), samples=2, timed=True)
    assert not refused and len(seen.pages) == 9 and all(p.loads for p in seen.pages.values())
    assert min(s for p in seen.pages.values() for s in p.seconds) < 0.03


def walked(links: Sequence[str], *, member: bool) -> list[str]:
    """What of the links on the start page is visited."""
    route = Route(LookPart(starts=["/"], limit=500), ["/"], {}, member=member)
    assert route.coming(1) == ["/"]
    html = "".join(f"<a href='{link.replace('&', '&amp;')}'>x</a>" for link in links)
    route.follow("/", None, read_markup(html, "http://h", "/"))
    return route.coming(1000)


def test_a_member_does_not_follow_links_that_act() -> None:
    acting = [
        "/desk/comment.php?action=approvecomment&c=26&_wpnonce=8f8db1", "/desk/plugins.php?x=1&csrf_token=aa",
        "/desk/post.php?post=3&action=trash", "/a?task=publish&id=3", "/b?do=activate", "/c?sesskey=x",
    ]  # fmt: skip
    harmless = ["/desk/post.php?post=3&action=edit", "/d?action=show", "/e?view=tokens", "/f/activate-your-garden"]
    assert walked([*acting, *harmless], member=True) == harmless
    assert set(walked(acting[2:5], member=False)) == set(acting[2:5]), "to a visitor they do nothing"


def test_pages_by_number_may_be_all_there_is_or_a_calendar_without_end() -> None:
    posts = [f"/?p={n}" for n in range(90)]
    assert walked(posts, member=False) == posts[:NUMBERED]
    mixed = [f"/list?sort={n}&page={n}" for n in range(9)]
    assert len(walked(mixed, member=False)) == QUERY_VARIANTS
    assert len(walked([*posts, *(f"/?cat={n}" for n in range(90))], member=False)) == 2 * NUMBERED


def test_a_redirect_that_carries_the_own_address_is_the_same_on_two_clones() -> None:
    def closed(method: str, path: str, headers: Any, body: str) -> Any:
        back = quote(f"http://{headers['Host']}/desk", safe="")
        return 302, {"Location": f"/login?back={back}"}, ""

    looks = []
    for _ in range(2):
        with serve_pages() as made:
            made.content |= {"/": "<a href=/desk>d</a>", "/desk": closed, "/login": "<title>Log in</title>"}
            with Visitor(made.address) as visitor:
                looks.append(take_look(visitor, LookPart(), samples=1))
    one, two = looks
    assert one.pages["/desk"].redirect != two.pages["/desk"].redirect
    assert one.pages["/desk"].leads == two.pages["/desk"].leads == "/login?back={site}%2Fdesk"
    assert "redirect" not in [o.kind for o in compare_pages(one, two, Noise())]


def test_what_noise_knows_of_a_members_page_lets_it_settle_and_says_nothing_of_a_visitors(pages: Pages) -> None:
    count = itertools.count()

    def desk(method: str, path: str, headers: Any, body: str) -> Any:
        member = "in=1" in (headers.get("Cookie") or "")
        return f"<main><p>desk</p></main><aside id=lot>{next(count) if member else 'closed'}</aside>"

    form = "<form id=in action=/enter method=post><input name=user></form>"
    pages.content |= {
        "/": f"<a href=/desk?a=x>d</a>{form}", "/desk": desk,
        "/enter": lambda *_: (200, {"Set-Cookie": "in=1"}, "welcome"),
    }  # fmt: skip
    enter = CheckPart(name="in", steps=[CheckStep(get="/"), CheckStep(submit="in", fields={"user": "ida"})])
    with Visitor(pages.address) as visitor:
        first = take_look(visitor, LookPart(), samples=2, learn=True, log_in=enter)
        noise = learn_noise([first])
        again = take_look(visitor, LookPart(), samples=1, noise=noise, log_in=enter)
    member, bare = f"/desk?a=x{LOGGED_IN}", "/desk?a=x"
    assert noise.covers(member, "#lot") or noise.moves(member, "#lot")
    assert not noise.covers(bare, "#lot") and not noise.moves(bare, "#lot")
    assert not again.pages[member].unsettled
    assert compare_pages(first, again, noise) == []
