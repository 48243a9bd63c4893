"""Finding the form by which somebody logs in, and trying it: what a check wants to say of it is learnt from the
answer."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from keenharbor.compare.look import LOGGED_IN, Look, filled, run_check, within
from keenharbor.compare.markup import Form, read_markup
from keenharbor.compare.visitor import VisitError, Visitor
from keenharbor.host import Entry, ReadPath
from keenharbor.site.model import CheckPart, CheckStep

CHECK = "a member logs in"
_USUAL_PLACES = (
    "/login", "/login/", "/admin/", "/admin/login/", "/admin/login", "/user/login", "/users/login", "/account/login/",
    "/accounts/login/", "/signin", "/auth/login", "/administrator/", "/cms/", "/backend/",
)  # fmt: skip
_ROUTE = re.compile(r"""['"^(]/?((?:[\w.-]+/){0,3}[\w.-]*(?:log-?in|sign-?in|admin)[\w.-]*(?:\.php)?/?)['"$)]""", re.I)
_USER = re.compile(r"(?i)user|log(in|on)|mail|name|account|member|ident|nick|uid")
_NO_USER = re.compile(
    r"(?i)token|csrf|next|redirect|return|op$|action|submit|remember|profile|lang|captcha|url|website"
)
_WAY_OUT = re.compile(r"(?i)(log|sign)[-_ ]?(out|off)")
_MOST_ROUTES, _MOST_CODE = 40, 4000
_ENDS = (".py", ".php", ".rb", ".js", ".yml", ".yaml", ".toml", ".xml")


@dataclass(frozen=True)
class LogInForm:
    """The form on a page, the field for the name and that for the password."""

    path: str
    name: str
    form: Form
    user: str
    password: str

    def steps(self, user: str, password: str) -> list[CheckStep]:
        """A scripted visit through it."""
        fields = {self.user: user, self.password: password}
        return [CheckStep(get=self.path), CheckStep(submit=self.name, fields=fields)]


def log_in_forms(visitor: Visitor, look: Look, routes: Iterable[str], base: str = "") -> Iterator[LogInForm]:
    """Forms with one password on the pages that links lead to; then on pages that ``routes`` name, and where such
    forms usually stand under the path ``base``."""
    seen: set[tuple[str, str]] = set()
    for path, page in sorted(look.pages.items(), key=lambda p: (p[0].count("/"), len(p[0]))):
        if page.markup is not None and page.loads and LOGGED_IN not in path:
            yield from _of_page(path, page.markup.forms, seen)
    for path in dict.fromkeys([*routes, *(base + place for place in _USUAL_PLACES)]):
        if path in look.pages:
            continue
        try:
            answer = visitor.get(path)
            for _ in range(4):
                place = within(answer.header("Location"), visitor.address, answer.path)
                if not (300 <= answer.status < 400 and place.startswith("/")):
                    break
                answer = visitor.get(place)
        except (VisitError, ValueError):
            continue
        if answer.status == 200 and "html" in answer.header("Content-Type"):
            yield from _of_page(path, read_markup(answer.text, visitor.address, answer.path).forms, seen)


def usual_paths(look: Look, routes: Iterable[str], base: str = "") -> list[str]:
    """Pages on which somebody may log in, the likeliest first: those that are called so, the start, where such forms
    usually stand."""
    called = [p for p in (*look.pages, *routes) if re.search(r"(?i)log-?in|sign-?in|account|admin", p)]
    return list(dict.fromkeys([*called[:5], *list(look.pages)[:1], *(base + place for place in _USUAL_PLACES)]))


def _of_page(path: str, forms: dict[str, Form], seen: set[tuple[str, str]]) -> Iterator[LogInForm]:
    for name, form in forms.items():
        named = [f for f in form.fields if f not in form.hidden and f not in form.secrets and not _NO_USER.search(f)]
        user = next((f for f in named if _USER.search(f)), named[0] if named else None)
        known = (form.action, "/".join(form.fields))
        if form.method != "post" or len(form.secrets) != 1 or user is None or len(named) > 2 or known in seen:
            continue
        seen.add(known)
        yield LogInForm(path, name, form, user, next(iter(form.secrets)))


def routes_in(root: ReadPath, entries: dict[str, Entry]) -> list[str]:
    """Paths in the site's own code that speak of logging in or of an administration, as far as they are plain."""
    found: dict[str, None] = {}
    code = [p for p, e in entries.items() if e.kind == "file" and e.area != "cache" and p.endswith(_ENDS)]
    for path in sorted(code, key=lambda p: (not re.search(r"(?i)url|route", p), p.count("/"), p))[:_MOST_CODE]:
        if entries[path].size > 256 * 1024:
            continue
        try:
            text = (root / path).read_text(errors="replace")
        except OSError:
            continue
        for match in _ROUTE.finditer(text):
            found.setdefault("/" + match[1])
        if len(found) >= _MOST_ROUTES:
            break
    return list(found)


@dataclass(frozen=True)
class LogInTried:
    """A log-in that works, as a check; or why none does."""

    check: CheckPart | None
    problem: str = ""


def try_log_in(visitor: Visitor, forms: Iterable[LogInForm], user: str, password: str) -> LogInTried:
    """Log in by the first form that lets this member in. ``password`` is as a check has it (``env:NAME``)."""
    problem = "no page has a form for logging in"
    try:
        return _tried(visitor, forms, user, password, problem)
    except VisitError as error:
        return LogInTried(None, f"the site does not answer: {error}")


def _tried(visitor: Visitor, forms: Iterable[LogInForm], user: str, password: str, problem: str) -> LogInTried:
    for form in forms:
        before = visitor.get(form.path).text
        steps = form.steps(user, password)
        landed: list[str] = []
        bare = CheckPart(name=CHECK, writes=True, steps=steps)
        visitor.forget()
        wrong = run_check(visitor, bare, tuple, landed)
        if wrong is not None:
            problem = f"the form on {form.path}: {wrong}"
            continue
        answer = visitor.get(landed[-1]) if landed else None
        if answer is None or answer.status != 200:
            problem = f"behind the form on {form.path} there is no page"
            continue
        markup = read_markup(answer.text, visitor.address, answer.path)
        if any(f.secrets and f.action == form.form.action for f in markup.forms.values()):
            problem = f"the form on {form.path} does not let '{user}' in: it is shown again"
            continue
        mark = _mark(before, answer.text, user, markup.title)
        last = steps[-1].model_copy(update={"text": mark} if mark else {})
        return LogInTried(bare.model_copy(update={"steps": [steps[0], last]}))
    return LogInTried(None, problem)


def try_script_log_in(visitor: Visitor, paths: Sequence[str], user: str, password: str) -> LogInTried | None:
    """Log in by a form that scripts build, in a browser; None where none is found (or there is no browser)."""
    from keenharbor.compare.browsed import find_script_log_in, text_behind

    found = find_script_log_in(visitor, paths)
    if found is None:
        return None
    fields = {found.user: user, found.password: password}
    sent = CheckStep(fields=fields, press=found.button or None, submit=None if found.button else "form")
    bare = CheckPart(name=CHECK, writes=True, browser=True, steps=[CheckStep(get=found.path), sent])
    behind = text_behind(visitor, bare, lambda step: filled(step.fields, ""))
    if behind is None:
        return LogInTried(None, f"the form on {found.path}, which scripts build, does not let '{user}' in")
    lines = [line for line in behind.splitlines() if 3 < len(line) < 60 and line not in found.text]
    mark = _mark(found.text, behind, user, lines[0] if lines else "")
    last = sent.model_copy(update={"text": mark} if mark else {})
    return LogInTried(bare.model_copy(update={"steps": [bare.steps[0], last]}))


def _mark(before: str, after: str, user: str, title: str) -> str | None:
    """Something that only the page behind a log-in says."""
    candidates: Sequence[str] = [m[0] for m in _WAY_OUT.finditer(after)] + [user, title]
    return next((c for c in candidates if c and c in after and c not in before), None)


def check_text(check: CheckPart) -> str:
    """A check as TOML for the site file."""
    steps = ",\n".join(f"  {_step(step)}" for step in check.steps)
    browser = "browser = true\n" if check.browser else ""
    writes = str(check.writes).lower()
    return f"[[check]]\nname = {_toml(check.name)}\nwrites = {writes}\n{browser}steps = [\n{steps},\n]\n"


def _step(step: CheckStep) -> str:
    said = step.model_dump(exclude_defaults=True)
    parts = []
    for key, value in said.items():
        if isinstance(value, dict):
            shown = "{ " + ", ".join(f"{_toml(k)} = {_toml(v)}" for k, v in value.items()) + " }"
        else:
            shown = _toml(value)
        parts.append(f"{key} = {shown}")
    return "{ " + ", ".join(parts) + " }"


def _toml(value: object) -> str:
    return json.dumps(value, ensure_ascii=False)
