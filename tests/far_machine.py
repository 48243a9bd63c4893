"""A far machine for the tests: a private OpenSSH server on loopback, with another user where that can be, and the example
site in a folder of that user's."""

from __future__ import annotations

import contextlib
import hashlib
import os
import pwd
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import psutil

from conftest import FEW_PAGES, Ran, harbor
from keenharbor.clone.server import free_port
from keenharbor.database.private_server import PrivateServer
from keenharbor.demo.scene import Scene, set_scene
from keenharbor.host.ports import port_is_taken
from place_servers import SSHD, need_program, started

SHELLS = ("/bin/bash", "/bin/sh", "/usr/bin/bash")
PYTHON = shutil.which("python3", path="/usr/bin:/bin") or sys.executable
"""The one that any user may run."""


def far_user() -> str:
    """Somebody else than who runs the tests, who has a shell and can run Python; oneself where there is nobody."""
    own = pwd.getpwuid(os.getuid()).pw_name
    if os.getuid() != 0:
        return own
    for entry in pwd.getpwall():
        if entry.pw_uid and entry.pw_shell in SHELLS and Path(entry.pw_dir).is_dir():
            ran = subprocess.run(
                [PYTHON, "-c", "import os; assert os.access(os.path.expanduser('~'), os.W_OK)"],
                user=entry.pw_name, group=entry.pw_gid, extra_groups=[], cwd="/", check=False, capture_output=True,
                env={"HOME": entry.pw_dir, "PATH": os.environ["PATH"]},
            )  # fmt: skip
            if ran.returncode == 0:
                return entry.pw_name
    return own


def open_to_others(folder: Path) -> None:
    """Let any user get at what is in a folder of the tests."""
    for above in (folder, *folder.parents):
        if above.stat().st_uid == os.getuid() and above != Path("/") and above.stat().st_mode & 0o005 != 0o005:
            above.chmod(above.stat().st_mode | 0o005)


def as_user(name: str) -> dict[str, Any]:
    """What lets a program be started as a user; nothing where that cannot be."""
    if os.getuid() != 0:
        return {}
    return {"user": name, "group": pwd.getpwnam(name).pw_gid, "extra_groups": []}


def give_to(name: str, folder: Path) -> None:
    """Let a folder be a user's, with all that is in it."""
    if os.getuid() == 0:
        who = pwd.getpwnam(name)
        for place in (folder, *folder.rglob("*")):
            os.chown(place, who.pw_uid, who.pw_gid, follow_symlinks=False)


@contextlib.contextmanager
def hosted(scene: Scene, user: str, root: Path, port: int, control: Path) -> Iterator[None]:
    """The example's web host for the site at ``root``, as a user."""
    process = subprocess.Popen(
        [PYTHON, "-I", "-S", "-B", str(scene.host_program), "serve", "--root", str(root), "--runtimes",
         str(scene.runtimes), "--port", str(port), "--control", str(control)],
        stdin=subprocess.DEVNULL, env={"PATH": os.environ["PATH"]}, **as_user(user),
    )  # fmt: skip
    try:
        for _ in range(500):
            if port_is_taken(port):
                break
            time.sleep(0.02)
        yield
    finally:
        process.terminate()
        process.wait(10)


@dataclass
class FarMachine:
    """An SSH server: where it listens, for whom, and by which key."""

    folder: Path
    port: int
    user: str
    process: subprocess.Popen[bytes] | None = None

    def url(self, folder: Path | str, port: int | None = None) -> str:
        return f"ssh://{self.user}@127.0.0.1:{port or self.port}{folder}"

    @property
    def line(self) -> str:
        """The table of a site file that says how it is reached."""
        return f'\n[line]\nkey_file = "{self.folder}/own"\nknown_hosts = "{self.folder}/known"\n'

    @property
    def home(self) -> Path:
        return Path(pwd.getpwnam(self.user).pw_dir)

    def state_left(self, top: Path) -> list[str]:
        """What the tool has left in the user's folder of the site at ``top``."""
        state = self.home / ".keenharbor" / hashlib.sha256(str(top).encode()).hexdigest()[:16]
        return sorted(str(p.relative_to(self.home)) for p in (state, *state.rglob("*"))) if state.exists() else []

    def helpers(self) -> list[int]:
        """The helpers that this server has started and that run now."""
        found = []
        for server in psutil.process_iter(["cmdline"]):
            if any(str(self.folder / "sshd_config") in word for word in server.info["cmdline"] or ()):  # its title
                for process in server.children(recursive=True):
                    with contextlib.suppress(psutil.Error):
                        if any("zlib.decompress(r.read(int(r.readline()" in word for word in process.cmdline()[1:]):
                            found.append(process.pid)
        return found


@contextlib.contextmanager
def far_machine(folder: Path, *more: str) -> Iterator[FarMachine]:
    """The server, with ``more`` lines of configuration: for another user where the system lets one in, else for who
    runs the tests."""
    need_program("sshd", "ssh", "ssh-keygen")
    folder.mkdir(parents=True)
    for name in ("host", "own"):
        subprocess.run(
            ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / name)], check=True, capture_output=True
        )
    shutil.copy(folder / "own.pub", folder / "authorized")
    (folder / "authorized").chmod(0o644)
    open_to_others(folder)  # the server reads it as that user
    if os.getuid() == 0:
        Path("/run/sshd").mkdir(exist_ok=True)
    own = pwd.getpwuid(os.getuid()).pw_name
    for user in dict.fromkeys((far_user(), own)):
        with _server(FarMachine(folder, free_port(), user), own, more) as made:
            if user == own or _lets_in(made):
                yield made
                return


@contextlib.contextmanager
def _server(made: FarMachine, own: str, more: tuple[str, ...]) -> Iterator[FarMachine]:
    folder = made.folder
    lines = [
        f"Port {made.port}", "ListenAddress 127.0.0.1", f"HostKey {folder}/host",
        f"AuthorizedKeysFile {folder}/authorized", "StrictModes no",
        # An account without a password counts as locked otherwise.
        f"UsePAM {'no' if made.user == own else 'yes'}", "PasswordAuthentication no",
        "PidFile none", "Subsystem sftp internal-sftp", "PermitRootLogin yes", "MaxSessions 50", "MaxStartups 100", *more,
    ]  # fmt: skip
    (folder / "sshd_config").write_text("\n".join(lines) + "\n")
    kind, key = (folder / "host.pub").read_text().split()[:2]
    (folder / "known").write_text(f"[127.0.0.1]:{made.port} {kind} {key}\n127.0.0.1 {kind} {key}\n")
    with started([SSHD, "-D", "-e", "-f", str(folder / "sshd_config")], made.port, folder / "sshd.log"):
        yield made


def _lets_in(made: FarMachine) -> bool:
    """Whether that user's shell answers: an account may be closed, or a session not be possible here."""
    words = ["ssh", "-F", "/dev/null", "-p", str(made.port), "-i", str(made.folder / "own"), "-o", "BatchMode=yes", "-o",
             f"UserKnownHostsFile={made.folder}/known", f"{made.user}@127.0.0.1", "echo in"]  # fmt: skip
    return subprocess.run(words, capture_output=True, text=True, check=False, timeout=60).stdout == "in\n"


@dataclass
class FarSite:
    """The example site on a far machine, and the folder here from which it is looked after."""

    machine: FarMachine
    scene: Scene
    folder: Path

    @property
    def site_file(self) -> Path:
        return self.folder / "keenharbor.toml"

    def harbor(self, *words: str | Path, code: int | None = 0, **env: str) -> Ran:
        return harbor(self.folder, *words, code=code, **env)

    @contextlib.contextmanager
    def served(self) -> Iterator[None]:
        """Its web host, as that user."""
        scene = self.scene
        with hosted(scene, self.machine.user, scene.root, scene.port, scene.control):
            yield

    def give_to_user(self) -> None:
        """Let all of it be the far user's."""
        give_to(self.machine.user, self.scene.folder)


@contextlib.contextmanager
def far_site(
    machine: FarMachine, folder: Path, engine: str = "sqlite", checks: str = FEW_PAGES
) -> Iterator[FarSite]:  # fmt: skip
    """The example site on the machine, described from here; its database server goes at the end."""
    scene = set_scene(folder / "there", engine=engine)
    made = FarSite(machine, scene, folder / "here")
    made.folder.mkdir()
    open_to_others(scene.folder)
    for name in ("feed", "tansy.toml"):
        shutil.move(scene.folder / name, made.folder / name)
    words: list[str] = []
    for version in ("2", "3"):
        words += ["--launcher", f"{version}={scene.runtimes}/loam-{version}/bin/loam"]
    for launcher in scene.runtimes.glob("*/bin/*"):
        launcher.write_text(launcher.read_text().replace(sys.executable, PYTHON))
    reload = f"{PYTHON} {scene.host_program} reload --control {scene.control}"
    harbor(made.folder, "init", scene.root, "--platform", "tansy.toml", "--name", "marrow-lane", "--feed",
           "feed/feed.json", *words, "--reload", reload)  # fmt: skip
    text = made.site_file.read_text()
    root = next(line for line in text.splitlines() if line.startswith("root = "))
    made.site_file.write_text(text.replace(root, f'root = "{machine.url(scene.root)}"') + machine.line + checks)
    made.give_to_user()
    if scene.server_file.exists():  # the user of the site reaches its database's socket
        Path(PrivateServer.read(scene.server_file).place.socket).parent.chmod(0o755)
    try:
        yield made
    finally:
        if scene.server_file.exists():
            PrivateServer.read(scene.server_file).remove()
