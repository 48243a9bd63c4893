"""Checks of forms that write: filled as a visitor would, tried on a clone, and proposed as they answered."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import harbor
from keenharbor.compare import Look, Visitor
from keenharbor.compare.look import PageSeen
from keenharbor.compare.markup import Form, read_markup
from keenharbor.compare.proposals import propose_checks, writing_checks
from keenharbor.site.load import open_site
from test_unaided import needs_php, put, shelf


def form_of(html: str) -> Form:
    (form,) = read_markup(html, "http://x", "/").forms.values()
    return form


@pytest.mark.parametrize(
    "field",
    [
        '<input name="website" style="display:none">',
        '<div style="position: absolute; left: -9999px"><input name="b"></div>',
        '<input name="honeypot">', '<p class="hp-field"><input name="more"></p>', '<input name="x" hidden>',
        '<div aria-hidden="true"><label>Leave empty<input name="y"></label></div>',
        '<input name="z" tabindex="-1" autocomplete="off">', '<input name="leave_this_empty">',
    ],
)  # fmt: skip
def test_fields_that_no_person_sees_are_traps(field: str) -> None:
    form = form_of(
        f'<form method="post" action="/say"><input name="who">{field}<textarea name="say"></textarea></form>'
    )
    assert len(form.traps) == 1 and "who" not in form.traps
    look = Look("http://x", {"/": PageSeen("/", 200, markup=read_markup(
        f'<form method="post" action="/say"><input name="who">{field}<textarea name="say"></textarea></form>',
        "http://x", "/"))})  # fmt: skip
    (check,) = writing_checks(look)
    assert check.steps[1].fields.keys() == {"who", "say"} and check.writes


def test_forms_that_are_not_tried_stay_proposed() -> None:
    html = "".join(
        f'<form id="f{n}" method="post" action="/say{n}"><textarea name="words"></textarea></form>' for n in range(6)
    )
    look = Look("http://x", {"/": PageSeen("/", 200, markup=read_markup(html, "http://x", "/"))})
    tried = {c.name for c in writing_checks(look)}
    with Visitor("http://127.0.0.1:9") as visitor:
        text = propose_checks(look, visitor, tried)
    assert len(tried) == 4 and [n for n in range(6) if f"the form f{n} on /" in text] == [4, 5]


def test_fields_are_filled_as_a_visitor_would() -> None:
    html = (
        '<form id="ask" method="post" action="/ask"><input type="hidden" name="token" value="t"><input '
        'name="your_name">'
        '<input name="mail" type="email"><input name="subject"><input name="on" type="date"><input name="n" '
        'type="number">'
        '<input name="url"><select name="kind"><option value="a">A</option></select><input name="kept" value="as it '
        'is">'
        '<textarea name="words"></textarea><input type="checkbox" name="agree"><input type="checkbox" name="news">'
        '<input type="submit" name="go" value="Go"></form><form method="post" action="/in"><input name="u">'
        '<input type="password" name="p"></form><form action="/find"><input name="q"></form>'
    )
    look = Look("http://x", {"/": PageSeen("/", 200, markup=read_markup(html, "http://x", "/"))})
    (check,) = writing_checks(look)
    assert check.steps[1].submit == "ask" and check.steps[1].fields == {
        "your_name": "Ida {unique}", "mail": "visitor-{unique}@example.org", "subject": "A question {unique}",
        "on": "{today}", "n": "1", "words": "Written by a check, {unique}", "agree": "on",
    }  # fmt: skip


BOOK = {
    "index.php": "<?php\nrequire 'config.php';\necho '<title>Book</title><a href=\"/book.php\">book</a> "
    "<a href=\"/deaf.php\">deaf</a>';\n",
    "book.php": "<?php\nrequire 'config.php';\n$file = __DIR__ . '/data/book.txt';\n"
    "if ($_SERVER['REQUEST_METHOD'] === 'POST') {\n"
    "    if ($_POST['website'] !== '') { http_response_code(403); exit; }\n"
    "    if (!str_contains($_POST['email'], '@')) { echo '<p class=error>No such address</p>'; }\n"
    "    elseif (is_file($file) && str_contains(file_get_contents($file), $_POST['words'])) { "
    "echo '<p class=error>That was said before</p>'; }\n"
    "    else { file_put_contents($file, $_POST['words'] . \"\\n\", FILE_APPEND); "
    "echo '<title>Book</title><p>Thank you, it stands in the book.</p>'; exit; }\n}\n"
    "echo '<title>Book</title><form method=post id=\"say\"><input name=\"email\"><textarea name=\"words\"></textarea>"
    "<input name=\"website\" style=\"display:none\"></form>';\n",
    "deaf.php": "<?php\nrequire 'config.php';\necho '<title>Deaf</title>';\n"
    "if ($_SERVER['REQUEST_METHOD'] === 'POST') echo '<p class=error>Nobody may write here</p>';\n"
    "echo '<form method=post id=\"deaf\"><input name=\"words\"></form>';\n",
    "data/.keep": "",
}  # fmt: skip


@needs_php
def test_init_tries_the_forms_on_a_clone_and_writes_checks_that_work(tmp_path: Path) -> None:
    with shelf(tmp_path) as (root, _):
        put(root, BOOK)
        harbor(tmp_path, "init", root, "--yes", "--pages")
        text = (tmp_path / "keenharbor.toml").read_text()
        assert not (root / "data/book.txt").exists(), "nothing was written on live"
        (check,) = [c for c in open_site(tmp_path / "keenharbor.toml").model.check if c.writes]
        assert check.steps[1].submit == "say" and check.steps[1].text == "Thank you, it stands in the book."
        assert check.steps[1].fields.keys() == {"email", "words"}
        assert "# Tried on a clone, and it did not work:" in text and "Nobody may write here" in text
        assert '# name = "the form deaf on /deaf.php"' in text
        # The check holds: a drill makes it.
        told = harbor(tmp_path, "snapshot", "drill", "newest", "--json").json
        assert told["good"] and told["checks"] == 1 and not (root / "data/book.txt").exists()
