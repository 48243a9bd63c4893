"""A Tansy site: settings, extensions, templates, and the answers to visitors."""

import configparser
import importlib.util
import json
import os
import random
import re
import socket
import threading
import time
import traceback
from http.cookies import SimpleCookie
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

import loam
from core import db, members, rules, serial
from core.pagecache import PageCache

TYPES = {".css": "text/css", ".png": "image/png", ".js": "text/javascript", ".svg": "image/svg+xml"}
WORDS = ("chitting", "pricking out", "hardening off", "earthing up", "dibbing", "winnowing", "threshing", "thinning")


class NotFound(Exception):
    """There is no such page."""


class Answer:
    def __init__(self, body, status=200, kind="text/html; charset=utf-8", headers=()):
        self.body = body if isinstance(body, bytes) else body.encode()
        self.status, self.kind, self.headers = status, kind, list(headers)


def redirect(place, headers=()):
    return Answer("", 303, headers=[("Location", place), *headers])


class Request:
    def __init__(self, method, target, headers, form):
        parts = urlsplit(target)
        self.method, self.path, self.headers, self.form = method, parts.path, headers, form
        self.plain = not parts.query
        self.query = {k: v[-1] for k, v in parse_qs(parts.query).items()}
        cookies = SimpleCookie(headers.get("Cookie", ""))
        self.cookies = {k: v.value for k, v in cookies.items()}
        self.member = None


class Site:
    """Everything that the extensions can reach."""

    def __init__(self, root):
        self.root = Path(root)
        self.settings = self._read_settings()
        self.engine = db.open_engine(self.settings)
        self.cache = PageCache(self.settings["paths.cache"])
        self.version = (self.root / "core" / "VERSION").read_text().strip()
        self.routes, self.blocks, self.after_loan, self.migrations, self.nightly_tasks = {}, {}, [], {}, []
        self.before_answer = []
        self.extensions = {}
        rules.prepare(self)
        members.register(self)
        self._load_extensions()

    def _read_settings(self):
        parser = configparser.ConfigParser(interpolation=None)
        with open(self.root / "settings.ini", encoding="utf-8") as file:
            parser.read_file(file)
        return {f"{section}.{key}": value for section in parser.sections() for key, value in parser[section].items()}

    def option(self, name, default=None):
        """A setting from the database: JSON, a length-prefixed value, or plain text."""
        with self.engine.work() as work:
            row = work.one("SELECT value FROM settings WHERE name = ?", name)
        if row is None:
            return default
        text = row["value"]
        if text[:2] in ("a:", "s:", "i:", "b:"):
            return serial.load(text)
        return json.loads(text) if text[:1] in "{[" else text

    def set_option(self, name, value):
        text = value if isinstance(value, str) else json.dumps(value)
        with self.engine.work() as work:
            work.run("DELETE FROM settings WHERE name = ?", name)
            work.run("INSERT INTO settings (name, value) VALUES (?, ?)", name, text)

    def log_error(self, text):
        log = Path(self.settings["paths.log"]) / "error.log"
        log.parent.mkdir(parents=True, exist_ok=True)
        with log.open("a") as out:
            out.write(f"{time.strftime('%Y-%m-%d %H:%M:%S')} {text}\n")

    def _load_extensions(self):
        with self.engine.work() as work:
            rows = work.all("SELECT name FROM extensions WHERE enabled = 1 ORDER BY name")
        for row in rows:
            self.load_extension(row["name"])

    def load_extension(self, name):
        folder = self.root / "extensions" / name
        try:
            spec = importlib.util.spec_from_file_location(f"extension_{name.replace('-', '_')}", folder / "main.py")
            module = importlib.util.module_from_spec(spec)
            spec.loader.exec_module(module)
            module.register(self)
            self.extensions[name] = module
        except Exception as error:
            self.log_error(f"extension {name} could not be loaded: {type(error).__name__}: {error}")

    # -- pages ---------------------------------------------------------------------------------------------

    def template(self, name):
        theme = self.root / "themes" / self.settings["site.theme"] / "overrides" / f"{name}.html"
        file = theme if theme.is_file() else self.root / "core" / "templates" / f"{name}.html"
        return file.read_text()

    def fill(self, template_name, **values):
        """A template with its places filled; a place that nobody fills stays empty."""
        return re.sub(r"\{\{(\w+)\}\}", lambda m: loam.text(values.get(m[1], "")), self.template(template_name))

    def blocks_for(self, kind, subject):
        """The blocks placed beside a page of that kind, each in a section of its own."""
        placement = self.option("blocks.placement", {})
        found = []
        for name, place in placement.items():
            if name in self.blocks and rules.kind_is_listed(kind, place["kinds"]):
                found.append(f'<section class="block" id="{name}">{self.blocks[name](subject)}</section>')
        return "".join(found)

    def page(self, request, title, body, kind="page", subject=None, description=""):
        links = (("/", "Home"), ("/varieties", "Seeds"), ("/calendar", "Calendar"), ("/gallery", "Gallery"),
                 ("/notes", "Growers' notes"), ("/loans", "Loan desk"), ("/search", "Search"), ("/about", "About"),
                 ("/members", "Members"))  # fmt: skip
        address = self.settings["site.address"]
        who = loam.escape(request.member["name"]) if request.member else '<a href="/login">Log in</a>'
        return Answer(self.fill(
            "page", title=loam.escape(title), body=body, description=loam.escape(description or title),
            menu="".join(f'<li><a href="{to}">{loam.escape(label)}</a></li>' for to, label in links), who=who,
            aside=self.blocks_for(kind, subject), version=self.version, canonical=address + request.path,
            theme=self.settings["site.theme"], word=random.choice(WORDS), clock=time.strftime("%H:%M:%S"),
            extra=rules.head_extra(self), name=loam.escape(self.settings["site.name"]),
        ))  # fmt: skip

    def answer(self, request):
        flag = self.root / "var" / "maintenance.flag"
        if flag.exists() and request.headers.get("X-Maintenance-Pass") != flag.read_text().strip():
            return Answer("<title>Back soon</title><h1>The library is being tidied</h1>", 503)
        for hook in self.before_answer:
            early = hook(request)
            if early is not None:
                return early
        file = self._static(request.path)
        if file is not None:
            return file
        request.member = members.who(self, request)
        cacheable = request.method == "GET" and request.plain and not request.member and (
            request.headers.get("Cache-Control") != "no-cache")  # fmt: skip
        if cacheable:
            known = self.cache.get(request.path)
            if known is not None:
                return Answer(known, headers=[("X-Page-Cache", "hit")])
        answer = self._route(request)
        if cacheable and answer.status == 200 and not answer.headers and 'name="token"' not in answer.body.decode():
            self.cache.put(request.path, answer.body.decode())
        return answer

    def _static(self, path):
        if not path.startswith(("/assets/", "/media/", "/themes/")) or ".." in path:
            return None
        base = self.root / "core" if path.startswith("/assets/") else self.root
        file = base / path.lstrip("/")
        if not file.is_file() or file.suffix not in TYPES:
            return Answer("not found", 404, "text/plain")
        return Answer(file.read_bytes(), kind=TYPES[file.suffix])

    def _route(self, request):
        for pattern, handler in self.routes.items():
            fit = re.fullmatch(pattern, request.path)
            if fit:
                return handler(request, *fit.groups())
        raise NotFound(request.path)

    def respond(self, request):
        """The answer to a request; an error becomes a page and a line in the log."""
        try:
            return self.answer(request)
        except NotFound:
            answer = self.page(request, "Not found", "<h1>Not found</h1><p>There is no such page.</p>")
            answer.status = 404
            return answer
        except Exception as error:
            place = traceback.extract_tb(error.__traceback__)[-1]
            self.log_error(
                f"{request.method} {request.path}: {type(error).__name__}: {error} "
                f"({Path(place.filename).name}:{place.lineno})"
            )
            return Answer("<title>Error</title><h1>Something went wrong</h1>", 500)


def handler_for(site):
    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"
        server_version, sys_version = "Tansy", ""
        timeout = 30
        disable_nagle_algorithm = True  # head and body are two writes

        def _go(self):
            length = int(self.headers.get("Content-Length") or 0)
            raw = self.rfile.read(length).decode("utf-8", "replace")
            form = {k: v[-1] for k, v in parse_qs(raw, keep_blank_values=True).items()}
            answer = site.respond(Request(self.command, self.path, self.headers, form))
            self.send_response(answer.status)
            self.send_header("Content-Type", answer.kind)
            self.send_header("Content-Length", str(len(answer.body)))
            for name, value in answer.headers:
                self.send_header(name, value)
            self.end_headers()
            if self.command != "HEAD":
                self.wfile.write(answer.body)

        do_GET = do_POST = do_HEAD = _go

        def log_message(self, *parts):
            pass

    return Handler


class Server(ThreadingHTTPServer):
    daemon_threads = True

    def __init__(self, site, port, descriptor):
        super().__init__(("127.0.0.1", port or 0), handler_for(site), bind_and_activate=False)
        if descriptor is not None:
            self.socket.close()
            self.socket = socket.socket(fileno=descriptor)
        else:
            self.allow_reuse_address = True
            self.server_bind()
            self.server_activate()


def serve(site, port=None, descriptor=None):
    for line in rules.start_warnings(site):
        site.log_error(line)
    server = Server(site, port, descriptor)
    parent = os.getppid()

    def watch():
        # A worker whose host has gone must not go on answering.
        while os.getppid() == parent:
            time.sleep(0.5)
        os._exit(0)

    threading.Thread(target=watch, daemon=True).start()
    try:
        server.serve_forever(poll_interval=0.1)
    except KeyboardInterrupt:
        pass
    return 0
