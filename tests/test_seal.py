"""What a clone's programs can reach: twenty probes from inside, each of which works when the seal is off."""

from __future__ import annotations

import contextlib
import dataclasses
import marshal
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import threading
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from conftest import harbor
from keenharbor.clone.clone import Clone
from keenharbor.clone.mailbox import Mailbox
from keenharbor.clone.making import make_clone
from keenharbor.database.private_server import PrivateServer, missing_program
from keenharbor.demo.scene import Scene
from keenharbor.host import seal
from keenharbor.host.sealing import SealParts, arranged, parts_here, program_places
from keenharbor.site.load import open_site
from keenharbor.snapshot import find_snapshot
from keenharbor.store import Store

needs_seal = pytest.mark.skipif(
    not parts_here().root or not parts_here().landlock or bool(parts_here().no_network),
    reason="this machine does not allow every part of the seal",
)
NOBODY = 65534

# Each is a few lines of Python that end with an exception unless they reach what they are after.
PROBES = {
    "write into live's media": "open(f'{live}/media/probe.txt', 'w').write('x')",
    "write into the store": "open(f'{store}/probe', 'w').write('x')",
    "write over the site file": "open(site_file, 'a').write('\\n')",
    "write into the home folder": "open(f'{home}/probe', 'w').write('x')",
    "write into the system's temporary folder": "open(f'{tmp}/probe', 'w').write('x'); assert "
        "os.path.exists(f'{tmp}/known')",
    "write into /etc": "open('/etc/keenharbor-probe', 'w').write('x')",
    "write over what is written down of the clone": "open(f'{clone}/clone.json', 'a').write(' ')",
    "read live's settings": "assert open(f'{live}/settings.ini').read()",
    "read what the home folder holds": "assert open(f'{home}/secret').read()",
    "list the work folder": "assert 'store' in os.listdir(work)",
    "change the mode of a file of live": "os.chmod(f'{live}/settings.ini', 0o640)",
    "change the time of a file of live": "os.utime(f'{live}/settings.ini')",
    "connect to live's port": "socket.create_connection(('127.0.0.1', port), 2)",
    "connect to a socket of live's": "s = socket.socket(socket.AF_UNIX); s.connect(path_socket)",
    "connect to an abstract socket": "s = socket.socket(socket.AF_UNIX); s.connect('\\0' + abstract)",
    "reach a mail server": "import smtplib; smtplib.SMTP('127.0.0.1', mail, timeout=2)",
    "send to the outside": "s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); s.sendto(b'x', ('127.0.0.1', udp)); "
    "s.settimeout(2); s.recvfrom(9)",
    "send a signal to a program outside": "os.kill(outside, 0)",
    "look into a program outside": "open(f'/proc/{outside}/environ', 'rb').read(1)",
    "leave by the root of a program outside": "assert os.listdir(f'/proc/{outside}/root/')",
    "mount something": "import ctypes; c = ctypes.CDLL(None, use_errno=True); "
    "assert c.mount(b'tmpfs', mount_place.encode(), b'tmpfs', 0, b'size=4k') == 0; c.umount2(mount_place.encode(), 2)",
}  # fmt: skip
ONLY_ROOT = ("write into /etc", "mount something")


@dataclass
class Inside:
    """A clone with its seal, and what its probes are after."""

    scene: Scene
    clone: Clone
    places: dict[str, object]
    problems: list[str] = field(default_factory=list)

    def run(self, probe: str, *, sealed: bool, seconds: float = 60) -> subprocess.CompletedProcess[str]:
        names = "".join(f"{k} = {v!r}\n" for k, v in self.places.items())
        code = f"import os, socket, sys\n{names}{probe}\n"
        prefix = self.clone.prefix if sealed else ()
        folder = self.clone.site.place if sealed else "/"
        return subprocess.run(
            [*prefix, sys.executable, "-I", "-S", "-c", code], cwd=folder, env=self.clone.variables if sealed else None,
            capture_output=True, text=True, check=False, timeout=seconds,
        )  # fmt: skip


@contextlib.contextmanager
def listening(path_socket: str, abstract: str) -> Iterator[tuple[int, int]]:
    """A mail server's port and one that answers to datagrams; and sockets by a path and by an abstract name."""
    with contextlib.ExitStack() as stack:
        box = stack.enter_context(Mailbox())
        udp = stack.enter_context(socket.socket(socket.AF_INET, socket.SOCK_DGRAM))
        udp.bind(("127.0.0.1", 0))

        def echo() -> None:
            with contextlib.suppress(OSError):
                while True:
                    data, whence = udp.recvfrom(9)
                    udp.sendto(data, whence)

        threading.Thread(target=echo, daemon=True).start()
        for name in (path_socket, "\0" + abstract):
            server = stack.enter_context(socket.socket(socket.AF_UNIX))
            server.bind(name)
            server.listen()
        yield box.port, udp.getsockname()[1]


@pytest.fixture(scope="module")
def inside(shared_scene: Scene, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Inside]:
    scene = shared_scene
    harbor(scene.folder, "snapshot", "take", "--label", "sealed")
    site = open_site(scene.site_file)
    home = tmp_path_factory.mktemp("home")
    (home / "secret").write_text("s")
    with contextlib.ExitStack() as stack:
        tmp = Path(stack.enter_context(tempfile.TemporaryDirectory()))
        (tmp / "known").touch()
        mount_place = tmp / "mount"
        mount_place.mkdir()
        path_socket = str(tmp / "live.sock")
        abstract = f"keenharbor-probe-{os.getpid()}"
        mail, udp = stack.enter_context(listening(path_socket, abstract))
        outside = stack.enter_context(subprocess.Popen(["sleep", "600"]))
        stack.callback(outside.kill)
        live_port = stack.enter_context(socket.socket())
        live_port.bind(("127.0.0.1", 0))
        live_port.listen(50)
        box = stack.enter_context(Mailbox())
        clone = make_clone(site, find_snapshot(Store(site.store_folder), "sealed"), "trial probes", mail_port=box.port)
        stack.callback(clone.drop)
        clone.start()
        places = {
            "live": site.place, "store": str(site.store_folder), "site_file": str(site.site_file), "home": str(home),
            "tmp": str(tmp), "clone": str(clone.folder), "work": str(site.work), "port": live_port.getsockname()[1],
            "path_socket": path_socket, "abstract": abstract, "mail": mail, "udp": udp, "outside": outside.pid,
            "mount_place": str(mount_place),
        }  # fmt: skip
        yield Inside(scene, clone, places)


@needs_seal
@pytest.mark.parametrize("probe", PROBES)
def test_a_probe_reaches_what_it_is_after_only_without_the_seal(inside: Inside, probe: str) -> None:
    try:
        sealed = inside.run(PROBES[probe], sealed=True)
        assert sealed.returncode == 1 and "Error" in sealed.stderr, f"{probe}: {sealed.stdout}{sealed.stderr}"
        if probe in ONLY_ROOT and os.geteuid() != 0:
            return
        without = inside.run(PROBES[probe], sealed=False)
        assert without.returncode == 0, f"{probe} cannot fail: {without.stderr}"
    finally:
        for left in (Path("/etc/keenharbor-probe"), inside.scene.root / "media/probe.txt"):
            with contextlib.suppress(OSError):
                left.unlink()


@needs_seal
def test_within_its_seal_a_program_has_what_it_needs(inside: Inside) -> None:
    code = (
        "open('var/made-inside', 'w').write('x'); import tempfile, subprocess; "
        "tempfile.NamedTemporaryFile().write(b'x')\n"
        "assert subprocess.run(['sh', '-c', 'echo out > /dev/null && ls /usr/bin | head -1'], check=True, "
        "capture_output=True).stdout\n"
        "socket.create_connection(('127.0.0.1', own), 5); assert os.getpid() and os.listdir('.')\n"
    )
    inside.places["own"] = inside.clone.served_port
    ran = inside.run(code, sealed=True)
    assert ran.returncode == 0, ran.stderr
    assert (Path(inside.clone.site.place) / "var/made-inside").read_text() == "x"


@needs_seal
def test_more_programs_than_allowed_are_not_started(inside: Inside) -> None:
    part = inside.clone.live.model.clone
    object.__setattr__(part, "processes", 60)
    inside.clone.stop()
    inside.clone.start()
    code = (
        "import subprocess, time\nmade = []\n"
        "try:\n    for _ in range(300): made.append(subprocess.Popen(['sleep', '20']))\n"
        "except OSError as error: print('refused', len(made), error)\n"
        "else: print('all', len(made))\n"
        "finally: [p.kill() for p in made]\n"
    )
    try:
        said = inside.run(code, sealed=True).stdout.split()
    finally:
        object.__setattr__(part, "processes", 512)
    assert said[0] == "refused" and int(said[1]) <= 60, said
    assert inside.run(code, sealed=False).stdout.split()[:2] == ["all", "300"]


@needs_seal
def test_more_memory_than_allowed_ends_the_programs_where_no_control_group_bounds_it(
    inside: Inside, monkeypatch: pytest.MonkeyPatch
) -> None:
    parts = dataclasses.replace(parts_here(), groups={})
    monkeypatch.setattr("keenharbor.host.sealing.parts_here", lambda: parts)
    part = inside.clone.live.model.clone
    object.__setattr__(part, "memory_mib", 300)
    alone = "held = bytes(400 << 20); print('all', len(held))"
    together = (
        "import subprocess, sys\nmade = [subprocess.Popen([sys.executable, '-c', "
        "'import os, time; held = os.urandom(90 << 20); time.sleep(20)']) for _ in range(6)]\n"
        "[p.wait() for p in made]; print('all')\n"
    )
    try:
        one = inside.run(alone, sealed=True)
        with inside.clone.watched() as watch:
            ran = inside.run(together, sealed=True)
    finally:
        object.__setattr__(part, "memory_mib", 0)
    assert one.returncode == 1 and "MemoryError" in one.stderr
    assert watch.over == "memory" and ran.returncode == -9 and "all" not in ran.stdout
    assert "all" in inside.run(alone, sealed=False).stdout


@needs_seal
def test_more_on_the_disk_than_allowed_ends_the_programs(inside: Inside) -> None:
    part = inside.clone.live.model.clone
    object.__setattr__(part, "disk_mib", 100)
    code = (
        "for n in range(3000):\n    with open(f'media/fill{n}', 'wb') as f: f.write(os.urandom(1 << 20))\n"
        "print('all')\n"
    )
    media = Path(inside.clone.site.place) / "media"
    try:
        with inside.clone.watched() as watch:
            ran = inside.run(code, sealed=True)
        held = sum(f.stat().st_size for f in media.glob("fill*"))
        one = inside.run("open('media/fill-one', 'wb').write(bytes(200 << 20)); print('all')", sealed=True)
    finally:
        object.__setattr__(part, "disk_mib", 0)
        for file in media.glob("fill*"):
            file.unlink()
    assert watch.over == "disk" and ran.returncode == -9 and "all" not in ran.stdout
    assert held < 1000 << 20, f"{held >> 20} MiB"
    assert one.returncode == 1 and "File too large" in one.stderr
    assert "all" in inside.run("open('media/fill-one', 'wb').write(bytes(20 << 20)); print('all')", sealed=True).stdout


@needs_seal
def test_a_program_that_takes_its_mark_out_is_found_all_the_same(inside: Inside) -> None:
    code = (
        "import subprocess; print(subprocess.Popen(['env', '-i', 'sleep', '300'], start_new_session=True, stdout=-3, "
        "stderr=-3).pid)"
    )
    pid = int(inside.run(code, sealed=True).stdout)
    assert Path(f"/proc/{pid}").exists()
    inside.clone.end_programs()
    assert not Path(f"/proc/{pid}/exe").exists()
    inside.clone.start()


@needs_seal
@pytest.mark.skipif(os.geteuid() != 0, reason="only root can become somebody else")
def test_an_ordinary_user_is_sealed_in_as_well(inside: Inside, tmp_path_factory: pytest.TempPathFactory) -> None:
    """The same seal, set up by a user without any rights; the interpreter is the system's, since that user may read
    it."""
    python = shutil.which("python3", path="/usr/bin")
    if python is None:
        pytest.skip("the system has no Python of its own that another user may start")
    with contextlib.ExitStack() as stack:
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
        own = (
            "",
            "site",
            "tmp",
            "root",
            "live",
            "live/media",
            "work",
            "work/store",
            "home",
            "clone",
            "known",
            "mount",
            "mine",
        )
        for part in own:
            (folder / part).mkdir(exist_ok=True)
            os.chown(folder / part, NOBODY, NOBODY)
        held = ("live/settings.ini", "home/secret", "clone/clone.json", "known/known", "mine/keenharbor.toml")
        for part in held:
            (folder / part).write_text("held\n")
            os.chown(folder / part, NOBODY, NOBODY)
        outside = stack.enter_context(subprocess.Popen(["sleep", "600"], user=NOBODY, group=NOBODY, extra_groups=[]))
        stack.callback(outside.kill)
        by_path = stack.enter_context(socket.socket(socket.AF_UNIX))
        by_path.bind(str(folder / "known/live.sock"))
        by_path.listen()
        (folder / "known/live.sock").chmod(0o666)
        places_there = inside.places | {
            "live": f"{folder}/live", "store": f"{folder}/work/store", "site_file": f"{folder}/mine/keenharbor.toml",
            "home": f"{folder}/home", "tmp": f"{folder}/known", "clone": f"{folder}/clone", "work": f"{folder}/work",
            "mount_place": f"{folder}/mount", "outside": outside.pid, "path_socket": f"{folder}/known/live.sock",
        }  # fmt: skip
        shutil.copy(seal.__file__, folder / "seal.py")
        visible, hidden = arranged([str(folder / "seal.py"), *program_places(python)], [str(folder / "site")], [])
        spec = {
            "parts": {"root": True, "landlock": True}, "readable": visible, "writable": [str(folder / "site")],
            "hidden": hidden,
            "temporary": str(folder / "tmp"), "new_root": str(folder / "root"), "holder": None, "network": "none",
            "ports": None,
            "limits": {"processes": 40, "file_bytes": 10 << 20}, "control_groups": [], "user": None,
        }  # fmt: skip
        (folder / "seal.spec").write_bytes(marshal.dumps(spec))

        def run(code: str, *, sealed: bool) -> subprocess.CompletedProcess[str]:
            prefix = [python, "-I", "-S", str(folder / "seal.py"), str(folder / "seal.spec"), "--"] if sealed else []
            places = "".join(f"{k} = {v!r}\n" for k, v in places_there.items())
            return subprocess.run(
                [*prefix, python, "-I", "-S", "-c", f"import os, socket, sys\n{places}{code}"],
                cwd=folder / "site", user=NOBODY, group=NOBODY, extra_groups=[], capture_output=True, text=True,
                check=False,
            )  # fmt: skip

        assert run("open('own', 'w').write('x')", sealed=True).returncode == 0
        for name, probe in PROBES.items():
            refused = run(probe, sealed=True)
            assert refused.returncode == 1 and "Error" in refused.stderr, f"{name}: {refused.stdout}{refused.stderr}"
            assert name in ONLY_ROOT or run(probe, sealed=False).returncode == 0, f"{name} cannot fail"
        many = (
            "import subprocess\nmade = []\ntry:\n    for _ in range(300): made.append(subprocess.Popen(['sleep', "
            "'9']))\n"
        )
        many += "except OSError: print('refused', len(made))\nfinally: [p.kill() for p in made]"
        said = run(many, sealed=True).stdout.split()
        assert said[0] == "refused" and int(said[1]) < 40
        assert "File too large" in run("open('big', 'wb').write(bytes(20 << 20))", sealed=True).stderr


@needs_seal
@pytest.mark.parametrize("engine", ["mariadb", "postgres"])
def test_the_server_of_a_clone_reaches_nothing_by_sql(engine: str, tmp_path: Path) -> None:
    """What a clone's SQL asks its server for, the server cannot get."""
    if missing := missing_program(engine):
        if os.environ.get("CI"):
            pytest.fail(missing)
        pytest.skip(missing)
    with tempfile.TemporaryDirectory() as name:
        place = Path(name)
        place.chmod(0o777)
        (place / "secret").write_text("word")
        (place / "secret").chmod(0o644)
        results = {}
        for sealed in (None, [str(place)]):
            with PrivateServer.make(engine, tmp_path / f"s{sealed is not None}", sealed_from=sealed) as server:
                out = place / f"out{sealed is not None}"
                statement = (
                    f"SELECT 1 INTO OUTFILE '{out}'"
                    if engine == "mariadb"
                    else f"COPY (SELECT 1) TO PROGRAM 'touch {out}'"
                )
                with contextlib.suppress(Exception):
                    server.run_sql(statement)
                results[sealed is not None] = out.exists()
        assert results == {False: True, True: False}


def test_what_is_open_is_said() -> None:
    assert SealParts(True, 7, {"pids": "/x"}).what_is_open() == []
    told = " ".join(SealParts(False, 0, {}, "no").what_is_open())
    assert "files outside the clone" in told and "signals" in told and "the number of its processes" in told
    assert "sockets of other programs" in " ".join(SealParts(False, 7, {"pids": "/x"}).what_is_open())


def test_what_lies_in_a_readable_place_can_be_hidden_and_what_lies_in_a_hidden_one_named(tmp_path: Path) -> None:
    for name in ("tools/bin", "tools/live/uploads", "store"):
        (tmp_path / name).mkdir(parents=True)
    (tmp_path / "tools/bin/run").write_text("#!/bin/sh\nexec true\n")
    visible, hidden = arranged(
        [*program_places(str(tmp_path / "tools/bin/run")), str(tmp_path / "store/needed")], [],
        [str(tmp_path / "tools/live"), str(tmp_path / "store")],
    )  # fmt: skip
    assert str(tmp_path / "tools") in visible and str(tmp_path / "tools/live") in hidden
    assert (str(tmp_path / "store/needed") in visible and "/bin/sh" in visible) or "/bin" in visible
    left = seal._without([str(tmp_path / "tools")], list(hidden))
    assert sorted(Path(p).name for p in left) == ["bin"]
