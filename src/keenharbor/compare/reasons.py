"""Why a scripted visit failed, in the words of the answer: the exception of an error page, the field that was
refused."""

from __future__ import annotations

import re

from selectolax.lexbor import LexborHTMLParser, LexborNode

from keenharbor.compare.exposed import DEBUGGING
from keenharbor.compare.markup import bounded

_REFUSALS = (
    ".errorlist li, .field-error, .form-error, .invalid-feedback, .help-inline.error, .error-message, .form__error, "
    "[role=alert], .alert-danger, .alert-error, .messages .error, .messagelist .error, .errornote, p.error, div.error, "
    "span.error"
)
_EXCEPTIONS = ".exception_value, .exception-message, .exception_title, pre.exception, #summary h1"
_LONGEST = 160
_FIELDS = "input[name]:not([type=hidden]), select[name], textarea[name]"


def reason_in(html: str) -> str:
    """What the page itself says of what went wrong, with the field that it says it of; empty where it says nothing."""
    parser = LexborHTMLParser(bounded(html))
    found = parser.css_first(_EXCEPTIONS)
    if found is not None and (said := _words(found)):
        title = parser.css_first("title")
        kind = _words(title).partition(" at ")[0] if title is not None else ""
        return f"{kind}: {said}" if kind and kind not in said else said
    body = parser.body
    if body is not None and (shown := DEBUGGING.search(text := body.text(separator=" "))):
        return " ".join(text[shown.start() :].split())[:_LONGEST]
    for refusal in parser.css(_REFUSALS):
        if said := _words(refusal):
            field = _field_of(refusal)
            return f"{field}: {said}" if field else said
    return ""


def title_in(html: str) -> str:
    """The page's title; empty where it has none."""
    title = LexborHTMLParser(bounded(html)).css_first("title")
    return _words(title) if title is not None else ""


def _words(node: LexborNode) -> str:
    return " ".join(node.text(separator=" ").split())[:_LONGEST]


def _field_of(refusal: LexborNode) -> str:
    """The name of the field that a refusal stands beside: the only one in the nearest element that holds any."""
    named = re.match(r"(?:id_)?([\w.-]+?)[_-]errors?$", (refusal.attributes.get("id") or ""))
    if named is not None:
        return named[1]
    around: LexborNode | None = refusal
    for _ in range(4):
        # Beside it, or in what stands next to it: some systems put the refusal before the field, others behind.
        near = [around.next, around.prev] if around is not None else []
        above = around.parent if around is not None else None
        while near and near[0] is not None and near[0].tag in ("-text", "br"):
            near[0] = near[0].next
        for place in (*near, above):
            fields = _fields_in(place) if place is not None else set()
            if len(fields) == 1:
                return next(iter(fields))
        if above is None or above.tag in ("form", "body") or _fields_in(above):
            return ""
        around = above
    return ""


def _fields_in(node: LexborNode) -> set[str]:
    if not node.tag or node.tag.startswith("-"):
        return set()
    return {f.attributes.get("name") or "" for f in node.css(_FIELDS)}
