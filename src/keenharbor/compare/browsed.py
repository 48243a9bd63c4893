"""Scripted visits in a real browser (Chromium through Playwright, the extra ``browser``): for forms that scripts build,
and for buttons that only scripts react to."""

from __future__ import annotations

import contextlib
import json
import re
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from keenharbor.base.errors import UsageError
from keenharbor.compare.camera import browser_arguments, browser_program, elsewhere_than, missing_browser
from keenharbor.compare.reasons import reason_in
from keenharbor.compare.visitor import Visitor
from keenharbor.site.model import CheckPart, CheckStep

if TYPE_CHECKING:
    from playwright.sync_api import Locator, Page, Response

_LOG_IN_SECONDS = 10
# What scripts are made of is not what the page says: a text in their source would be there before they have run.
_MARKUP_WITHOUT_SCRIPTS = """() => {
  const page = document.documentElement.cloneNode(true);
  page.querySelectorAll('script, style, template, noscript').forEach(e => e.remove());
  return page.outerHTML;
}"""
_NTH = re.compile(r"^(.*?)\[(\d+)\]$")


def refuse_without_browser(checks: Sequence[CheckPart]) -> None:
    """Raise `UsageError` before anything is begun where a check wants a browser and there is none."""
    wanting = next((c.name for c in checks if c.browser), None)
    if wanting is not None and (lacking := missing_browser()):
        raise UsageError(
            f"the check '{wanting}' is made in a browser: {lacking}",
            advice="install it, or take 'browser' out of the check",
        )


def run_in_browser(
    visitor: Visitor, check: CheckPart, mail_to: Callable[[], Sequence[str]],
    values: Callable[[CheckStep], dict[str, str]],
    landed: list[str] | None = None,
) -> str | None:  # fmt: skip
    """What went wrong in a scripted visit; None when all was as expected. The browser asks nothing but the site, is
    sent with what ``visitor`` sends beside, and leaves it what it is known by. ``values`` gives what a step fills
    in."""
    if lacking := missing_browser():
        return f"no browser can be used: {lacking}"
    from playwright.sync_api import Error

    with _open_page(visitor, check.seconds) as page:
        told = _Told(page)
        for number, step in enumerate(check.steps, 1):
            mails_before = len(mail_to())
            told.begin()
            try:
                _act(page, visitor.address, step, values(step))
                wrong = _wait_for(page, step, told, check.seconds)
            except LookupError as error:
                return f"step {number}: {error.args[0]}"
            except Error as error:
                wrong = error.message.split("\n", 1)[0].removeprefix("Page.").replace(visitor.address, "")
            if wrong is None and step.mail_to is not None:
                wrong = _wait_for_mail(step.mail_to, mail_to, mails_before, check.seconds)
            if wrong is not None:
                return f"step {number}: {wrong}{told.complaint() or _said(page)}"
            if landed is not None:
                parts = urlsplit(page.url)
                landed.append(parts.path + (f"?{parts.query}" if parts.query else ""))
        visitor.remember({str(c.get("name")): str(c.get("value")) for c in page.context.cookies()})
    return None


@contextmanager
def _open_page(visitor: Visitor, seconds: float) -> Iterator[Page]:
    """A page of a browser of its own, where nothing is waited for longer than ``seconds``."""
    from playwright.sync_api import sync_playwright

    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=browser_program(), args=browser_arguments())
        try:
            context = browser.new_context(
                viewport={"width": 1280, "height": 800}, ignore_https_errors=True, service_workers="block",
                locale="en-GB", timezone_id="UTC", extra_http_headers=dict(visitor.own_headers),
            )  # fmt: skip
            context.set_default_timeout(seconds * 1000)
            context.route(elsewhere_than(visitor.address), lambda route: route.abort())
            yield context.new_page()
        finally:
            browser.close()


class _Told:
    """What a page said of itself during a step: the statuses that it was answered with, and errors of its scripts."""

    def __init__(self, page: Page) -> None:
        self._page = page
        self.statuses: list[int] = []
        self._errors: list[str] = []
        page.on("response", self._note)
        page.on("pageerror", lambda error: self._errors.append(str(error)))

    def begin(self) -> None:
        self.statuses.clear()
        self._errors.clear()

    def _note(self, answer: Response) -> None:
        if answer.request.is_navigation_request() and answer.frame == self._page.main_frame:
            self.statuses.append(answer.status)

    def complaint(self) -> str:
        """The first error of a script, to be said behind what went wrong."""
        first = self._errors[0].split("\n", 1)[0][:160] if self._errors else ""
        return f"; a script of the page says: {first}" if first else ""


def _said(page: Page) -> str:
    """What the page says of what went wrong, to be put behind it."""
    from playwright.sync_api import Error

    with contextlib.suppress(Error):
        if said := reason_in(page.content()):
            return f"; the page says: {said}"
    return ""


def _act(page: Page, address: str, step: CheckStep, values: dict[str, str]) -> None:
    """Do what a step says. Raises LookupError, in words, for what is not on the page."""
    if step.get is not None:
        page.goto(address + step.get, wait_until="load")
    within = _scope(page, step.submit) if step.submit is not None else page.locator("body")
    for name, value in values.items():
        _fill(within, name, value)
    if step.press is not None:
        _button(within, step.press).click()
    elif step.submit is not None:
        sending = within.locator("[type=submit], [type=image], button:not([type=button]):not([type=reset])")
        if sending.count():
            sending.first.click()
        else:
            within.evaluate("form => form.requestSubmit()")


def _scope(page: Page, name: str) -> Locator:
    """The form that a step names: by its id, by its number among those that a selector fits (``form[1]``), or by a
    selector. Waits for it: scripts may have to build it."""
    nth = _NTH.match(name)
    if nth is not None:
        found = page.locator(nth[1]).nth(int(nth[2]) - 1)
    elif re.fullmatch(r"[\w-]+", name):
        found = page.locator(f"[id={json.dumps(name)}], {name}").first
    else:
        found = page.locator(name).first
    return _there(found, f"there is no form '{name}' on the page")


def _there(found: Locator, otherwise: str) -> Locator:
    from playwright.sync_api import TimeoutError as TooLate

    try:
        found.wait_for(state="attached")
    except TooLate:
        raise LookupError(otherwise) from None
    return found


def _fill(within: Locator, name: str, value: str) -> None:
    quoted = json.dumps(name)
    field = within.locator(f"[name={quoted}], [id={quoted}], [placeholder={quoted}], [aria-label={quoted}]")
    field = _there(field.or_(within.get_by_label(name, exact=True)).first, f"there is no field '{name}' on the page")
    kind = str(field.evaluate("f => f.type || f.tagName.toLowerCase()"))
    if kind == "radio":
        within.locator(f"[name={quoted}][value={json.dumps(value)}]").check()
    elif kind == "checkbox":
        field.set_checked(value not in ("", "0", "false", "off"))
    elif kind.startswith("select"):
        field.select_option(value)
    else:
        field.fill(value)


def _button(within: Locator, name: str) -> Locator:
    """What is pressed: by its name or id, or by what it says."""
    quoted = json.dumps(name)
    named = within.locator(f"[name={quoted}], [id={quoted}]")
    said = within.locator("button, a, [role=button], input[type=submit], input[type=button]").filter(has_text=name)
    valued = within.locator(f"input[value={quoted}]")
    return _there(named.or_(said).or_(valued).first, f"there is no button '{name}' on the page")


def _wait_for(page: Page, step: CheckStep, told: _Told, seconds: float) -> str | None:
    """What a step expects and the page does not hold in time; None when it is all there."""
    from playwright.sync_api import TimeoutError as TooLate

    end, wrong = time.monotonic() + seconds, None
    while True:
        wrong = _lacking(page, step, told)
        if wrong is None or time.monotonic() > end:
            break
        page.wait_for_timeout(100)
    if wrong is None and step.text is None and step.selector is None:
        with contextlib.suppress(TooLate):  # some pages never rest
            page.wait_for_load_state("networkidle", timeout=seconds * 500)
        wrong = _lacking(page, step, told)
    return wrong


def _lacking(page: Page, step: CheckStep, told: _Told) -> str | None:
    if told.statuses and told.statuses[-1] != step.status and not 300 <= told.statuses[-1] < 400:
        return f"status {told.statuses[-1]}, expected {step.status}"
    if step.selector is not None:
        found = page.locator(step.selector)
        if not found.count():
            return f"nothing on the page fits '{step.selector}'"
        if step.text is not None and not found.filter(has_text=step.text).count():
            return f"what fits '{step.selector}' does not say '{step.text}'"
    elif step.text is not None and not _says(page, step.text):
        return f"'{step.text}' is not on the page"
    return None


def _says(page: Page, text: str) -> bool:
    return text in page.inner_text("body") or text in str(page.evaluate(_MARKUP_WITHOUT_SCRIPTS))


def _wait_for_mail(wanted: str, mail_to: Callable[[], Sequence[str]], before: int, seconds: float) -> str | None:
    end = time.monotonic() + seconds
    while wanted not in list(mail_to())[before:]:
        if time.monotonic() > end:
            return f"no mail to {wanted} was sent"
        time.sleep(0.1)
    return None


# -- a log-in that scripts build ------------------------------------------------------------------------------

# The one field for a password that is shown, the field for a name before it, and what sends them.
_LOG_IN_FIELDS = """() => {
  const shown = e => e.getClientRects().length > 0;
  const called = e => e.name || e.id || e.placeholder || e.getAttribute('aria-label') || '';
  const inputs = [...document.querySelectorAll('input')].filter(shown);
  const secret = inputs.filter(e => e.type === 'password');
  if (secret.length !== 1) return null;
  const before = inputs.slice(0, inputs.indexOf(secret[0])).filter(e => ['text', 'email', ''].includes(e.type));
  const user = before[before.length - 1];
  if (!user || !called(user) || !called(secret[0])) return null;
  const buttons = [...document.querySelectorAll('button, [type=submit], [role=button]')].filter(shown);
  const after = buttons.find(e => secret[0].compareDocumentPosition(e) & Node.DOCUMENT_POSITION_FOLLOWING);
  const says = after ? (after.innerText || after.value || '').trim() : '';
  return [called(user), called(secret[0]), says];
}"""
_FIELDS_SECONDS = 5
_MOST_PAGES_TRIED = 12


@dataclass(frozen=True)
class ScriptLogIn:
    """A page on which scripts build fields for a name and a password: what the two are called, what the button says
    that sends them (empty: there is none), and all that the page says."""

    path: str
    user: str
    password: str
    button: str
    text: str


def find_script_log_in(visitor: Visitor, paths: Sequence[str]) -> ScriptLogIn | None:
    """The first of the pages that is one; None where none is, or there is no browser."""
    if missing_browser():
        return None
    from playwright.sync_api import Error

    with _open_page(visitor, _LOG_IN_SECONDS) as page:
        for path in paths[:_MOST_PAGES_TRIED]:
            with contextlib.suppress(Error):
                page.goto(visitor.address + path, wait_until="load")
                scripted = page.evaluate("() => document.scripts.length > 0")
                end = time.monotonic() + (_FIELDS_SECONDS if scripted else 0)
                while (found := page.evaluate(_LOG_IN_FIELDS)) is None and time.monotonic() < end:
                    page.wait_for_timeout(150)
                if found is not None:
                    user, password, says = map(str, found)
                    return ScriptLogIn(path, user, password, says, page.inner_text("body"))
    return None


def text_behind(visitor: Visitor, check: CheckPart, values: Callable[[CheckStep], dict[str, str]]) -> str | None:
    """What the page says after a scripted visit, when it has come to rest; None when the visit fails, or the page still
    asks for a password."""
    from playwright.sync_api import Error

    with _open_page(visitor, check.seconds) as page:
        told = _Told(page)
        try:
            for step in check.steps:
                told.begin()
                _act(page, visitor.address, step, values(step))
                if _wait_for(page, step, told, check.seconds) is not None:
                    return None
            # A script that has sent the fields says so only when the answer has come, and the page had rested before.
            secret, end = page.locator("input[type=password]:visible"), time.monotonic() + check.seconds
            while secret.count() and time.monotonic() < end:
                page.wait_for_timeout(100)
            return None if secret.count() else _at_rest(page, end)
        except (Error, LookupError):
            return None


def _at_rest(page: Page, end: float) -> str:
    """What a page says when that has not changed for a moment, or at ``end``."""
    said = page.inner_text("body")
    while time.monotonic() < end:
        page.wait_for_timeout(300)
        before, said = said, page.inner_text("body")
        if said == before:
            break
    return said
