"""A look: the site's pages as a visitor gets them. Those that are timed are visited one after another, so that response
times mean something."""

from __future__ import annotations

import contextlib
import io
import secrets
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from typing import TYPE_CHECKING
from urllib.parse import urlencode, urljoin, urlsplit

from blake3 import blake3
from selectolax.lexbor import LexborHTMLParser

from keenharbor.base.progress import Progress, Silent
from keenharbor.base.references import is_reference, referred
from keenharbor.base.text import today
from keenharbor.compare.crew import TOO_MUCH, Crew
from keenharbor.compare.markup import Markup, read_markup, without_own
from keenharbor.compare.reasons import reason_in, title_in
from keenharbor.compare.route import Budget, Route
from keenharbor.compare.sitemaps import listed_pages
from keenharbor.compare.visitor import Answer, VisitError, Visitor
from keenharbor.site.model import CheckPart, CheckStep, LookPart

if TYPE_CHECKING:
    from keenharbor.compare.noise import Noise

LOGGED_IN = " (logged in)"
MOST_VISITS = 4
TIMED_PAGES = 40
"""So many pages, those nearest to the start, are visited as often as response times want it; the others, and all that
only members see, `FEW` times, which is what noise wants."""
FEW = 2
"""Of addresses that differ only in their query, so many are looked at: more are traps more often than pages."""


@dataclass
class PageSeen:
    """One page: status, where it sends to (``leads``: with the site's own address left out of it), what it says;
    ``served`` is what a visitor got who did not ask for a fresh
    page, ``samples`` what further visits said that was not the same to the byte, ``seconds`` how long each fresh visit
    took; ``headers`` those that matter; ``unsettled`` says that it still changed at the last visit."""

    path: str
    status: int
    redirect: str | None = None
    error: str | None = None
    markup: Markup | None = None
    served: Markup | None = None
    samples: list[Markup] = field(default_factory=list)
    seconds: list[float] = field(default_factory=list)
    headers: dict[str, str] = field(default_factory=dict)
    unsettled: bool = False
    leads: str | None = None

    @property
    def loads(self) -> bool:
        return self.error is None and self.status < 400


@dataclass
class CheckSeen:
    """How a scripted visit went: ``problem`` is None when all was as expected."""

    name: str
    problem: str | None


@dataclass(frozen=True)
class FileSeen:
    """A picture, style or script: its content's digest, and of a picture width and height in pixels (None: it is no
    picture that can be read)."""

    digest: str
    picture: bool
    pixels: tuple[int, int] | None = None


@dataclass
class Look:
    """What was seen at one time: pages by path (those that only a member sees with `LOGGED_IN` behind it), status and
    content of images and other files, scripted visits, why nobody could log in (None: somebody did, or none was to);
    ``cut`` says that there were more pages than were to be looked at, ``left`` which (as far as they are known), and
    ``spent`` what ended the look before its limit of pages did."""

    address: str
    pages: dict[str, PageSeen] = field(default_factory=dict)
    assets: dict[str, int] = field(default_factory=dict)
    files: dict[str, FileSeen] = field(default_factory=dict)
    checks: dict[str, CheckSeen] = field(default_factory=dict)
    log_in_problem: str | None = None
    cut: bool = False
    left: list[str] = field(default_factory=list)
    spent: str = ""


@dataclass(frozen=True)
class Far:
    """How pages are visited that are not timed: so many times asking for a fresh page, and whether once as any visitor
    would. One that says what it said in the look ``as_before`` was settled then."""

    samples: int = FEW
    served: bool = True
    as_before: Look | None = None


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
    noise: Noise | None = None,
    log_in: CheckPart | None = None,
    timed: bool = False,
    far: Far | None = None,
    only: Sequence[str] | None = None,
    new_to: Look | None = None,
    progress: Progress | None = None,
) -> Look:
    """Look at every page that can be reached from the starts, at the paths ``also``, and at those that sitemaps list.

    Each page is visited once as any visitor would (``served``), then ``samples`` times asking for a fresh page; with
    ``learn``, what each of these says is kept, so that noise can be learnt from it. With ``noise`` a page that still
    changes, apart from that, is visited until it does not (at most `MOST_VISITS` times): first visits fill caches.
    The first `TIMED_PAGES` are ``timed``: visited one after another. All others, and those of members, are visited as
    ``far`` ones, several at once (see `Crew`).
    After the scripted visit ``log_in`` the pages are walked once more, as a member sees them. With ``only`` just these
    are visited, and what they lead to that is ``new_to`` an earlier look. ``mail_to`` gives the
    addressees of the mail caught so far. Never raises for what the site does wrong: that is what a look is for."""
    look = Look(visitor.address)
    visitor.pause = part.pause
    visits = _Visits(samples, served, learn, noise, timed, far or Far(served=served))
    known = [p for p in (also if only is None else only) if not p.endswith(LOGGED_IN)]
    members = [p.removesuffix(LOGGED_IN) for p in (also if only is None else only) if p.endswith(LOGGED_IN)]
    listed = listed_pages(visitor, part.sitemaps) if part.sitemaps and only is None else {}
    leads = _leads_of(new_to) if new_to is not None else ()
    budget, more = Budget.of(part), 0 if new_to is None else MOST_NEW
    walk = partial(_walk_pages, look, visitor, progress=progress or Silent())

    def just(pages: Sequence[str]) -> LookPart:
        return part if only is None else part.model_copy(update={"starts": pages, "limit": len(pages) + more})

    will_log_in = log_in is not None and bool(members or only is None)
    route = Route(just(known), [*part.starts, *known] if only is None else known, listed, leads)
    walk(just(known), route, visits, "", budget.share(_FOR_VISITORS) if will_log_in else budget)
    if log_in is not None and will_log_in:
        visitor.forget()
        landed: list[str] = []
        look.log_in_problem = run_check(visitor, log_in, mail_to, landed)
        if look.log_in_problem is None:
            starts = [*landed[-1:], *part.starts, *members] if only is None else members
            # Without noise to be learnt once is enough: a page that still changes is visited until it does not.
            visits = replace(visits, timed=False, far=Far(visits.far.samples if learn else 1, served=False))
            walk(just(members), Route(just(members), starts, {}, leads, member=True), visits, LOGGED_IN, budget)
    if only is not None:
        look.left = []  # it was never to be at these
    look.spent = budget.spent
    look.checks = make_checks(visitor, checks, mail_to)
    return look


def member_cookies(visitor: Visitor, log_in: CheckPart, mail_to: Callable[[], Sequence[str]] = tuple) -> dict[str, str]:
    """What a member is known by after the scripted visit ``log_in``; nothing when it fails."""
    visitor.forget()
    return visitor.cookies if run_check(visitor, log_in, mail_to) is None else {}


@dataclass(frozen=True)
class _Visits:
    """How each page is visited (see `take_look`)."""

    samples: int
    served: bool
    learn: bool
    noise: Noise | None
    timed: bool
    far: Far

    def see(self, visitor: Visitor, path: str, name: str, *, alone: bool) -> PageSeen:
        """Visit a page that is noted under ``name``."""
        if alone:
            return _see(visitor, path, name, self.samples, self.served, self.learn, self.noise)
        often, before = min(self.samples, self.far.samples), self.far.as_before
        known = before.pages.get(name) if before is not None and self.far.served else None
        return _see(visitor, path, name, often, self.far.served, self.learn, self.noise, known)


def _walk_pages(
    look: Look, visitor: Visitor, part: LookPart, route: Route, visits: _Visits, mark: str, budget: Budget,
    progress: Progress,
) -> None:  # fmt: skip
    """Visit the pages of a route, within the limit and the budget; they are noted with ``mark`` behind their path. The
    first ones are timed."""
    seen = 0
    with contextlib.closing(Crew(visitor, 1 if part.pause else part.connections)) as crew:
        while seen < part.limit and not budget.is_spent(visitor):
            # Those that are timed are visited one after another: else the times would mean nothing.
            alone = visits.timed and seen < TIMED_PAGES and not mark
            most = _AT_ONCE if budget.is_open else _AT_ONCE_OF_A_BUDGET
            paths = route.coming(1 if alone or not seen else min(most, part.limit - seen))
            if not paths:
                break
            known_by = visitor.cookies
            see = partial(_seen_by, visits, mark, alone)
            pages = crew.each(see, paths, _is_refused)
            for path, page in zip(paths, pages, strict=True):
                look.pages[path + mark] = page
                seen += 1
                route.follow(path, page.redirect, page.markup)
                _add_files(look, crew, page)
                progress.advance(seen, min(part.limit, seen + route.waiting), "page")
            if mark and any(visitor.cookies.get(n) != v for n, v in known_by.items()):
                crew.stay_alone()  # a session that is renewed with each answer is one visitor's
    look.left += [path + mark for path in route.left()]
    look.cut = look.cut or bool(look.left)


_AT_ONCE_OF_A_BUDGET = 10
_FOR_VISITORS = 0.6
"""So large a part of a budget is for the pages that anybody sees, where those of members follow."""
_AT_ONCE = 100
MOST_NEW = 30
"""So many pages are visited that are new to an earlier look, where only some are looked at."""


def _leads_of(look: Look) -> set[str]:
    """The pages of a look, and all that these lead to."""
    links = (link for page in look.pages.values() if page.markup is not None for link in page.markup.links())
    return {*(p.removesuffix(LOGGED_IN) for p in look.pages), *links}


def _seen_by(visits: _Visits, mark: str, alone: bool, visitor: Visitor, path: str) -> PageSeen:
    return visits.see(visitor, path, path + mark, alone=alone)


def _is_refused(page: PageSeen) -> bool:
    return page.error is not None or page.status >= 500 or page.status in TOO_MUCH


def _add_files(look: Look, crew: Crew, page: PageSeen) -> None:
    """Ask for the pictures, styles and scripts of a page that are not known yet."""
    if page.markup is None:
        return
    wanted = [
        a for a in dict.fromkeys([*page.markup.images(), *page.markup.assets])
        if a.startswith("/") and a not in look.assets
    ]  # fmt: skip
    for asset, (status, content) in zip(wanted, crew.each(_file, wanted, lambda f: f[0] != 200), strict=True):
        look.assets[asset] = status
        if content is not None:
            look.files[asset] = content


def make_checks(
    visitor: Visitor, checks: Sequence[CheckPart], mail_to: Callable[[], Sequence[str]] = tuple
) -> dict[str, CheckSeen]:
    """Make scripted visits, each as a visitor who has not been there before."""
    seen = {}
    for check in checks:
        visitor.forget()
        seen[check.name] = CheckSeen(check.name, run_check(visitor, check, mail_to))
    visitor.forget()
    return seen


def check_again(
    visitor: Visitor, checks: Sequence[CheckPart], only: Sequence[str], before: Mapping[str, CheckSeen],
    mail_to: Callable[[], Sequence[str]] = tuple,
) -> str | None:  # fmt: skip
    """Make the scripted visits that ``only`` names (all of them where it names none); what is wrong that was not
    ``before``."""
    chosen = [c for c in checks if not only or c.name in only]
    return first_new_problem(make_checks(visitor, chosen, mail_to), before)


def first_new_problem(seen: Mapping[str, CheckSeen], before: Mapping[str, CheckSeen]) -> str | None:
    """What is wrong with the first of the checks that fails and did not fail ``before``; None when there is none."""
    for name, check in seen.items():
        earlier = before.get(name)
        if check.problem is not None and (earlier is None or earlier.problem is None):
            return f"'{name}' fails: {check.problem}"
    return None


def _file(visitor: Visitor, path: str) -> tuple[int, FileSeen | None]:
    """The status of a picture, style or script (0: no answer, or nothing in it), and what it holds."""
    try:
        answer = visitor.get(path)
    except VisitError:
        return 0, None
    if answer.status != 200:
        return answer.status, None
    if not answer.content:
        return 0, None
    picture = answer.header("Content-Type").startswith("image/")
    return 200, FileSeen(
        blake3(answer.content).hexdigest()[:16], picture, _pixels(answer.content) if picture else None
    )  # fmt: skip


def _pixels(content: bytes) -> tuple[int, int] | None:
    """A picture's width and height; None when it cannot be read. Only its head is looked at."""
    if content[:300].lstrip().startswith((b"<svg", b"<?xml", b"<!--")):
        return (0, 0)
    from PIL import Image, UnidentifiedImageError

    try:
        with Image.open(io.BytesIO(content)) as picture:
            return picture.size
    except (UnidentifiedImageError, OSError, ValueError, Image.DecompressionBombError):
        return None


_HEADERS = {h.lower(): h for h in (
    "Content-Type", "Content-Language", "Content-Security-Policy", "Strict-Transport-Security",
    "X-Content-Type-Options",
    "X-Frame-Options", "Referrer-Policy", "X-Robots-Tag", "Link",
)}  # fmt: skip
"""Headers that change what visitors, browsers or search engines do with a page."""


def _same(a: Markup | None, b: Markup | None, path: str, noise: Noise) -> bool:
    """Whether two visits of a page say the same, apart from noise."""
    if a is None or b is None:
        return a is b
    names = a.blocks.keys() | b.blocks.keys()
    return all(
        (noise.text(path, n, x.text) if (x := a.blocks.get(n)) else None)
        == (noise.text(path, n, y.text) if (y := b.blocks.get(n)) else None)
        for n in names
        if not noise.covers(path, n)
    )


def _see(
    visitor: Visitor, path: str, name: str, samples: int, served: bool, learn: bool, noise: Noise | None = None,
    known: PageSeen | None = None,
) -> PageSeen:  # fmt: skip
    """``name`` is what noise knows the page by; ``known`` is the page as it was: when it says the same it need not be
    seen to settle."""
    try:
        plain = visitor.get(path, fresh=False) if served else None
        visitor.rest()
        began = time.perf_counter()
        answer = visitor.get(path)
        seconds = [time.perf_counter() - began]
    except VisitError as error:
        return PageSeen(path, 0, error=str(error))
    page = PageSeen(path, answer.status, markup=markup_of(visitor, answer, path), seconds=seconds)

    def read(other: Answer) -> Markup | None:
        # Most answers are the same to the byte: they are not parsed again.
        return page.markup if _is_same(answer, other) else markup_of(visitor, other, path)

    page.served = read(plain) if plain is not None else None
    page.headers = {_HEADERS[n]: v for name, v in answer.headers.items() if (n := name.lower()) in _HEADERS and v}
    if 300 <= answer.status < 400:
        page.redirect = within(answer.header("Location"), visitor.address, path)
        page.leads = without_own(page.redirect, visitor.address)
    for _ in range(samples - 1 if page.loads else 0):
        try:
            visitor.rest()
            began = time.perf_counter()
            again = visitor.get(path)
            page.seconds.append(time.perf_counter() - began)
        except VisitError:
            continue
        more = read(again) if learn else None
        if more is not None and more is not page.markup and again.status == page.status:
            page.samples.append(more)
    as_known = (
        noise is not None and known is not None and known.status == page.status
        and _same(known.markup, page.markup, name, noise)
    )  # fmt: skip
    if noise is not None and page.loads and page.markup is not None and not as_known:
        _settle(visitor, page, name, answer, noise)
    return page


def _is_same(one: Answer, other: Answer) -> bool:
    return one.status == other.status and one.content == other.content


def _settle(visitor: Visitor, page: PageSeen, name: str, last: Answer, noise: Noise) -> None:
    """Visit a page until it says twice the same, and keep what it says then; ``last`` is what it said so far."""
    for _ in range(MOST_VISITS):
        try:
            answer = visitor.get(page.path)
        except VisitError:
            return
        if _is_same(last, answer):
            return
        last, again = answer, markup_of(visitor, answer, page.path)
        if answer.status != page.status or again is None:
            return
        settled = _same(page.markup, again, name, noise)
        page.markup = again
        if settled:
            return
    page.unsettled = True


def within(place: str, address: str, path: str) -> str:
    """Where a redirect that a page at ``path`` sends leads: a path within the site, else the whole address. It may be
    relative (RFC 9110, 10.2.2), and which part of a page is meant is no server's business."""
    if not place:
        return ""
    try:
        whole = urljoin(address + path, place).partition("#")[0]
    except ValueError:
        return place
    if whole != address and not whole.startswith((address + "/", address + "?")):
        return whole
    inside = whole[len(address) :]
    return inside if inside.startswith("/") else f"/{inside}"


def markup_of(visitor: Visitor, answer: Answer, path: str) -> Markup | None:
    """What an answer says; None when it is no page of markup."""
    if answer.status != 200 or "html" not in answer.header("Content-Type"):
        return None
    return read_markup(answer.text, visitor.address, path)


def _lacking(step: CheckStep, html: str) -> str | None:
    """What a page was to hold and does not; None when it is all there."""
    if step.selector is None:
        return f"'{step.text}' is not on the page" if step.text is not None and step.text not in html else None
    found = LexborHTMLParser(html).css(step.selector)
    if not found:
        return f"nothing on the page fits '{step.selector}'"
    if step.text is not None and not any(step.text in " ".join(n.text().split()) for n in found):
        return f"what fits '{step.selector}' does not say '{step.text}'"
    return None


def filled(fields: Mapping[str, str], once: str) -> dict[str, str]:
    """The values that are sent: ``env:NAME`` and ``file:PATH`` stand for what is there, ``{unique}`` for a word that is
    used once, ``{today}`` for the date. Raises LookupError, in words, for what is not there."""
    return {
        name: referred(value)
        if is_reference(value)
        else value.replace("{unique}", once).replace("{today}", today().isoformat())
        for name, value in fields.items()
    }


def _why(answer: Answer) -> str:
    """What the answer says of itself, to be put behind what is wrong with it."""
    if "html" not in answer.header("Content-Type"):
        return ""
    said = reason_in(answer.text)
    if not said and answer.status >= 400:
        said = title_in(answer.text)
    return f"; the page says: {said}" if said else ""


def run_check(
    visitor: Visitor, check: CheckPart, mail_to: Callable[[], Sequence[str]], landed: list[str] | None = None,
    answers: list[str] | None = None,
) -> str | None:  # fmt: skip
    """What went wrong in a scripted visit; None when all was as expected. ``landed`` gets the page that each step ended
    on, ``answers`` what it said."""
    once = secrets.token_hex(4)
    if check.browser:
        from keenharbor.compare.browsed import run_in_browser

        return run_in_browser(visitor, check, mail_to, lambda step: filled(step.fields, once), landed)
    markup: Markup | None = None
    for number, step in enumerate(check.steps, 1):
        mails_before = len(mail_to())
        try:
            if step.submit is not None:
                form = markup.forms.get(step.submit) if markup is not None else None
                if form is None:
                    return f"step {number}: there is no form '{step.submit}' on the page"
                missing = [name for name in step.fields if name not in form.names]
                if missing:
                    return f"step {number}: the form '{step.submit}' has no field {', '.join(missing)}"
                if step.press is not None and step.press not in form.buttons:
                    return f"step {number}: the form '{step.submit}' has no button '{step.press}'"
                pressed = {step.press: form.buttons[step.press]} if step.press is not None else {}
                values = {**form.fields, **filled(step.fields, once), **pressed}
                if form.method == "post":
                    answer = visitor.post(form.action, values)
                else:
                    query = urlencode(values)
                    answer = visitor.get(f"{form.action}?{query}")
            else:
                answer = visitor.get(step.get or "/")
            for _ in range(5):
                place = within(answer.header("Location"), visitor.address, answer.path)
                if not (300 <= answer.status < 400 and place):
                    break
                if not place.startswith("/"):
                    return f"step {number}: it leads out of the site, to {place}"
                answer = visitor.get(place)
        except VisitError as error:
            return f"step {number}: no answer ({error})"
        except LookupError as error:
            return f"step {number}: {error.args[0]}"
        if answer.status != step.status:
            return f"step {number}: status {answer.status}, expected {step.status}{_why(answer)}"
        if (lacking := _lacking(step, answer.text)) is not None:
            return f"step {number}: {lacking}{_why(answer)}"
        if step.mail_to is not None and step.mail_to not in list(mail_to())[mails_before:]:
            return f"step {number}: no mail to {step.mail_to} was sent"
        markup = markup_of(visitor, answer, urlsplit(answer.path).path)
        if landed is not None:
            landed.append(answer.path)
        if answers is not None:
            answers.append(answer.text)
    return None
