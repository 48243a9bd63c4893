"""Checks proposed from the forms of a site's pages: what a person would try, as text for the site file.

A search (a form that only asks) is tried at once and proposed as it answered. What writes is tried on a clone, with
what a visitor would write; what it lacks only the maintainer knows, and it is proposed as a comment."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass
from urllib.parse import urlencode

from keenharbor.base.progress import Progress
from keenharbor.compare.login import check_text
from keenharbor.compare.look import Look, run_check, take_look
from keenharbor.compare.markup import Form, read_markup
from keenharbor.compare.reasons import reason_in
from keenharbor.compare.visitor import VisitError, Visitor
from keenharbor.site.model import CheckPart, CheckStep
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


def propose_checks(look: Look, visitor: Visitor, tried: Collection[str] = ()) -> str:
    """TOML for the site file; empty where no page has a form. Forms that write are proposed as a comment, but for the
    checks that are ``tried`` on a clone (see `writing_checks`), by name."""
    parts: list[str] = []
    told: set[tuple[str, str, tuple[str, ...]]] = set()
    for path, page in sorted(look.pages.items(), key=lambda p: (p[0].count("/"), p[0])):
        for name, form in page.markup.forms.items() if page.markup is not None else ():
            kind = (form.method, form.action, tuple(form.fields))
            if kind in told or not form.action.startswith("/"):
                continue
            told.add(kind)
            if _name_of(path, name) in tried:
                continue
            parts += _search(look, visitor, path, name, form) if form.method == "get" else _by_hand(path, name, form)
    return "\n".join(parts)


def _name_of(path: str, form: str) -> str:
    return f"the form {form} on {path}"


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
    seen = {f: v for f, v in seen.items() if f not in form.traps}
    fields = ", ".join(f"{_toml(f)} = {_toml('…' if f in form.secrets or not v else v)}" for f, v in seen.items())
    what = (
        "Somebody logs in: write in a member made for it"
        if logs_in
        else "Something is sent: write in what a visitor would"
    )
    yield f"# {what}, what the answer says, and take the marks away."
    yield "# [[check]]"
    yield f"# name = {_toml('a member logs in' if logs_in else _name_of(path, name))}"
    yield "# writes = true"
    yield f'# steps = [{{ get = {_toml(path)} }}, {{ submit = {_toml(name)}, fields = {{ {fields} }}, text = "…" }}]\n'


# -- forms that write --------------------------------------------------------------------------------------------------

MOST_TRIED = 4
_AGREED = re.compile(r"(?i)agree|accept|terms|consent|privacy|conditions")
_NAMED = re.compile(r"(?i)name|author|who")
_SUBJECT = re.compile(r"(?i)subject|title|topic")
_MAIL = re.compile(r"(?i)e?-?mail")
_NOT_FILLED = re.compile(r"(?i)url|website|homepage|phone|tel|captcha|code$")


def writing_checks(look: Look) -> list[CheckPart]:
    """Scripted visits through the forms by which visitors send something, with what a visitor would write: texts that
    are new each time, a mail address of no domain, the date of the day. What robots would fill in, and people do not
    see, stays empty. Forms for logging in, and those that only ask, are none."""
    made: list[CheckPart] = []
    told: set[tuple[str, tuple[str, ...]]] = set()
    for path, page in sorted(look.pages.items(), key=lambda p: (p[0].count("/"), p[0])):
        for name, form in page.markup.forms.items() if page.markup is not None and page.loads else ():
            kind = (form.action, tuple(form.fields))
            fields = _filled_in(form)
            if form.method != "post" or form.secrets or not form.action.startswith("/") or kind in told or not fields:
                continue
            told.add(kind)
            steps = [CheckStep(get=path), CheckStep(submit=name, fields=fields)]
            made.append(CheckPart(name=_name_of(path, name), writes=True, steps=steps))
    return made[:MOST_TRIED]


def _filled_in(form: Form) -> dict[str, str]:
    fields: dict[str, str] = {}
    for name, value in form.fields.items():
        if name in form.hidden or name in form.traps or value or form.kinds.get(name) in ("submit", "file", "button"):
            continue
        if (said := _a_visitors(name, form.kinds.get(name, ""))) is not None:
            fields[name] = said
    fields |= {name: "on" for name in form.unticked if _AGREED.search(name) and name not in form.traps}
    return fields


def _a_visitors(name: str, kind: str) -> str | None:
    """What a visitor would write into a field; None where it may stay empty."""
    if kind == "email" or _MAIL.search(name):
        return "visitor-{unique}@example.org"
    if kind in ("number", "range"):
        return "1"
    if kind in ("date", "datetime-local"):
        return "{today}"
    if kind in ("url", "tel", "select") or _NOT_FILLED.search(name):
        return None
    if _SUBJECT.search(name):
        return "A question {unique}"
    return "Ida {unique}" if _NAMED.search(name) else "Written by a check, {unique}"


@dataclass(frozen=True)
class Tried:
    """A scripted visit that was made once: with what the answer says added to it; or why it did not work."""

    check: CheckPart
    problem: str = ""


def try_writing(visitor: Visitor, check: CheckPart, mail_to: Callable[[], Sequence[str]]) -> Tried:
    """Make the visit, and learn what the answer says that the form's page did not. Only for a clone: it writes."""
    asked = check.steps[0].get or "/"
    landed: list[str] = []
    mails = len(mail_to())
    try:
        before = visitor.get(asked).text
        visitor.forget()
        problem = run_check(visitor, check, mail_to, landed)
        if problem is not None:
            return Tried(check, problem)
        answers: list[str] = []
        problem = run_check(visitor, check, mail_to, None, answers)
    except VisitError as error:
        return Tried(check, str(error))
    if problem is not None or not answers:
        return Tried(check, f"the second time: {problem}")
    said = reason_in(answers[-1])
    sentence = _new_sentence(before, answers[-1])
    if said and (sentence is None or sentence in said or said in sentence):
        return Tried(check, f"the page says: {said}")
    if sentence is None:
        return Tried(check, "its answer says nothing new, so that nothing would tell a failure")
    to = next(iter(mail_to()[mails:]), None)
    known = to is not None and not to.startswith("visitor-")
    last = check.steps[-1].model_copy(update={"text": sentence, **({"mail_to": to} if known else {})})
    return Tried(check.model_copy(update={"steps": [*check.steps[:-1], last]}))


def _new_sentence(before: str, after: str) -> str | None:
    """The first text of an answer that the form's page did not have: without numbers, and long enough to mean
    something."""
    old = read_markup(before, "http://x", "/")
    known = " ".join(b.text for b in old.blocks.values())
    for block in read_markup(after, "http://x", "/").blocks.values():
        for words in block.words:
            text = " ".join(words.split())
            if 8 <= len(text) <= 100 and text not in known and not re.search(r"\d", text):
                return text
    return None


def told_as_text(tried: Sequence[Tried]) -> str:
    """TOML for the site file: what works as it is, the rest as a comment with the reason."""
    parts = []
    for one in tried:
        text = check_text(one.check)
        if one.problem:
            text = f"# Tried on a clone, and it did not work: {' '.join(one.problem.split())[:200]}\n" + "".join(
                f"# {line}\n" for line in text.splitlines()
            )
        else:
            text = "# Tried on a clone.\n" + text
        parts.append(text)
    return "\n".join(parts)


def _toml(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)
