"""A clone reaches nothing but itself: its network, its mail, its gate; and what a visitor changed in it is listed."""

from __future__ import annotations

import contextlib
import json
import os
import random
import re
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

import psutil
import pytest

from conftest import PROGRAM, Pages, describe, environment, harbor, killed, query, serve_pages
from keenharbor.base.durable import read_summed, write_summed
from keenharbor.clone.facts import list_clones
from keenharbor.clone.gate import USER, Gate
from keenharbor.clone.mailbox import Mailbox, kept_in, message_of
from keenharbor.clone.marks import VARIABLE, end_marked, mark_of
from keenharbor.clone.quarantine import Quarantine, not_permitted
from keenharbor.clone.server import free_port
from keenharbor.compare import VisitError, Visitor
from keenharbor.demo.scene import Scene, remove_scene, set_scene
from keenharbor.site.load import open_site
from keenharbor.trial.control import CONTROL_PURPOSE
from test_engines import need

needs_network = pytest.mark.skipif(bool(not_permitted()), reason=not_permitted() or "it is permitted")
HEAD = 'format = 1\n[plan]\nsite = "marrow-lane"\ncore = "3.4"\nruntime = "2"\n'


def plan(scene: Scene, *steps: tuple[str, str]) -> None:
    texts = [
        f'[[step]]\nname = "{n}"\nkind = "command"\ncommand = ["{sys.executable}", "-c", {json.dumps(c)}]\n'
        for n, c in steps
    ]
    (scene.folder / "upgrade.toml").write_text(HEAD + "".join(texts))


def connect(port: int) -> str:
    return (
        f"import socket; socket.create_connection(('127.0.0.1', {port}), 2).sendall(b'GET /spy HTTP/1.0\\r\\n\\r\\n')"
    )


@needs_network
def test_nothing_of_a_trial_reaches_live_or_anybody_else(served: Scene, pages: Pages) -> None:
    """Live, a web server and a mail server outside note all that is asked of them while a trial's steps try."""
    harbor(served.folder, "snapshot", "take")
    spy = int(pages.address.rpartition(":")[2])
    asked_of_live = served.root / "var/log/access.log"
    mail = "import smtplib; smtplib.SMTP('127.0.0.1', {}).sendmail('a@b.example', ['c@d.example'], 'Subject: out')"
    with Mailbox() as outside:
        plan(
            served, ("spy", connect(spy)), ("live", connect(served.port)), ("mail", mail.format(outside.port)),
            ("by-name", "import socket; socket.create_connection(('192.0.2.7', 80), 2)"),
            ("sendmail", "import subprocess; subprocess.run(['sendmail', '-t'], input=b'To: x@y.example\\nSubject: "
                "kept\\n\\nHello', check=True)"),
        )  # fmt: skip
        told = harbor(served.folder, "trial", "run", "--go-on", "--json", code=1).json
        assert outside.messages == [] and pages.asked == []
    problems = {s["name"]: s["problem"] for s in told["steps"]}
    assert all(problems[n] for n in ("spy", "live", "mail", "by-name")) and problems["sendmail"] is None
    assert {"to": "x@y.example", "subject": "kept"} in told["isolation"]["mails"]
    assert {"to": "trial@post.example", "subject": told["isolation"]["mails"][0]["subject"]} in told["isolation"][
        "mails"
    ]
    assert told["isolation"]["not_blocked"] == "" and told["isolation"]["untouched"] is True
    assert not asked_of_live.exists() or "/spy" not in asked_of_live.read_text()
    assert "a network of their own" in harbor(served.folder, "trial", "show").out


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can take a right away from itself")
def test_where_it_is_not_permitted_it_says_so(served: Scene) -> None:
    harbor(served.folder, "snapshot", "take")
    plan(served, ("nothing", "pass"))
    without = ["setpriv", "--bounding-set=-sys_admin", "--inh-caps=-sys_admin"]
    ran = subprocess.run([*without, *PROGRAM, "trial", "run", "--json"], cwd=served.folder, env=environment(),
        capture_output=True,
                         text=True, check=False)  # fmt: skip
    told = json.loads(ran.stdout)
    assert "the system does not allow it" in told["isolation"]["not_blocked"]
    assert any("the system allows no mounts" in part for part in told["isolation"]["open_parts"])
    shown = " ".join(harbor(served.folder, "trial", "show").out.split())
    assert "could have reached the outside" in shown and "the system allows no mounts" in shown


@needs_network
def test_a_network_of_its_own_passes_on_the_server_and_the_mail_box() -> None:
    port = free_port()
    with Mailbox() as box:
        held = Quarantine(port, box.port)
        try:
            code = (
                "import http.server, threading, sys, smtplib\n"
                f"server = http.server.ThreadingHTTPServer(('127.0.0.1', {port}), "
                f"http.server.SimpleHTTPRequestHandler)\n"
                "threading.Thread(target=server.serve_forever, daemon=True).start()\n"
                f"smtplib.SMTP('127.0.0.1', {box.port}).sendmail('a@b.example', ['in@side.example'], 'Subject: s')\n"
                "print('up', flush=True); sys.stdin.read()\n"
            )
            enter = [
                "nsenter",
                f"--target={held.holder}",
                *([] if os.geteuid() == 0 else ["--user", "--preserve-credentials"]),
            ]
            inside = subprocess.Popen([*enter, "--net", "--", sys.executable, "-c", code], stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                                      stderr=subprocess.DEVNULL)  # fmt: skip
            assert inside.stdout is not None and inside.stdout.readline() == b"up\n"
            with Visitor(f"http://127.0.0.1:{port}") as visitor:
                assert [visitor.get("/").status for _ in range(20)] == [200] * 20
            assert [m.to for m in box.messages] == [("in@side.example",)]
            inside.communicate(b"")
            with Visitor(f"http://127.0.0.1:{port}") as visitor, pytest.raises(VisitError):
                visitor.get("/")
        finally:
            held.end()
    assert not Path(held.facts.folder).exists()
    with pytest.raises(OSError):
        socket.create_connection(("127.0.0.1", port), 1)


def test_what_would_disturb_a_copy_is_off_in_it(scene: Scene) -> None:
    with scene.site_file.open("a") as file:
        file.write('\n[clone]\nswitch_off = ["loan-mail", "not-here"]\n')
    harbor(scene.folder, "snapshot", "take")
    made = harbor(scene.folder, "clone", "make", "--json").json
    assert made["switched_off"] == ["loan-mail"]
    site = open_site(scene.site_file)
    assert {c.name: c.on for c in site.components()}["loan-mail"] is True
    assert query(Path(made["database"]), "SELECT enabled FROM extensions WHERE name = 'loan-mail'") == [(0,)]


def test_the_gate_wants_a_password_and_says_not_to_index() -> None:
    with serve_pages() as pages:
        pages.content["/"] = (200, {"X-Robots-Tag": "all", "Set-Cookie": "own=1"}, "<p>inside</p>")
        pages.content["/form"] = lambda method, path, headers, body: f"{method} {body}"
        target = int(pages.address.rpartition(":")[2])
        port = free_port()
        with Gate(port, target, password="say-it") as gate:
            address = f"http://127.0.0.1:{port}"
            with Visitor(address) as stranger:
                assert stranger.get("/").status == 401 and "inside" not in stranger.get("/").text
                assert stranger.get("/robots.txt").text == "User-agent: *\nDisallow: /\n"
            wrong = {"Authorization": "Basic " + _basic("not-it")}
            with Visitor(address, wrong) as stranger:
                assert stranger.get("/").status == 401
            with Visitor(address, {"Authorization": "Basic " + _basic("say-it")}) as guest:
                answer = guest.get("/")
                assert (answer.status, answer.text) == (200, "<p>inside</p>")
                assert answer.headers.get_all("X-Robots-Tag") == ["noindex, nofollow"]
                assert guest.post("/form", {"a": "b" * 200_000}).text == "POST a=" + "b" * 200_000
            assert gate.refused >= 3 and gate.let_in == 2
            assert all("authorization" not in str(a).lower() for a in pages.asked)
        with (
            Gate(port, target, until=time.time() - 1, password="say-it"),
            Visitor(address, {"Authorization": "Basic " + _basic("say-it")}) as late,
        ):
            assert late.get("/").status == 410


def _basic(password: str) -> str:
    import base64

    return base64.b64encode(f"{USER}:{password}".encode()).decode()


def test_a_visit_lists_what_was_changed_and_makes_it_a_step(scene: Scene) -> None:
    harbor(scene.folder, "snapshot", "take")
    made = harbor(scene.folder, "clone", "make", "--json").json
    process = subprocess.Popen([*PROGRAM, "clone", "open", made["id"], "--seconds", "6", "--steps", "mine.toml"],
        cwd=scene.folder,
                               stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
                               env=environment())  # fmt: skip
    assert process.stdout is not None
    said = ""
    while "password" not in said:
        line = process.stdout.readline()
        assert line, said
        said += line
    address, password = re.search(r"http://[\d.:]+", said), re.search(r"password (\S+)", said)
    assert address is not None and password is not None
    with Visitor(address[0]) as stranger:
        assert stranger.get("/about").status == 401
    with Visitor(address[0], {"Authorization": "Basic " + _basic(password[1])}) as guest:
        assert guest.get("/about").status == 200
    query(Path(made["database"]), "UPDATE pages SET title = 'By \"hand\"' WHERE slug = 'about'")
    (Path(made["root"]) / "core/new.txt").write_text("x")
    _, err = process.communicate(timeout=60)
    assert "table pages: 1 row changed" in err and "file core/new.txt added" in err
    (scene.folder / "upgrade.toml").write_text(HEAD + (scene.folder / "mine.toml").read_text())
    told = harbor(scene.folder, "trial", "run", "--json", code=1).json
    assert told["steps"][0]["problem"] is None
    assert any(f["kind"] == "title-changed" and 'By "hand"' in f["after"] for f in told["findings"])


@needs_network
def test_a_killed_trial_leaves_a_clone_that_can_be_closed_with_all_its_processes(scene: Scene) -> None:
    harbor(scene.folder, "snapshot", "take")
    plan(scene, ("wait", "import time; time.sleep(60)"))
    process = subprocess.Popen([*PROGRAM, "trial", "run"], cwd=scene.folder, env=environment(),
        stdout=subprocess.DEVNULL,
                               stderr=subprocess.DEVNULL)  # fmt: skip
    site = open_site(scene.site_file)
    before = site.fingerprint().digest
    for _ in range(300):
        found = [c for c in list_clones(site.work) if c.purpose != CONTROL_PURPOSE]
        if found and found[0].pid and found[0].network:
            break
        time.sleep(0.1)
    (facts,) = [c for c in list_clones(site.work) if c.purpose != CONTROL_PURPOSE]
    process.send_signal(signal.SIGKILL)
    process.wait()
    assert facts.network is not None
    assert facts.id in [c["id"] for c in harbor(scene.folder, "clone", "list", "--json").json]
    harbor(scene.folder, "clone", "close", "--all")
    time.sleep(0.3)
    alive = [
        p
        for p in (facts.pid, *facts.network["pids"])
        if p and psutil.pid_exists(p) and psutil.Process(p).status() != "zombie"
    ]
    assert alive == [] and not Path(facts.network["folder"]).exists()
    assert not (site.work / "clones" / facts.id).exists() and site.fingerprint().digest == before


def test_mail_is_read_whatever_it_holds(tmp_path: Path) -> None:
    assert message_of(b"To: A <a@x.example>, b@x.example\nSubject: =?utf-8?q?Gr=C3=BC=C3=9Fe?=\n\nHi").to == (
        "a@x.example",
        "b@x.example",
    )
    assert message_of(b"nothing at all", ["e@x.example"]).to == ("e@x.example",)
    (tmp_path / "1.eml").write_bytes(b"To: a@x.example\nSubject: s\n\nbody")
    (tmp_path / ".half").write_bytes(b"To:")
    assert [m.subject for m in kept_in(tmp_path)] == ["s"]


def left_running(folder: Path) -> list[str]:
    """Programs that work in ``folder`` or were told of it."""
    found = []
    for process in psutil.process_iter():
        with contextlib.suppress(psutil.Error):
            told = [*process.cmdline(), process.cwd(), process.environ().get(VARIABLE, "")]
            if process.status() != psutil.STATUS_ZOMBIE and any(str(folder) in t for t in told):
                found.append(" ".join(told))
    return found


def test_a_clone_that_was_never_finished_says_so(scene: Scene) -> None:
    harbor(scene.folder, "snapshot", "take")
    made = harbor(scene.folder, "clone", "make", "--json").json
    file = scene.folder / "harbor/clones" / made["id"] / "clone.json"
    assert json.loads(file.read_text())["whole"] is True
    write_summed(file, read_summed(file.read_bytes()) | {"whole": False, "database": "none:"})
    assert "unfinished" in harbor(scene.folder, "clone", "list").out
    refused = harbor(scene.folder, "clone", "open", made["id"], code=2).err
    assert "was never finished" in refused and f"keenharbor clone close {made['id']}" in refused
    harbor(scene.folder, "clone", "close", made["id"])
    assert not file.exists()


def test_what_a_step_leaves_running_ends_with_the_clone(tmp_path: Path) -> None:
    scene = set_scene(tmp_path / "scene")
    describe(scene, '\n[look]\nstarts = ["/about"]\nlimit = 1\n')
    command = '["sh", "-c", "nohup sleep 300 >/dev/null 2>&1 &"]'
    (scene.folder / "upgrade.toml").write_text(f'{HEAD}[[step]]\nname = "one"\nkind = "command"\ncommand = {command}\n')
    harbor(scene.folder, "trial", "run", "--keep")
    assert [r for r in left_running(scene.folder / "harbor") if "sleep 300" in r]
    harbor(scene.folder, "clone", "close", "--all")
    harbor(scene.folder, "trial", "run")
    assert left_running(scene.folder / "harbor") == []


MORE_KILLS = int(os.environ.get("HARBOR_MORE_KILLS", "0"))


@pytest.mark.parametrize(("engine", "kills"), [("sqlite", 4), ("mariadb", 1), ("postgres", 1)])
def test_a_trial_that_is_killed_at_any_moment_leaves_nothing_that_cannot_be_removed(
    tmp_path: Path, request: pytest.FixtureRequest, engine: str, kills: int
) -> None:
    if engine != "sqlite":
        need(engine)
    kills += MORE_KILLS
    scene = set_scene(tmp_path / "scene", engine=engine)
    request.addfinalizer(lambda: remove_scene(scene.folder))
    describe(scene, '\n[look]\nstarts = ["/about"]\nlimit = 2\n')
    harbor(scene.folder, "snapshot", "take")
    (scene.folder / "upgrade.toml").write_text(
        HEAD
        + '[[step]]\nname = "one"\nkind = "command"\ncommand = ["sh", "-c", "echo 1 >> core/count.txt"]\nexpects = '
        '["core/*"]\n'
        '[[step]]\nname = "two"\nkind = "command"\ncommand = ["sh", "-c", "echo 2 >> core/count.txt"]\nexpects = '
        '["core/*"]\n'
    )
    site = open_site(scene.site_file)
    before = site.fingerprint().digest
    began = time.monotonic()
    harbor(scene.folder, "trial", "run")
    length = time.monotonic() - began
    chance, taken_effect = random.Random(11), 0
    for number in range(kills):
        moment, began = chance.uniform(0, length), time.monotonic()
        if killed(scene.folder, "trial", "run", after=moment) == -signal.SIGKILL:
            taken_effect += 1
        else:  # it had ended: the first one met a slow moment of the machine
            length = min(length, time.monotonic() - began)
        told = f"kill {number} at {moment:.2f} of {length:.2f} s"
        assert site.fingerprint().digest == before, told
        left = harbor(scene.folder, "clone", "list", "--json").json
        assert len(left) <= 2, told  # its own, and the control
        outside = [
            Path(f)
            for c in list_clones(site.work)
            for f in ((c.server or {}).get("data"), (c.network or {}).get("folder"))
            if f
        ]
        harbor(scene.folder, "clone", "close", "--all")
        assert not [f for f in outside if f.exists()], told
        assert harbor(scene.folder, "clone", "list", "--json").json == [], told
        assert list((scene.folder / "harbor/clones").iterdir()) == [], told
        end = time.monotonic() + 5
        while (running := left_running(scene.folder / "harbor")) and time.monotonic() < end:
            time.sleep(0.05)
        assert not running, f"{told}: {running}"
    assert taken_effect >= kills / 2
    assert harbor(scene.folder, "snapshot", "verify", "--json").json["good"]
    harbor(scene.folder, "trial", "run")


@pytest.mark.parametrize("at_once", [True, False])
def test_a_program_that_is_ended_is_not_said_to_have_ended_well(at_once: bool, tmp_path: Path) -> None:
    """Its end belongs to whoever started it, here and in a step: taken by somebody else, it would count as code 0."""
    started = subprocess.Popen(["sleep", "60"], env={**os.environ, **mark_of(tmp_path)})
    end_marked(tmp_path, at_once=at_once)
    assert started.wait(10) == (-signal.SIGKILL if at_once else -signal.SIGTERM)
