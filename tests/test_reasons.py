"""What pages say of what went wrong, and what they show that is nobody's business."""

from __future__ import annotations

import pytest

from keenharbor.compare import Look, Noise, compare_pages
from keenharbor.compare.look import PageSeen
from keenharbor.compare.markup import read_markup
from keenharbor.compare.reasons import reason_in, title_in
from keenharbor.compare.state import compare_files
from keenharbor.tree import Entry


@pytest.mark.parametrize(
    ("html", "reason"),
    [
        ("<form><p><label>Name</label><input name=who><ul class=errorlist><li>This is needed.</li></ul></p></form>",
            "who: This is needed."),
        ("<form><div><input name=a></div><div><select name=seed></select><span class='error'>No such seed</span></div>"
            "</form>", "seed: No such seed"),
        ("<form><p class=error>Something is wrong</p><p><input name=a><input name=b></p></form>", "Something is wrong"),
        ("<ul class='errorlist' id='id_plant_error'><li>Enter a plant.</li></ul>", "Enter a plant."),
        ("<title>DataError at /save/</title><pre class='exception_value'>Data too long for column 'uuid'</pre>",
            "DataError: Data too long for column 'uuid'"),
        ("<b>Fatal error: </b> Uncaught TypeError: count() in /srv/x.php:3", "Fatal error: Uncaught TypeError"),
        ("<p>All is well, no error at all.</p>", ""),
        ("", ""),
    ],
)  # fmt: skip
def test_the_page_is_quoted(html: str, reason: str) -> None:
    assert reason_in(html).startswith(reason) if reason else reason_in(html) == ""


def test_a_page_without_a_title() -> None:
    assert title_in("<title> Gone \n away</title>") == "Gone away" and title_in("<p>x") == ""


def look(html: str, status: int = 200, **headers: str) -> Look:
    markup = read_markup(html, "http://x", "/") if status == 200 else None
    page = PageSeen("/", status, markup=markup, headers=headers)
    return Look("http://x", {"/": page})


def kinds(before: Look, after: Look, **more: object) -> list[tuple[str, str]]:
    return [(o.kind, o.weight.value) for o in compare_pages(before, after, Noise(), **more)]  # type: ignore[arg-type]


def test_what_nobody_notices_is_damage() -> None:
    plain = "<head><title>t</title><link rel=canonical href='http://x/a'></head><p>Kale.</p>"
    bare = "<head><title>t</title></head><p>Kale.</p>"
    hidden = plain.replace("<title>", "<meta name=robots content='noindex, follow'><title>")
    assert kinds(look(plain), look(hidden)) == [("robots-changed", "damage")]
    assert kinds(look(hidden), look(plain)) == [("robots-changed", "doubt")]
    assert kinds(look(plain), look(bare)) == [("canonical-changed", "damage")]
    assert kinds(look(bare), look(bare, **{"X-Robots-Tag": "noindex"})) == [("header-new", "damage")]
    assert kinds(look("", 403), look(bare)) == [("open-to-all", "damage")]
    traced = bare.replace("Kale.", "Kale. Warning: Undefined variable $x in /srv/a.php on line 7")
    assert ("debug-shown", "damage") in kinds(look(bare), look(traced))
    assert ("debug-shown", "damage") not in kinds(look(traced), look(traced + "<p>more"))
    secret = bare.replace("Kale.", "Kale. seed-seed-1")
    assert ("secret-shown", "damage") in kinds(look(bare), look(secret), secrets={"seed-seed-1", "x"})
    assert ("secret-shown", "damage") not in kinds(look(bare), look(secret), secrets={"other-secret"})


def test_pages_that_a_look_did_not_come_to_are_neither_gone_nor_new() -> None:
    one, two = look("<p>Kale."), look("<p>Kale.")
    two.pages["/b"] = PageSeen("/b", 200, markup=read_markup("<p>Leek.", "http://x", "/b"))
    assert kinds(one, two) == [("page-new", "note")] and kinds(two, one) == [("page-gone", "damage")]
    one.cut = True
    assert kinds(one, two) == [] and kinds(two, one) == []


def test_rights_that_others_have_gained_are_damage() -> None:
    def entry(mode: int) -> dict[str, Entry]:
        return {"a.php": Entry("a.php", "file", mode, 0, area="core")}

    assert [o.weight.value for o in compare_files(entry(0o644), entry(0o666))] == ["damage"]
    assert [o.weight.value for o in compare_files(entry(0o644), entry(0o600))] == ["doubt"]
