"""Checks proposed from the forms of a site's pages: what a person would try, as text for the site file.

A search (a form that only asks) is tried at once and proposed as it answered. What logs in or writes wants names and
values that only the maintainer knows: it is proposed as a comment."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Iterator
from urllib.parse import urlencode

from keenharbor.base.progress import Progress
from keenharbor.compare.look import Look, take_look
from keenharbor.compare.markup import Form
from keenharbor.compare.visitor import VisitError, Visitor
from keenharbor.site.view import SiteView

_ASKED_FOR = re.compile(r"(?i)^(q|s|query|search\w*|keywords?|terms?|find|text)$")


_MOST_PAGES = 60


def propose_for_site(site: SiteView, progress: Progress) -> str:
    """The same for a site; empty when it does not answer, which ``progress`` is told."""
    with Visitor(site.address) as visitor:
        look = first_look(site, visitor, progress)
        return propose_checks(look, visitor) if look is not None else ""


def first_look(site: SiteView, visitor: Visitor, progress: Progress) -> Look | None:
    """The site's pages, the first 60; None when it does not answer, which ``progress`` is told."""
    progress.stage(f"visiting the pages of {site.address} for their forms")
    part = site.model.look.model_copy(update={"limit": min(site.model.look.limit, _MOST_PAGES)})
    look = take_look(visitor, part, samples=0, served=False)
    if any(p.loads for p in look.pages.values()):
        return look
    progress.note("it does not answer: no checks are proposed")
    return None


def proposals_in(text: str) -> int:
    """How many checks a text proposes."""
    return len(re.findall(r"(?m)^(?:# )?\[\[check\]\]", text))


def propose_checks(look: Look, visitor: Visitor) -> str:
    """TOML for the site file; empty where no page has a form."""
    parts: list[str] = []
    told: set[tuple[str, str, tuple[str, ...]]] = set()
    for path, page in sorted(look.pages.items(), key=lambda p: (p[0].count("/"), p[0])):
        for name, form in page.markup.forms.items() if page.markup is not None else ():
            kind = (form.method, form.action, tuple(form.fields))
            if kind in told or not form.action.startswith("/"):
                continue
            told.add(kind)
            parts += _search(look, visitor, path, name, form) if form.method == "get" else _by_hand(path, name, form)
    return "\n".join(parts)


def _search(look: Look, visitor: Visitor, path: str, name: str, form: Form) -> Iterator[str]:
    field = next((f for f in form.fields if _ASKED_FOR.match(f)), None)
    titles = {p: seen.markup.title for p, seen in look.pages.items() if seen.markup is not None and seen.loads}
    word = _common_word(list(titles.values()))
    if field is None or word is None:
        return
    try:
        answer = visitor.get(f"{form.action}?{urlencode({**form.fields, field: word})}")
    except VisitError:
        return
    links = sorted(p for p, title in titles.items() if word in title.lower() and p != "/" and f'"{p}"' in answer.text)
    if answer.status != 200 or not links:
        return
    yield f"# Proposed from the form on {path}: it was tried, and found {links[0]}."
    yield "[[check]]"
    yield f'name = "a search for {word}"'
    yield (
        f"steps = [{{ get = {_toml(path)} }}, "
        f"{{ submit = {_toml(name)}, fields = {{ {_toml(field)} = {_toml(word)} }}, "
        f"text = {_toml(links[0])} }}]\n"
    )


def _common_word(titles: list[str]) -> str | None:
    """The word that stands in most titles, but not in all: that is the site's name."""
    counts = Counter(w for t in titles for w in set(re.findall(r"[^\W\d_]{4,}", t.lower())))
    fit = [(n, w) for w, n in counts.items() if n < max(2, len(titles) * 0.6)]
    return min(fit, key=lambda f: (-f[0], f[1]))[1] if fit else None


def _by_hand(path: str, name: str, form: Form) -> Iterator[str]:
    logs_in = bool(form.secrets)
    # What is hidden (a token) the form sends by itself, with the value that it has then.
    seen = {f: v for f, v in form.fields.items() if f not in form.hidden}
    fields = ", ".join(f"{_toml(f)} = {_toml('…' if f in form.secrets or not v else v)}" for f, v in seen.items())
    what = (
        "Somebody logs in: write in a member made for it"
        if logs_in
        else "Something is sent: write in what a visitor would"
    )
    yield f"# {what}, what the answer says, and take the marks away."
    yield "# [[check]]"
    yield f'# name = "{"a member logs in" if logs_in else f"the form {name} on {path}"}"'
    yield "# writes = true"
    yield f'# steps = [{{ get = {_toml(path)} }}, {{ submit = {_toml(name)}, fields = {{ {fields} }}, text = "…" }}]\n'


def _toml(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)
