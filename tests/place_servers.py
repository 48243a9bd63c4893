"""Private servers of places, on loopback, in temporary folders; and a line that is cut."""

from __future__ import annotations

import contextlib
import os
import random
import shutil
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from keenharbor.clone.server import free_port
from keenharbor.place.carriers import Whither

SSHD = shutil.which("sshd") or "/usr/sbin/sshd"


def need_program(*names: str) -> None:
    """Skip where a program is missing; never in CI."""
    for name in names:
        if shutil.which(name, path=f"{os.environ.get('PATH', '')}:/usr/sbin") is None:
            if os.environ.get("CI"):
                pytest.fail(f"the program {name} is missing")
            pytest.skip(f"the program {name} is missing")


def await_port(port: int, running: subprocess.Popen[bytes], seconds: float = 60) -> None:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        assert running.poll() is None, f"the server ended with {running.returncode}"
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
            return
        time.sleep(0.05)
    raise AssertionError("the server does not answer")


@contextlib.contextmanager
def started(words: list[str], port: int, log: Path) -> Iterator[None]:
    with log.open("wb") as out:
        running = subprocess.Popen(words, stdout=out, stderr=out, stdin=subprocess.DEVNULL)
    try:
        await_port(port, running)
        yield
    finally:
        running.terminate()
        running.wait(20)


@dataclass(frozen=True)
class Server:
    """A place behind a protocol: how the site file names it, and the folder in which its objects lie, if any."""

    url: str
    options: dict[str, str]
    port: int
    folder: Path | None

    def whither(self, base: Path) -> Whither:
        given = dict(self.options)
        word = given.pop("password", "")
        return Whither(
            self.url, given.get("user"), (base / word.removeprefix("file:")).read_text() if word else None,
            Path(given["key_file"]) if "key_file" in given else None,
            Path(given["known_hosts"]) if "known_hosts" in given else None, given.get("endpoint"),
        )  # fmt: skip

    @property
    def words(self) -> list[str]:
        """The options of ``place add``."""
        return [w for k, v in self.options.items() for w in (f"--{k.replace('_', '-')}", v)]


@contextlib.contextmanager
def sftp_server(folder: Path) -> Iterator[Server]:
    """OpenSSH, for whoever runs the tests, with a key of their own."""
    port, place = free_port(), folder / "objects"
    place.mkdir(parents=True)
    for name in ("host", "own"):
        subprocess.run(
            ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / name)], check=True, capture_output=True
        )
    (folder / "authorized").write_text((folder / "own.pub").read_text())
    (folder / "authorized").chmod(0o600)
    config = folder / "sshd_config"
    config.write_text(
        f"Port {port}\nListenAddress 127.0.0.1\nHostKey {folder}/host\nAuthorizedKeysFile {folder}/authorized\n"
        f"StrictModes no\nUsePAM no\nPasswordAuthentication no\nPidFile none\nSubsystem sftp internal-sftp\n"
        "PermitRootLogin yes\nMaxSessions 50\n"
    )
    if os.getuid() == 0:
        Path("/run/sshd").mkdir(exist_ok=True)
    kind, key = (folder / "host.pub").read_text().split()[:2]
    (folder / "known").write_text(f"[127.0.0.1]:{port} {kind} {key}\n127.0.0.1 {kind} {key}\n")
    with started([SSHD, "-D", "-e", "-f", str(config)], port, folder / "sshd.log"):
        options = {"key_file": str(folder / "own"), "known_hosts": str(folder / "known")}
        yield Server(f"sftp://{_user()}@127.0.0.1:{port}{place}/shelf", options, port, place)


def _user() -> str:
    import pwd

    return pwd.getpwuid(os.getuid()).pw_name


@contextlib.contextmanager
def s3_server(folder: Path) -> Iterator[Server]:
    """A stand-in for S3-compatible storage, with one bucket."""
    import httpx

    port = free_port()
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "secret").write_text("a-made-up-secret")
    words = [sys.executable, "-m", "moto.server", "-H", "127.0.0.1", "-p", str(port)]
    with started(words, port, folder / "s3.log"):
        assert httpx.put(f"http://127.0.0.1:{port}/seeds").status_code == 200
        options = {"endpoint": f"http://127.0.0.1:{port}", "user": "made-up", "password": f"file:{folder}/secret"}
        yield Server("s3://seeds/shelf", options, port, None)


@contextlib.contextmanager
def webdav_server(folder: Path) -> Iterator[Server]:
    """A WebDAV server with a log-in."""
    port, place = free_port(), folder / "objects"
    place.mkdir(parents=True)
    (folder / "secret").write_text("a-made-up-secret")
    program = folder / "dav.py"
    program.write_text(
        "from cheroot import wsgi\nfrom wsgidav.wsgidav_app import WsgiDAVApp\n"
        f"app = WsgiDAVApp({{'provider_mapping': {{'/': {str(place)!r}}}, 'verbose': 1, 'logging': {{'enable': False}},"
        "'http_authenticator': {'accept_basic': True, 'accept_digest': False, 'default_to_digest': False},"
        "'simple_dc': {'user_mapping': {'*': {'ida': {'password': 'a-made-up-secret'}}}}, 'property_manager': True,"
        "'lock_storage': True})\n"
        f"wsgi.Server(('127.0.0.1', {port}), app, numthreads=8).start()\n"
    )
    with started([sys.executable, str(program)], port, folder / "dav.log"):
        options = {"user": "ida", "password": f"file:{folder}/secret"}
        yield Server(f"webdav://127.0.0.1:{port}/shelf", options, port, place)


SERVERS: dict[str, Callable[[Path], contextlib.AbstractContextManager[Server]]] = {
    "sftp": sftp_server, "s3": s3_server, "webdav": webdav_server,
}  # fmt: skip


class CutLine:
    """A relay on loopback that breaks its lines after so many bytes, so many times; it counts what it carried."""

    def __init__(self, port: int, chance: random.Random, cuts: int, most: int) -> None:
        self._target, self._chance, self._most = port, chance, most
        self.left, self.made, self.carried = cuts, 0, 0
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port = int(self._listener.getsockname()[1])
        self._lock = threading.Lock()
        self._ends = False
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        while not self._ends:
            try:
                near, _ = self._listener.accept()
                far = socket.create_connection(("127.0.0.1", self._target), 10)
            except OSError:
                return
            for end in (near, far):
                end.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            room = self._chance.randint(1, self._most)
            told = [room]
            for one, other, counts in ((near, far, True), (far, near, False)):
                threading.Thread(target=self._carry, args=(one, other, told, counts), daemon=True).start()

    def _carry(self, one: socket.socket, other: socket.socket, told: list[int], counts: bool) -> None:
        with contextlib.suppress(OSError):
            while data := one.recv(16 * 1024):
                with self._lock:
                    if counts:
                        self.carried += len(data)
                        told[0] -= len(data)
                    cut = told[0] <= 0 and self.left > 0
                    if cut:
                        self.left, self.made = self.left - 1, self.made + 1
                        told[0] = self._most
                if cut:
                    break
                other.sendall(data)
        for end in (one, other):
            with contextlib.suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)
            end.close()

    def close(self) -> None:
        self._ends = True
        self._listener.close()
