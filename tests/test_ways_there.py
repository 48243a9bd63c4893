"""The ways to others as their users have set them up: SSH by its configuration, agents, jump hosts and passwords; mail
under TLS with a log-in."""

from __future__ import annotations

import asyncio
import datetime
import ssl
import subprocess
import threading
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from email.message import EmailMessage
from ipaddress import ip_address
from pathlib import Path
from typing import Any

import asyncssh
import pytest
from aiosmtpd.smtp import SMTP, AuthResult
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from conftest import harbor
from keenharbor.base.errors import KeenHarborError
from keenharbor.clone.server import free_port
from keenharbor.demo.scene import Scene
from keenharbor.place.carriers import CarrierError, Whither, open_carrier
from keenharbor.place.line import Line
from keenharbor.site.routines import MailboxPart
from keenharbor.tend.telling import send_mail
from place_servers import Server, need_program, sftp_server

# -- SSH ------------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    need_program("sshd", "ssh-keygen", "ssh-agent", "ssh-add")
    with sftp_server(tmp_path_factory.mktemp("ssh") / "server") as made:
        yield made


def home(tmp_path: Path, config: str) -> Path:
    """A user's home with a configuration of SSH."""
    folder = tmp_path / "home"
    (folder / ".ssh").mkdir(parents=True)
    (folder / ".ssh/config").write_text(config)
    return folder


def alias(server: Server, name: str, *more: str) -> str:
    lines = [f"Host {name}", "HostName 127.0.0.1", f"Port {server.port}", f"User {server.url.split('@')[0][7:]}",
             f"UserKnownHostsFile {server.options['known_hosts']}", *more]  # fmt: skip
    return "\n  ".join(lines) + "\n"


def sends(scene: Scene, server: Server, place: str, host: str, tmp_path: Path, **env: str) -> None:
    """A snapshot goes to a place that is named by a host of the user's configuration, and comes back."""
    assert server.folder is not None
    harbor(scene.folder, "snapshot", "take")
    url, key = f"sftp://{host}{server.folder}/{place}", tmp_path / "key.txt"
    harbor(scene.folder, "place", "add", "far", url, "--key-to", key, **env)
    assert harbor(scene.folder, "place", "send", "--json", **env).json[0]["snapshots"]
    assert harbor(tmp_path, "fetch", url, "--key", key, "--to", "back", "--json", **env).json["whole"]


def test_a_name_of_the_users_configuration_says_host_port_user_and_key(
    server: Server, scene: Scene, tmp_path: Path
) -> None:
    own = home(tmp_path, alias(server, "cellar", f"IdentityFile {server.options['key_file']}"))
    sends(scene, server, "named", "cellar", tmp_path, HOME=str(own))


def test_a_key_that_an_agent_holds(server: Server, scene: Scene, tmp_path: Path) -> None:
    own, socket = home(tmp_path, alias(server, "cellar")), tmp_path / "agent"
    agent = subprocess.Popen(["ssh-agent", "-D", "-a", str(socket)], stdout=subprocess.DEVNULL)
    try:
        env = {"SSH_AUTH_SOCK": str(socket), "PATH": "/usr/bin:/bin"}
        for _ in range(100):
            if subprocess.run(["ssh-add", "-q", server.options["key_file"]], env=env, check=False).returncode == 0:
                break
        sends(scene, server, "held", "cellar", tmp_path, HOME=str(own), SSH_AUTH_SOCK=str(socket))
    finally:
        agent.kill()
        agent.wait()


def test_by_way_of_a_jump_host(server: Server, scene: Scene, tmp_path: Path) -> None:
    key = f"IdentityFile {server.options['key_file']}"
    config = alias(server, "gate", key) + alias(server, "cellar", key, "ProxyJump gate")
    sends(scene, server, "behind", "cellar", tmp_path, HOME=str(home(tmp_path, config)))


def test_a_host_that_shows_another_key_than_before_is_not_spoken_to(server: Server, tmp_path: Path) -> None:
    known = tmp_path / "known"
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(tmp_path / "other")], check=True)
    kind, key = (tmp_path / "other.pub").read_text().split()[:2]
    known.write_text(f"[127.0.0.1]:{server.port} {kind} {key}\n")
    given = Whither(server.url, None, None, Path(server.options["key_file"]), known, None)
    with pytest.raises(CarrierError) as told, Line(lambda: open_carrier(given)):
        pass
    assert "is another than before" in told.value.what and not told.value.passing
    assert "ssh 127.0.0.1" in (told.value.advice or "")


class _Doors(asyncssh.SSHServer):
    """Lets in who knows the word."""

    def begin_auth(self, username: str) -> bool:
        return True

    def password_auth_supported(self) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        return (username, password) == ("ida", "a made-up word")


def test_a_password(tmp_path: Path) -> None:
    host_key, loop = asyncssh.generate_private_key("ssh-ed25519"), asyncio.new_event_loop()
    (tmp_path / "shelf").mkdir()

    async def listen() -> Any:
        return await asyncssh.create_server(
            _Doors, "127.0.0.1", 0, server_host_keys=[host_key],
            sftp_factory=lambda chan: asyncssh.SFTPServer(chan, chroot=str(tmp_path).encode()),
        )  # fmt: skip

    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()
    try:
        acceptor = asyncio.run_coroutine_threadsafe(listen(), loop).result(20)
        port = acceptor.get_port()
        known = tmp_path / "known"
        known.write_text(f"[127.0.0.1]:{port} {host_key.export_public_key().decode()}")
        given = Whither(f"sftp://127.0.0.1:{port}/shelf", "ida", "a made-up word", None, known, None)
        with Line(lambda: open_carrier(given)) as line:
            line.put("word", b"sown")
            assert line.get("word", 100) == b"sown"
        wrong = Whither(given.url, "ida", "another", None, known, None)
        with pytest.raises(CarrierError, match="does not let 'ida' in"), Line(lambda: open_carrier(wrong)):
            pass
        acceptor.close()
    finally:
        loop.call_soon_threadsafe(loop.stop)
        thread.join(10)


# -- mail -----------------------------------------------------------------------------------------------------


@dataclass
class Letters:
    """What came, and how."""

    secure: list[bool]
    who: list[str]

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        self.secure.append(server.transport.get_extra_info("ssl_object") is not None)
        return "250 OK"

    def let_in(self, server: Any, session: Any, envelope: Any, mechanism: str, said: Any) -> AuthResult:
        self.who.append(said.login.decode())
        return AuthResult(success=(said.login, said.password) == (b"harbor", b"a made-up word"))


@pytest.fixture(scope="module")
def certificate(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    """A certificate of 127.0.0.1 that signs itself, and its key."""
    folder, key = tmp_path_factory.mktemp("tls"), ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "a made-up mail server")])
    now = datetime.datetime.now(datetime.UTC)
    made = (
        x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
        .serial_number(x509.random_serial_number()).not_valid_before(now - datetime.timedelta(days=1))
        .not_valid_after(now + datetime.timedelta(days=2))
        .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ip_address("127.0.0.1"))]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .sign(key, hashes.SHA256())
    )  # fmt: skip
    (folder / "cert.pem").write_bytes(made.public_bytes(serialization.Encoding.PEM))
    (folder / "key.pem").write_bytes(key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    ))  # fmt: skip
    return folder / "cert.pem", folder / "key.pem"


@contextmanager
def mail_server(certificate: tuple[Path, Path], *, from_the_start: bool) -> Iterator[tuple[Letters, int]]:
    letters, port, loop = Letters([], []), free_port(), asyncio.new_event_loop()
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    context.load_cert_chain(*certificate)
    offered: dict[str, Any] = {} if from_the_start else {"tls_context": context, "require_starttls": True}

    def made() -> SMTP:
        with warnings.catch_warnings():  # it does not know that all is under TLS already
            warnings.simplefilter("ignore")
            return SMTP(letters, authenticator=letters.let_in, auth_require_tls=not from_the_start,
                        auth_required=True, loop=loop, **offered)  # fmt: skip

    async def listen() -> asyncio.Server:
        return await loop.create_server(made, "127.0.0.1", port, ssl=context if from_the_start else None)

    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()
    server = asyncio.run_coroutine_threadsafe(listen(), loop).result(20)
    try:
        yield letters, port
    finally:
        asyncio.run_coroutine_threadsafe(ended(server), loop).result(20)
        loop.call_soon_threadsafe(loop.stop)
        thread.join(10)
        loop.close()


async def ended(server: asyncio.Server) -> None:
    """The server is closed, with all that goes on for its visitors."""
    server.close()
    others = asyncio.all_tasks() - {asyncio.current_task()}
    for task in others:
        task.cancel()
    await asyncio.gather(*others, return_exceptions=True)


@pytest.mark.parametrize("tls", ["starttls", "from the start"])
def test_mail_goes_under_tls_with_a_log_in(
    tls: str, certificate: tuple[Path, Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "word").write_text("a made-up word\n")
    mail = EmailMessage()
    mail["From"], mail["To"], mail["Subject"] = "harbor@example.org", "ida@example.org", "all is well"
    mail.set_content("well")
    with mail_server(certificate, from_the_start=tls == "from the start") as (letters, port):
        said = {"to": ["ida@example.org"], "sender": "harbor@example.org", "host": "127.0.0.1", "port": port,
                "tls": tls, "user": "harbor", "password": "file:word"}  # fmt: skip
        box = MailboxPart.model_validate(said)
        with pytest.raises(KeenHarborError, match="could not be sent"):
            send_mail(mail, box, tmp_path)
        assert not letters.who, "a certificate that nobody vouches for gets no password"
        monkeypatch.setenv("SSL_CERT_FILE", str(certificate[0]))
        send_mail(mail, box, tmp_path)
        assert letters.secure == [True] and letters.who == ["harbor"]
        (tmp_path / "word").write_text("another")
        with pytest.raises(KeenHarborError, match="could not be sent"):
            send_mail(mail, box, tmp_path)
        assert letters.secure == [True]
