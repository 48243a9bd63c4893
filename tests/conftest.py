"""What the tests share: running the built program, a scene with the made-up site, a small web server to look at."""

from __future__ import annotations

import atexit
import contextlib
import functools
import hashlib
import json
import os
import pty
import signal
import socketserver
import sqlite3
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

from keenharbor.database import DatabasePlace, Schema, StoredState, Together, open_database, store_state
from keenharbor.demo.scene import Host, Scene, set_scene
from keenharbor.demo.story import SHELF_CHECKS
from keenharbor.site.load import open_site
from keenharbor.site.view import SiteView
from keenharbor.snapshot.model import Facts, ListedTable, Manifest, SavedDatabase, Tree
from keenharbor.store import object_id
from keenharbor.trial.result import result_schema

# How long an example takes is the machine's doing, and no test's.
settings.register_profile("harbor", deadline=None)
settings.load_profile("harbor")

# A run in the background starts with some signals ignored, and so would everything that it starts.
for _number in (signal.SIGINT, signal.SIGHUP, signal.SIGTERM):
    if signal.getsignal(_number) is signal.SIG_IGN:
        signal.signal(_number, signal.default_int_handler if _number is signal.SIGINT else signal.SIG_DFL)

PROGRAM = [sys.executable, "-m", "keenharbor.cli.main"]


@dataclass(frozen=True)
class Ran:
    """How a run of the program ended."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


def environment(**more: str) -> dict[str, str]:
    kept = {k: v for k, v in os.environ.items() if k in ("PATH", "HOME", "LANG", "LC_ALL", "TMPDIR")}
    return {**kept, "PYTHONIOENCODING": "utf-8", **more}


class Warm:
    """A process that runs commands without importing everything anew for each (see `warm.py`)."""

    def __init__(self, **more: str) -> None:
        self._process = subprocess.Popen(
            [sys.executable, str(Path(__file__).parent / "warm.py")],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            env=environment(**more),
        )
        atexit.register(self._end)

    def _end(self) -> None:
        self._process.communicate()

    def run(self, folder: Path, words: list[str], env: dict[str, str], kill_after: float | None = None) -> Ran:
        with tempfile.TemporaryDirectory() as place:
            out, err = Path(place) / "out", Path(place) / "err"
            for file in (out, err):
                file.touch()  # a run may be killed before it has opened them
            asked = {"folder": str(folder), "words": words, "environment": env, "out": str(out), "err": str(err),
                     "kill_after": kill_after}  # fmt: skip
            assert self._process.stdin is not None and self._process.stdout is not None
            self._process.stdin.write(json.dumps(asked) + "\n")
            self._process.stdin.flush()
            code = int(self._process.stdout.readline())
            return Ran(code, out.read_text(encoding="utf-8"), err.read_text(encoding="utf-8"))


@functools.cache
def warm() -> Warm:
    return Warm()


def cold(folder: Path, words: list[str], env: dict[str, str]) -> Ran:
    """The program as a shell would start it."""
    done = subprocess.run(
        [*PROGRAM, *words],
        cwd=folder,
        capture_output=True,
        text=True,
        encoding="utf-8",
        stdin=subprocess.DEVNULL,
        timeout=300,
        env=env,
        check=False,
    )
    return Ran(done.returncode, done.stdout, done.stderr)


def fits_the_schema(result: object) -> None:
    """Hold a trial's result against the published schema, which must be that of the code."""
    import jsonschema

    schema = json.loads((Path(__file__).parents[1] / "docs/trial.schema.json").read_text())
    assert schema == json.loads(json.dumps(result_schema())), "make it anew: python docs/make_schema.py"
    jsonschema.validate(result, schema)


def typed(folder: Path, words: list[str], prompt: str, answer: Callable[[str], str]) -> tuple[int, str]:
    """Run the program on a terminal; each time that it shows ``prompt``, type what ``answer`` makes of all that was
    shown. The exit code, and what was shown."""
    controller, terminal = pty.openpty()
    process = subprocess.Popen(
        [*PROGRAM, *words], cwd=folder, stdin=terminal, stdout=terminal, stderr=terminal, env=environment(COLUMNS="200")
    )
    os.close(terminal)
    shown, asked = "", 0
    with contextlib.suppress(OSError):
        while piece := os.read(controller, 4096):
            shown += piece.decode()
            if shown.count(prompt) > asked:
                asked += 1
                os.write(controller, f"{answer(shown)}\n".encode())
    os.close(controller)
    return process.wait(timeout=60), shown


def on_a_terminal(folder: Path, words: list[str], answers: list[str]) -> str:
    """Run the program on a terminal and type ``answers``, a line each; what it shows there."""
    controller, terminal = pty.openpty()
    process = subprocess.Popen(
        [*PROGRAM, *words], cwd=folder, stdin=terminal, stdout=terminal, stderr=terminal, env=environment(COLUMNS="200")
    )
    os.close(terminal)
    os.write(controller, "".join(f"{a}\n" for a in answers).encode())
    shown = b""
    with contextlib.suppress(OSError):  # the terminal is gone when the program has ended
        while piece := os.read(controller, 4096):
            shown += piece
    os.close(controller)
    process.wait(timeout=60)
    return shown.decode()


def harbor(folder: Path, *words: str | Path, code: int | None = 0, **env: str) -> Ran:
    """Run the program in ``folder``; with ``code``, that must be its exit code."""
    ran = warm().run(folder, [*map(str, words)], environment(**env))
    if code is not None:
        assert ran.code == code, f"exit code {ran.code}, expected {code}\n{ran.out}\n{ran.err}"
    assert "Traceback" not in ran.err
    return ran


def killed(folder: Path, *words: str | Path, after: float) -> int:
    """Run the program and kill it after so many seconds; returns its exit code (-9: killed)."""
    return warm().run(folder, [*map(str, words)], environment(), after).code


# The story looks at every page; most other tests need a few.
FEW_PAGES = SHELF_CHECKS + "\n[look]\nlimit = 12\n"


def describe(scene: Scene, checks: str = FEW_PAGES) -> None:
    """Write the scene's site file, as the story does."""
    words: list[str] = []
    for version in ("2", "3"):
        words += ["--launcher", f"{version}={scene.runtimes}/loam-{version}/bin/loam"]
    reload = f"{sys.executable} {scene.host_program} reload --control {scene.control}"
    harbor(
        scene.folder,
        *("init", "site", "--platform", "tansy.toml", "--name", "marrow-lane", "--feed", "feed/feed.json"),
        *words,
        *("--reload", reload),
    )
    with scene.site_file.open("a", encoding="utf-8") as file:
        file.write(checks)


@pytest.fixture
def scene(tmp_path: Path) -> Scene:
    """A described site, not served."""
    made = set_scene(tmp_path / "scene")
    describe(made)
    return made


@pytest.fixture(scope="module")
def shared_scene(tmp_path_factory: pytest.TempPathFactory) -> Scene:
    """A described site, not served, for tests that only read."""
    made = set_scene(tmp_path_factory.mktemp("shared") / "scene")
    describe(made)
    return made


@pytest.fixture
def served(scene: Scene) -> Iterator[Scene]:
    """A described site on its host."""
    with Host(scene):
        yield scene


@pytest.fixture(scope="module")
def site(shared_scene: Scene) -> SiteView:
    return open_site(shared_scene.site_file)


def plain_files(root: Path, leave_out: tuple[str, ...] = ("var/cache", "var/log")) -> dict[str, str]:
    """Every file below ``root`` with mode and SHA-256; shares no code with the tool."""
    found = {}
    for path in sorted(root.rglob("*")):
        name = path.relative_to(root).as_posix()
        if path.is_file() and not name.startswith(leave_out):
            found[name] = f"{path.stat().st_mode:o} {hashlib.sha256(path.read_bytes()).hexdigest()}"
    return found


def plain_dump(database: Path) -> list[str]:
    """The database as SQL, by the engine's own module; shares no code with the tool."""
    with contextlib.closing(sqlite3.connect(f"{database.as_uri()}?mode=ro", uri=True)) as connection:
        return sorted(connection.iterdump())


def state_of(scene: Scene) -> tuple[dict[str, str], list[str]]:
    """All of the live site that counts."""
    return plain_files(scene.root), plain_dump(scene.database)


def query(database: Path, sql: str, *values: object) -> list[tuple[Any, ...]]:
    with contextlib.closing(sqlite3.connect(database)) as connection, connection:
        return connection.execute(sql, values).fetchall()


@dataclass
class Pages:
    """A small web server: pages by path, as texts or functions; what was asked is noted."""

    content: dict[str, Any] = field(default_factory=dict)
    asked: list[tuple[str, str]] = field(default_factory=list)
    address: str = ""

    def answer(self, method: str, path: str, headers: Any, body: str) -> tuple[int, dict[str, str], bytes]:
        self.asked.append((method, path))
        any_other = self.content.get("*", (404, {}, "nothing here"))
        found = self.content.get(path, self.content.get(path.split("?")[0], any_other))
        if callable(found):
            found = found(method, path, headers, body)
        if isinstance(found, str | bytes):
            found = (200, {}, found)
        status, more, text = found
        raw = text.encode() if isinstance(text, str) else text
        return status, {"Content-Type": "text/html; charset=utf-8", **more}, raw


@pytest.fixture
def pages() -> Iterator[Pages]:
    """An empty small web server."""
    with serve_pages() as made:
        yield made


@contextlib.contextmanager
def serve_pages() -> Iterator[Pages]:
    made = Pages()

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"
        disable_nagle_algorithm = True

        def respond(self) -> None:
            length = int(self.headers.get("Content-Length") or 0)
            status, headers, raw = made.answer(self.command, self.path, self.headers, self.rfile.read(length).decode())
            self.send_response(status)
            for name, value in headers.items():
                self.send_header(name, value)
            self.send_header("Content-Length", str(len(raw)))
            self.end_headers()
            self.wfile.write(raw)

        do_GET = do_POST = respond

        def log_message(self, format: str, *args: Any) -> None: ...

    socketserver.TCPServer.allow_reuse_address = True
    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    server.daemon_threads = True
    made.address = f"http://127.0.0.1:{server.server_port}"
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True)
    thread.start()
    try:
        yield made
    finally:
        server.shutdown()
        server.server_close()


@pytest.fixture
def write_tree() -> Callable[[Path, dict[str, str | bytes]], None]:
    """Writes files by path."""

    def write(root: Path, files: dict[str, str | bytes]) -> None:
        for name, content in files.items():
            path = root / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(content.encode() if isinstance(content, str) else content)

    return write


class StateInMemory:
    """A stored state of a database whose chunks are held in a table; ``read`` names the tables that were read for
    it."""

    def __init__(self, place: DatabasePlace, earlier: StoredState | None = None) -> None:
        held: dict[str, bytes] = {} if earlier is None else earlier.held  # type: ignore[attr-defined]

        def add(content: bytes) -> str:
            identity = object_id(content)
            held[identity] = content
            return identity

        self.read: list[str] = []
        with open_database(place).reading() as state:
            original = state.blocks
            state.blocks = lambda table: (self.read.append(table), original(table))[1]  # type: ignore[func-returns-value,method-assign]
            schema, tables = state.schema, store_state(state, Together(add), earlier)
        self.state = StoredState(Schema.from_json(schema.as_json()), tables, held.__getitem__)
        self.state.held = held  # type: ignore[attr-defined]


def state_in_memory(place: DatabasePlace) -> StoredState:
    return StateInMemory(place).state


def manifest_of(
    tree: Tree, tables: tuple[ListedTable, ...] = (), *, identity: str = "20260101-000000-abcd",
    taken_at: str = "2026-01-01T00:00:00+00:00",
) -> Manifest:  # fmt: skip
    """The manifest of a snapshot with this content."""
    database = SavedDatabase("none:", Schema("none", "", ()), tables)
    return Manifest(
        identity, "s", "", taken_at, 0.1, None, None, "by hand", "/s", "http://s.test", Facts("1", "php 8", ()), (), (),
        (),
        (), tree, database,
    )  # fmt: skip
