"""Play the whole upgrade of the made-up site, live and all, and what becomes of it when one goes back.

    python play.py WORK OLD NEW [sqlite|postgres|mariadb]

WORK is a new folder. OLD and NEW are folders of wheels: of Wagtail 6.3 and of 8.0 (see README.md). Nothing is fetched.
Runs in the environment of Keen Harbor; what a check expects and does not find ends it with an error."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any

from keenharbor.clone.server import free_port
from keenharbor.compare import Visitor
from keenharbor.compare.look import make_checks
from keenharbor.database.private_server import PrivateServer
from keenharbor.site.load import open_site

HERE = Path(__file__).resolve().parent
OLD_WANTS = ("wagtail==6.3.*", "django==5.1.*")
DRIVERS = {"sqlite": (), "postgres": ("psycopg[binary]",), "mariadb": ("pymysql",)}
PUBLISH = """
[[check]]
name = "an editor publishes a page"
writes = true
steps = [
  { get = "/admin/login/" },
  { submit = "main form[1]", fields = { username = "editor", password = "seed-seed-1" } },
  { get = "/admin/pages/4/edit/" },
  { submit = "page-edit-form", press = "action-publish", fields = { title = "Seeds of the lane" }, text = "published" },
]
"""
MEND = """
[[step]]
name = "own-code"
kind = "command"
command = ["sed", "-i", "s/wagtail.telepath import/wagtail.admin.telepath import/; s/wagtail.widget_adapters/wagtail.admin.telepath.widgets/", "home/models.py"]
expects = ["home/models.py"]
"""
HOST = '''"""Serves the live site: starts it anew with whatever code, settings and environment are there now."""

import os, signal, subprocess, sys, time, urllib.error, urllib.request
from pathlib import Path

home, port = Path(__file__).resolve().parent, sys.argv[1]
number = home / "host.pid"
if number.exists():
    try:
        os.killpg(int(number.read_text()), signal.SIGKILL)
    except ProcessLookupError:
        pass
    number.unlink()
if sys.argv[2:] == ["stop"]:
    sys.exit()
command = [str(home / "venv/bin/python"), "manage.py", "runserver", "--noreload", "127.0.0.1:" + port]
with (home / "host.log").open("ab") as log:
    server = subprocess.Popen(command, cwd=home / "lane", stdout=log, stderr=log, stdin=subprocess.DEVNULL, start_new_session=True)
number.write_text(str(server.pid))
for _ in range(300):
    try:
        urllib.request.urlopen("http://127.0.0.1:" + port + "/", timeout=5)
        break
    except urllib.error.HTTPError:
        break
    except OSError:
        if server.poll() is not None:
            sys.exit("the server ended: see host.log")
        time.sleep(0.1)
else:
    sys.exit("the server does not answer")
'''


def run(*words: str | Path, folder: Path, code: int = 0) -> str:
    """Run a program; it must end with ``code``."""
    ran = subprocess.run([*map(str, words)], cwd=folder, text=True, capture_output=True, check=False)
    if ran.returncode != code:
        sys.exit(f"{' '.join(map(str, words))}: code {ran.returncode}, not {code}\n{ran.stdout}\n{ran.stderr}")
    return ran.stdout


class Play:
    """One play, in its folder."""

    def __init__(self, work: Path, old: Path, new: Path, engine: str) -> None:
        self.work, self.old, self.new, self.engine = work, old, new, engine
        self.port = free_port()
        self.address = f"http://127.0.0.1:{self.port}"

    def harbor(self, *words: str | Path, code: int = 0) -> Any:
        """Run Keen Harbor; what it says as JSON."""
        program = Path(sys.executable).with_name("keenharbor")
        began = time.monotonic()
        told = json.loads(run(program, *words, "--json", folder=self.work, code=code))
        print(f"{time.monotonic() - began:6.1f} s  keenharbor {' '.join(map(str, words))}", flush=True)
        return told

    def environment(self, name: str) -> Path:
        """A virtual environment with the old releases and the add-ons' first ones."""
        home = self.work / name
        run(sys.executable, "-m", "venv", home, folder=self.work)
        wants = (*OLD_WANTS, *DRIVERS[self.engine])
        run(home / "bin/pip", "install", "-q", "--no-index", "-f", self.old, *wants, folder=self.work)
        return home

    def host(self, *words: str) -> None:
        """Start the live site anew, or stop it."""
        run(sys.executable, self.work / "host.py", str(self.port), *words, folder=self.work)

    def set_up(self, url: str | None) -> None:
        """The live site, served, and its site file."""
        python = self.environment("venv") / "bin/python"
        run(python, HERE / "make_site.py", "lane", *([url] if url else []), folder=self.work)
        shutil.copytree(self.new, self.work / "wheels")
        run(sys.executable, HERE / "make_site.py", "--addons", self.work / "wheels", folder=self.work)
        run(sys.executable, HERE / "record_index.py", "wheels", "index", folder=self.work)
        (self.work / "host.py").write_text(HOST)
        self.host()
        reload = f"{sys.executable} {self.work}/host.py {self.port}"
        self.harbor("init", "lane", "--yes", "--address", self.address, "--reload", reload, code=0)
        file = self.work / "keenharbor.toml"
        text = file.read_text()
        text = text.replace("\n[runtime]\n", '\n[runtime]\nwheelhouse = "wheels"\n')
        text += '\n[feed]\nindex = "index"\n\n[maintenance]\nflag = "maintenance.flag"\nheader = "X-Lane-Pass"\n'
        file.write_text(
            text.replace('tables = ["wagtailcore_comment"', 'tables = ["seed_notes_note", "wagtailcore_comment"')
            + PUBLISH
        )

    def upgrade(self) -> None:
        """Ready, plan, trial, mending, cutover."""
        print("ready:", self.harbor("ready", "--core", "8.0.1", code=1)["verdict"])
        self.harbor("plan", "draft", "--core", "8.0.1", "--no-pages")
        broken = self.harbor("trial", "run", code=1)
        self.told(broken)
        plan = self.work / "upgrade.toml"
        before, step, after = plan.read_text().partition('[[step]]\nname = "migrate"')
        if not step:
            sys.exit(f"the plan has no step that migrates:\n{before}")
        plan.write_text(f"{before}{MEND}\n{step}{after}")
        self.told(self.harbor("trial", "resume"))
        self.harbor("cutover", "--yes")
        if self.engine == "sqlite":
            after = self.harbor("snapshot", "take", "--label", "after the cutover")["id"]
            taken = self.harbor("snapshot", "list")
            self.half_way_back(after, next(s["id"] for s in taken if s["reason"] == "before a cutover"))
        if open_site(self.work / "keenharbor.toml").core_version() != "8.0.1":
            sys.exit("live is not at 8.0.1 after the cutover")

    @staticmethod
    def told(result: Any) -> None:
        """A trial's verdict and what it found."""
        print("trial:", result["verdict"])
        for finding in result["findings"]:
            print(f"    {finding['weight']:8} {finding['step'] or '-':16} {finding['kind']}: {finding['text'][:110]}")

    def note(self, words: str, python: Path | None = None, lane: Path | None = None) -> str | None:
        """What a visitor leaves on live (or on another site); the last line of what goes wrong, None when nothing
        does."""
        code = f"from seed_notes.models import Note; Note.objects.create(plant='Red Lantern', words={words!r})"
        program = [str(python or self.work / "venv/bin/python"), "manage.py", "shell", "-c", code]
        ran = subprocess.run(program, cwd=lane or self.work / "lane", capture_output=True, text=True, check=False)
        return ran.stderr.strip().splitlines()[-1] if ran.returncode else None

    def notes(self) -> str:
        """The words of all notes on live."""
        code = "from seed_notes.models import Note; print(*Note.objects.values_list('words', flat=True), sep='|')"
        return run(self.work / "venv/bin/python", "manage.py", "shell", "-c", code, folder=self.work / "lane")

    def publishes(self, address: str) -> str | None:
        """What goes wrong when an editor publishes a page; None when nothing does."""
        checks = open_site(self.work / "keenharbor.toml").model.check
        with Visitor(address) as visitor:
            (seen,) = make_checks(visitor, checks).values()
        return seen.problem

    def half_way_back(self, after: str, before: str) -> None:
        """The old code and environment on the new database: what happens when somebody goes back with files alone."""
        place = self.work / "half"
        self.harbor("snapshot", "restore", before, "--to", place / "old")
        self.harbor("snapshot", "restore", after, "--to", place / "new")
        lane = place / "old/files"
        shutil.copy(next((place / "new/database").glob("*")), lane / "db.sqlite3")
        python, port = self.environment("venv-old") / "bin/python", free_port()
        run(python, HERE / "make_site.py", "another", folder=self.work)  # puts the add-ons' first releases into it
        with served(python, lane, port):
            address = f"http://127.0.0.1:{port}"
            with Visitor(address) as visitor:
                paths = ["/", *(f"/plant-{n}/" for n in range(40))]
                failing = [p for p in paths if visitor.get(p).status != 200]
        problem = self.note("left on the old code", python, lane)
        loaded = f"{len(paths) - len(failing)} of {len(paths)} pages load"
        print(f"old code on the new database: {loaded}; saving: {problem}")
        if failing or problem is None:
            sys.exit("it was to load every page, and to fail when somebody saves")

    def own_commands_agree(self) -> None:
        """What the system's own commands and pip say of live after the cutover: nothing is wrong, nothing is
        pending."""
        python, lane = self.work / "venv/bin/python", self.work / "lane"
        for words in (("manage.py", "check"), ("manage.py", "migrate", "--check"), ("-m", "pip", "check")):
            said = run(python, *words, folder=lane).strip().splitlines()
            print(f"    {' '.join(words)}: {said[-1] if said else 'nothing to say'}")

    def go_back(self) -> None:
        """Rollback: code, environment and database together, with what visitors left meanwhile."""
        if (problem := self.publishes(self.address)) is not None:
            sys.exit(f"publishing on the upgraded site: {problem}")
        if (problem := self.note("left after the cutover")) is not None:
            sys.exit(f"leaving a note on the upgraded site: {problem}")
        self.harbor("rollback", "--yes")
        if (version := open_site(self.work / "keenharbor.toml").core_version()) == "8.0.1":
            sys.exit(f"live is at {version} after going back")
        if "left after the cutover" not in self.notes():
            sys.exit("what a visitor left was lost")
        if (problem := self.publishes(self.address)) is not None:
            sys.exit(f"publishing after going back: {problem}")
        print(f"back at {version}: a page was published, and the visitor's note is there")


@contextmanager
def served(python: Path, folder: Path, port: int) -> Iterator[None]:
    """A site on loopback for the time of the block."""
    command = [str(python), "manage.py", "runserver", "--noreload", f"127.0.0.1:{port}"]
    process = subprocess.Popen(command, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        with Visitor(f"http://127.0.0.1:{port}") as visitor:
            for _ in range(300):
                try:
                    visitor.get("/")
                    break
                except Exception:
                    time.sleep(0.1)
        yield
    finally:
        process.kill()
        process.wait()


def main(work: Path, old: Path, new: Path, engine: str = "sqlite") -> None:
    """Play it."""
    work.mkdir(parents=True)
    work = work.resolve()
    with ExitStack() as running:
        url = None
        if engine != "sqlite":
            server = running.enter_context(PrivateServer.make(engine, work / "server"))
            made = "CREATE DATABASE lane CHARACTER SET utf8mb4" if engine == "mariadb" else "CREATE DATABASE lane"
            server.run_sql(made)
            socket = Path(server.place.socket)
            host = socket if engine == "mariadb" else socket.parent
            url = f"{engine}://{server.place.user}@/lane?host={host}"
        play = Play(work, old.resolve(), new.resolve(), engine)
        running.callback(play.host, "stop")
        play.set_up(url)
        play.upgrade()
        play.own_commands_agree()
        play.go_back()


if __name__ == "__main__":
    main(*map(Path, sys.argv[1:4]), *sys.argv[4:])
