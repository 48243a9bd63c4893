"""A maintenance gate for systems that offer none: a few lines at the beginning of what answers requests, which turn
visitors away while the flag stands.

For PHP they stand at the top of each front file (behind ``declare`` and ``namespace``, which must come first); for
Python at the end of the module of the WSGI application (PEP 3333), which they wrap. Or they are rules for the web
server before the site: for Apache at the top of ``.htaccess``, for nginx in a file of their own that its ``server``
includes. Rules cannot read a file: they ask whether one stands whose name ends in the word that a request brings
(`Gate.by_name`). All can be taken out again to the byte."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from keenharbor.base.errors import UsageError
from keenharbor.host import Entry, ReadPath

FLAG = "maintenance.flag"
OTHER_FLAG = "closed-for-a-change.flag"
HEADER = "X-Harbor-Pass"
_BEGIN, _END = "maintenance gate: begin", "maintenance gate: end"
_PHP = """\
// {begin}
if (PHP_SAPI !== 'cli' && is_file(__DIR__ . '/{flag}')
    && ($_SERVER['{variable}'] ?? '') !== trim((string) @file_get_contents(__DIR__ . '/{flag}'))) {{
    http_response_code(503);
    header('Retry-After: 120');
    header('Cache-Control: no-store');
    exit('<!doctype html><title>Maintenance</title><h1>Maintenance</h1><p>Please come back in a few minutes.</p>');
}}
// {end}
"""
_PYTHON = '''\

# {begin}
def _behind_the_gate(inside, flag=__import__("pathlib").Path(__file__).resolve().parent / "{flag}"):
    """Turns visitors away while the maintenance flag stands."""
    def answer(environ, start_response):
        try:
            word = flag.read_text().strip()
        except OSError:
            return inside(environ, start_response)
        if environ.get("{variable}") == word:
            return inside(environ, start_response)
        headers = [("Content-Type", "text/html"), ("Retry-After", "120"), ("Cache-Control", "no-store")]
        start_response("503 Service Unavailable", headers)
        return [b"<!doctype html><title>Maintenance</title><h1>Maintenance</h1><p>Please come back soon.</p>"]
    return answer


application = _behind_the_gate(application)
# {end}
'''
_MIDDLEWARE_FILE = "maintenance_gate.py"
_MIDDLEWARE_LIST = re.compile(r"(?m)^(MIDDLEWARE(?:_CLASSES)?)\s*(?::[^=\n]+)?=")
_IN_LIST = """\

# {begin}
{name} = ("maintenance_gate.gate", *{name})
# {end}
"""
_MIDDLEWARE = '''\
# {begin}
"""Turns visitors away while the maintenance flag stands."""

from pathlib import Path

from django.http import HttpResponse

FLAG = Path(__file__).resolve().parent / "{flag}"
TEXT = "<!doctype html><title>Maintenance</title><h1>Maintenance</h1><p>Please come back in a few minutes.</p>"


def gate(get_response):
    def answer(request):
        try:
            word = FLAG.read_text().strip()
        except OSError:
            return get_response(request)
        if request.META.get("{variable}") == word:
            return get_response(request)
        return HttpResponse(TEXT, status=503, headers={{"Retry-After": "120", "Cache-Control": "no-store"}})

    return answer
# {end}
'''
_APACHE = """\
# {begin}
ErrorDocument 503 "<!doctype html><title>Maintenance</title><h1>Maintenance</h1><p>Please come back soon.</p>"
RewriteEngine On
RewriteCond "%{{DOCUMENT_ROOT}}/{flag}" -f
RewriteCond "%{{HTTP:{header}}}" !^[0-9a-z-]+$ [OR]
RewriteCond "%{{DOCUMENT_ROOT}}/{flag}.%{{HTTP:{header}}}" !-f
RewriteRule ^ - [R=503,L]
# {end}
"""
_NGINX = """\
# {begin}
set $harbor_closed "";
set $harbor_word none;
if (-f "$document_root/{flag}") {{
    set $harbor_closed 1;
}}
if ($http_{variable} ~ "^[0-9a-z-]+$") {{
    set $harbor_word $http_{variable};
}}
if (-f "$document_root/{flag}.$harbor_word") {{
    set $harbor_closed "";
}}
if ($harbor_closed) {{
    return 503;
}}
# {end}
"""
_APACHE_FILE, _NGINX_FILE = ".htaccess", "maintenance-gate.conf"
_BEFORE_PHP = re.compile(
    r"(?:#![^\n]*\n)?<\?php\b(?:\s+|//[^\n]*\n|#[^\n]*\n|/\*.*?\*/|declare\s*\([^)]*\)\s*;|namespace\s+[\w\\]+\s*;)*",
    re.DOTALL | re.IGNORECASE,
)
_OUT = re.compile(rf"(\n)?(?://|#) {_BEGIN}\n.*?(?://|#) {_END}\n", re.DOTALL)


GateLanguage = Literal["php", "python", "apache", "nginx"]
RULES: tuple[GateLanguage, ...] = ("apache", "nginx")


@dataclass(frozen=True)
class Gate:
    """Which files carry it, and where the flag stands."""

    language: GateLanguage
    files: tuple[str, ...]
    flag: str = FLAG
    header: str = HEADER

    @property
    def by_name(self) -> bool:
        """Whether a request's word is looked for in the name of a file beside the flag (see `pass_file`)."""
        return self.language in RULES

    def pass_file(self, word: str) -> str:
        """The empty file that lets requests with ``word`` through."""
        return f"{self.flag}.{word}"

    def put_into(self, path: str, content: bytes) -> bytes:
        """The file with the gate; as it is where it has one, or is none of those that carry it. Raises `UsageError`
        where there is no place for it."""
        if path not in self.files or _BEGIN.encode() in content:
            return content
        text = content.decode("utf-8", "surrogateescape")
        end = "\r\n" if "\r\n" in text else "\n"
        plain = text.replace("\r\n", "\n")
        values = {
            "begin": _BEGIN, "end": _END, "flag": posixpath.relpath(self.flag, posixpath.dirname(path) or "."),
            "variable": "HTTP_" + self.header.upper().replace("-", "_"),
        }  # fmt: skip
        if self.language == "apache":
            made = _APACHE.format(**self._rule_values()) + plain
        elif self.language == "nginx":
            made = _NGINX.format(**self._rule_values())
        elif self.language == "php":
            found = _BEFORE_PHP.match(plain)
            if found is None:
                raise UsageError("this file does not begin with PHP: there is no place for a gate", where=path)
            at = plain.rfind("\n", found.start(), found.end()) + 1  # the indentation stays with what it belongs to
            block = _PHP.format(**values)
            made = plain[:at] + block + plain[at:] if at else f"{found[0]}{block}{plain[found.end() :]}"
        else:
            made = self._into_python(path, plain, values)
        return made.replace("\n", end).encode("utf-8", "surrogateescape")

    def _rule_values(self) -> dict[str, str]:
        return {
            "begin": _BEGIN, "end": _END, "flag": posixpath.basename(self.flag),
            "header": self.header, "variable": self.header.lower().replace("-", "_"),
        }  # fmt: skip

    def _into_python(self, path: str, plain: str, values: Mapping[str, str]) -> str:
        if posixpath.basename(path) == _MIDDLEWARE_FILE:
            return _MIDDLEWARE.format(**values)
        before = plain + ("" if plain.endswith("\n") else "\n")
        listed = _MIDDLEWARE_LIST.search(plain)
        if listed is not None:
            return before + _IN_LIST.format(name=listed[1], **values)
        if re.search(r"(?m)^application\b", plain):
            return before + _PYTHON.format(**values)
        raise UsageError("this module has no 'application': there is no place for a gate", where=path)

    def take_out(self, content: bytes) -> bytes:
        """The file without the gate."""
        text = content.decode("utf-8", "surrogateescape")
        end = "\r\n" if "\r\n" in text else "\n"
        plain = _OUT.sub(lambda m: "" if m[1] is None or self.language != "php" else m[1], text.replace("\r\n", "\n"))
        return plain.replace("\n", end).encode("utf-8", "surrogateescape")


def language_of(files: Sequence[str]) -> GateLanguage:
    """By what a gate is written, from the files that carry it."""
    name = posixpath.basename(files[0])
    if name == _APACHE_FILE:
        return "apache"
    if name == _NGINX_FILE:
        return "nginx"
    return "python" if name.endswith(".py") else "php"


def rules_for(kind: GateLanguage, entries: Mapping[str, Entry], flag: str) -> Gate:
    """A gate of rules for a web server."""
    folder = _served_folder(entries)
    name = _APACHE_FILE if kind == "apache" else _NGINX_FILE
    return Gate(kind, (posixpath.join(folder, name),), posixpath.join(folder, flag))


def _served_folder(entries: Mapping[str, Entry]) -> str:
    """The folder that a web server serves: where its rules stand, or a page that it would answer with."""
    for names in ((_APACHE_FILE,), ("index.php", "index.html", "index.htm")):
        found = [posixpath.dirname(p) for p in entries if posixpath.basename(p) in names and p.count("/") <= 1]
        if found:
            return min(found, key=lambda f: (f.count("/") + bool(f), f))
    return ""


def gate_for(
    root: ReadPath, entries: Mapping[str, Entry], language: str, settings: Sequence[str], wanted: str | None = None,
    base: str = "",
) -> Gate:  # fmt: skip
    """The gate that fits a site, which lies under the path ``base`` of its host; ``wanted`` is ``code``, or a web
    server's kind for rules. Raises `UsageError` where none is known for its language, or no front is found."""
    flag = _free_flag(root, entries)
    if wanted in RULES and base:
        raise UsageError(
            "rules for a web server are brought for a site that has its host to itself", where=str(root),
            advice="leave out '--gate-in': the gate is put into the site's code",
        )  # fmt: skip
    if wanted in RULES:
        return rules_for(wanted, entries, flag)
    if language == "php":
        # A file of settings is no front, but where it answers visitors itself.
        own = {p for p in settings if posixpath.basename(p) != "index.php"}
        fronts = [p for p in sorted(entries) if _is_front(root, p, entries[p]) and p not in own]
        if fronts:
            return Gate("php", tuple(fronts), flag)
    elif language == "python":
        listing = _lists_middleware(root, entries)
        if listing is not None:
            above = "" if "manage.py" in entries else posixpath.dirname(listing)
            return Gate("python", (listing, posixpath.join(above, _MIDDLEWARE_FILE)), flag)
        fronts = [
            p for p, e in sorted(entries.items())
            if e.kind == "file" and posixpath.basename(p) in ("wsgi.py", "passenger_wsgi.py") and p.count("/") <= 2
            and re.search(r"(?m)^application\b", (root / p).read_text(errors="replace"))
        ]  # fmt: skip
        if fronts:
            return Gate("python", tuple(fronts[:1]), flag)
    if wanted is None and not base and posixpath.join(_served_folder(entries), _APACHE_FILE) in entries:
        return rules_for("apache", entries, flag)
    raise UsageError(
        f"no file was found that answers requests in {language}", where=str(root),
        advice="'--gate-in apache' or '--gate-in nginx' brings rules for the web server; or name a flag that it or the "
        "system knows, under [maintenance]: 'flag' and 'header'",
    )  # fmt: skip


def _free_flag(root: ReadPath, entries: Mapping[str, Entry]) -> str:
    """The name of a flag of which the site's own code does not speak: that would keep the tool out with its own
    pass."""
    for path, entry in entries.items():
        own = (
            entry.kind == "file" and path.endswith((".php", ".py")) and path.count("/") <= 3 and entry.size < 64 * 1024
        )
        if own and not _OF_OTHERS.search(path) and FLAG in (root / path).read_text(errors="replace"):
            return OTHER_FLAG
    return FLAG


_OF_OTHERS = re.compile(r"(^|/)(tests?|examples?|node_modules|site-packages|vendor)/")


def _lists_middleware(root: ReadPath, entries: Mapping[str, Entry]) -> str | None:
    """The settings module that lists what each request passes through."""
    for path, entry in sorted(entries.items(), key=lambda e: (e[0].count("/"), e[0])):
        code = entry.kind == "file" and path.endswith(".py") and path.count("/") <= 3 and entry.size < 256 * 1024
        if code and not _OF_OTHERS.search(path) and _MIDDLEWARE_LIST.search((root / path).read_text(errors="replace")):
            return path
    return None


def _is_front(root: ReadPath, path: str, entry: Entry) -> bool:
    """Whether a web server would run that file for a visitor: PHP at the top, or the index of a folder there."""
    name = posixpath.basename(path)
    if entry.kind != "file" or not name.endswith(".php") or path.count("/") > 1 or entry.area == "cache":
        return False
    if entry.area == "settings" and name != "index.php":
        return False
    if "/" in path and name != "index.php":
        return False
    text = (root / path).read_text(errors="replace")
    answers = re.search(r"(?m)^\s*(?:<\?php\s+)?(require|include)(_once)?\b|\becho\b|\bprint\b|\bheader\s*\(", text)
    return text.startswith("<?php") and answers is not None
