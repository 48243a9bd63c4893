"""A look: the site's pages as a visitor gets them, one after another, so that response times mean something."""

from __future__ import annotations

import time
from collections import Counter, deque
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from urllib.parse import urlencode, urlsplit

from keenharbor.compare.markup import Markup, read_markup
from keenharbor.compare.visitor import Answer, VisitError, Visitor
from keenharbor.site.model import CheckPart, LookPart

QUERY_VARIANTS = 2
"""Of addresses that differ only in their query, so many are looked at: more are traps more often than pages."""


@dataclass
class PageSeen:
    """One page: status, where it sends to, what it says; ``served`` is what a visitor got who did not ask for a
    fresh page, ``samples`` what further visits said, ``seconds`` how long each fresh visit took."""

    path: str
    status: int
    redirect: str | None = None
    error: str | None = None
    markup: Markup | None = None
    served: Markup | None = None
    samples: list[Markup] = field(default_factory=list)
    seconds: list[float] = field(default_factory=list)

    @property
    def loads(self) -> bool:
        return self.error is None and self.status < 400


@dataclass
class CheckSeen:
    """How a scripted visit went: ``problem`` is None when all was as expected."""

    name: str
    problem: str | None


@dataclass
class Look:
    """What was seen at one time: pages by path, status of images and other files, scripted visits."""

    address: str
    pages: dict[str, PageSeen] = field(default_factory=dict)
    assets: dict[str, int] = field(default_factory=dict)
    checks: dict[str, CheckSeen] = field(default_factory=dict)


def take_look(
    visitor: Visitor,
    part: LookPart,
    *,
    also: Sequence[str] = (),
    samples: int = 3,
    checks: Sequence[CheckPart] = (),
    mail_to: Callable[[], Sequence[str]] = tuple,
    served: bool = True,
    learn: bool = False,
) -> Look:
    """Look at every page that can be reached from the starts, and at the paths ``also``.

    Each page is visited once as any visitor would (``served``), then ``samples`` times asking for a fresh page;
    with ``learn``, what each of these says is kept, so that noise can be learnt from it.
    ``mail_to`` gives the addressees of the mail caught so far. Never raises for what the site does wrong: that is
    what a look is for.
    """
    look = Look(visitor.address)
    queue = deque(dict.fromkeys([*part.starts, *also]))
    queued = set(queue)
    variants = Counter(path.split("?", 1)[0] for path in queue if "?" in path)
    while queue and len(look.pages) < part.limit:
        path = queue.popleft()
        page = _see(visitor, path, samples, served, learn)
        look.pages[path] = page
        found = [page.redirect] if page.redirect and page.redirect.startswith("/") else []
        if page.markup is not None:
            found += page.markup.links()
            for asset in [*page.markup.images(), *page.markup.assets]:
                if asset.startswith("/") and asset not in look.assets:
                    look.assets[asset] = _status(visitor, asset)
        for link in found:
            if not link.startswith("/") or link in queued or any(link.startswith(s) for s in part.skip):
                continue
            base = link.split("?", 1)[0]
            if "?" in link:
                variants[base] += 1
                if variants[base] > QUERY_VARIANTS:
                    continue
            queued.add(link)
            queue.append(link)
    look.checks = make_checks(visitor, checks, mail_to)
    return look


def make_checks(
    visitor: Visitor, checks: Sequence[CheckPart], mail_to: Callable[[], Sequence[str]] = tuple
) -> dict[str, CheckSeen]:
    """Make scripted visits, each as a visitor who has not been there before."""
    seen = {}
    for check in checks:
        visitor.forget()
        seen[check.name] = CheckSeen(check.name, _run_check(visitor, check, mail_to))
    visitor.forget()
    return seen


def first_new_problem(seen: Mapping[str, CheckSeen], before: Mapping[str, CheckSeen]) -> str | None:
    """What is wrong with the first of the checks that fails and did not fail ``before``; None when there is none."""
    for name, check in seen.items():
        earlier = before.get(name)
        if check.problem is not None and (earlier is None or earlier.problem is None):
            return f"'{name}' fails: {check.problem}"
    return None


def _status(visitor: Visitor, path: str) -> int:
    try:
        answer = visitor.get(path)
    except VisitError:
        return 0
    return answer.status if answer.content or answer.status >= 300 else 0


def _see(visitor: Visitor, path: str, samples: int, served: bool, learn: bool) -> PageSeen:
    try:
        plain = _markup(visitor, visitor.get(path, fresh=False), path) if served else None
        began = time.perf_counter()
        answer = visitor.get(path)
        seconds = [time.perf_counter() - began]
    except VisitError as error:
        return PageSeen(path, 0, error=str(error))
    page = PageSeen(path, answer.status, markup=_markup(visitor, answer, path), served=plain, seconds=seconds)
    if 300 <= answer.status < 400:
        page.redirect = _within(answer.header("Location"), visitor.address)
    for _ in range(samples - 1 if page.loads else 0):
        try:
            began = time.perf_counter()
            again = visitor.get(path)
            page.seconds.append(time.perf_counter() - began)
        except VisitError:
            continue
        more = _markup(visitor, again, path) if learn else None
        if more is not None and again.status == page.status:
            page.samples.append(more)
    return page


def _within(place: str, address: str) -> str:
    if place.startswith(address):
        place = place[len(address) :] or "/"
    return place


def _markup(visitor: Visitor, answer: Answer, path: str) -> Markup | None:
    if answer.status != 200 or "html" not in answer.header("Content-Type"):
        return None
    return read_markup(answer.text, visitor.address, path)


def _run_check(visitor: Visitor, check: CheckPart, mail_to: Callable[[], Sequence[str]]) -> str | None:
    """What went wrong in a scripted visit; None when all was as expected."""
    markup: Markup | None = None
    for number, step in enumerate(check.steps, 1):
        mails_before = len(mail_to())
        try:
            if step.submit is not None:
                form = markup.forms.get(step.submit) if markup is not None else None
                if form is None:
                    return f"step {number}: there is no form '{step.submit}' on the page"
                missing = [name for name in step.fields if name not in form.fields]
                if missing:
                    return f"step {number}: the form '{step.submit}' has no field {', '.join(missing)}"
                values = {**form.fields, **step.fields}
                if form.method == "post":
                    answer = visitor.post(form.action, values)
                else:
                    query = urlencode(values)
                    answer = visitor.get(f"{form.action}?{query}")
            else:
                answer = visitor.get(step.get or "/")
            for _ in range(5):
                place = _within(answer.header("Location"), visitor.address)
                if not (300 <= answer.status < 400 and place):
                    break
                if not place.startswith("/"):
                    return f"step {number}: it leads out of the site, to {place}"
                answer = visitor.get(place)
        except VisitError as error:
            return f"step {number}: no answer ({error})"
        if answer.status != step.status:
            return f"step {number}: status {answer.status}, expected {step.status}"
        if step.text is not None and step.text not in answer.text:
            return f"step {number}: '{step.text}' is not on the page"
        if step.mail_to is not None and step.mail_to not in list(mail_to())[mails_before:]:
            return f"step {number}: no mail to {step.mail_to} was sent"
        markup = _markup(visitor, answer, urlsplit(answer.path).path)
    return None
