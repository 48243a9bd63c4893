"""Sets the scene of the demonstration in a folder: runtimes, feed, the live site and its host."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import time
from dataclasses import dataclass
from importlib.util import find_spec
from pathlib import Path
from types import TracebackType

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.clone.server import free_port
from keenharbor.database import DatabasePlace
from keenharbor.database.private_server import PrivateServer, missing_program
from keenharbor.demo.packages import TANSY, installed_at_first, publish
from keenharbor.host.ports import port_is_taken

PLATFORM_FILE = Path(__file__).parent / "tansy.toml"
LAUNCHER = '#!/bin/sh\nexec "{python}" -I -S -B "{folder}/launch.py" "$@"\n'
MARK = "this folder belongs to the demonstration"


@dataclass(frozen=True)
class Scene:
    """Where everything of the demonstration is."""

    folder: Path
    port: int
    mail_port: int
    engine: str = "sqlite"

    @property
    def root(self) -> Path:
        return self.folder / "site"

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    @property
    def database(self) -> Path:
        return self.folder / "database" / "marrow-lane.db"

    @property
    def server_file(self) -> Path:
        return self.folder / "database-server.json"

    @property
    def database_place(self) -> DatabasePlace:
        """Where the live site's database is."""
        if self.engine == "sqlite":
            return DatabasePlace("sqlite", self.database)
        return PrivateServer.read(self.server_file).place.with_name("marrow_lane")

    @property
    def runtimes(self) -> Path:
        return self.folder / "runtimes"

    @property
    def host_program(self) -> Path:
        return self.runtimes / "host.py"

    @property
    def control(self) -> Path:
        return self.folder / "host"

    @property
    def site_file(self) -> Path:
        return self.folder / "keenharbor.toml"


def set_scene(folder: Path, port: int | None = None, engine: str = "sqlite") -> Scene:
    """Make the whole scene in ``folder``, which must be empty, not exist, or hold an earlier scene (which goes).

    For an ``engine`` with a server, a private one is left running (see `Host`). Raises `UsageError` where it is not
    installed."""
    folder = folder.resolve()
    if engine != "sqlite" and (missing := missing_program(engine)):
        raise UsageError(missing, advice="install it, or leave out --database: then the example plays on SQLite")
    mark = folder / ".scene"
    if folder.exists() and any(folder.iterdir()):
        if not mark.exists() or mark.read_text() != MARK:
            raise UsageError(
                "the folder for the demonstration is not empty", where=folder, advice="name a new one with --dir"
            )
        remove_scene(folder)
    if port is not None and port_is_taken(port):
        raise KeenHarborError(
            f"port {port} is taken by another program", advice="name another one with --port, or none"
        )
    folder.mkdir(parents=True)
    mark.write_text(MARK)
    scene = Scene(folder, port or free_port(), free_port(), engine)
    if engine != "sqlite":
        server = PrivateServer.make(engine, folder / "database-server")
        server.write(scene.server_file)
        create = "CREATE DATABASE marrow_lane" + (" COLLATE utf8mb4_bin" if engine == "mariadb" else "")
        server.run_sql(create)
    _install_runtimes(scene.runtimes)
    publish(folder / "feed")
    shutil.copy(PLATFORM_FILE, folder / "tansy.toml")
    for release in installed_at_first():
        facts = release.facts
        base = scene.root if facts["kind"] == "core" else scene.root / f"{facts['kind']}s" / facts["name"]
        for path, content in release.files.items():
            (base / path).parent.mkdir(parents=True, exist_ok=True)
            (base / path).write_bytes(content)
    subprocess.run(
        [
            sys.executable, "-I", "-S", "-B", str(TANSY / "site" / "marrow_lane.py"), "--root", str(scene.root),
            "--database", json.dumps(_settings(scene)), "--address", scene.address, "--mail-port", str(scene.mail_port),
            "--loam", str(TANSY / "loam" / "loam_2"), *(w for f in _drivers() for w in ("--drivers", f)),
        ],
        check=True,
    )  # fmt: skip
    return scene


def remove_scene(folder: Path) -> None:
    """End the scene's database server, if it has one, and remove the folder."""
    if (folder / "database-server.json").exists():
        PrivateServer.read(folder / "database-server.json").remove()
    shutil.rmtree(folder)


def _settings(scene: Scene) -> dict[str, str]:
    """The database's part of the site's settings file."""
    place = scene.database_place
    if place.path is not None:
        return {"engine": place.engine, "path": str(place.path)}
    return {"engine": place.engine, "socket": place.socket, "name": place.name, "user": place.user, "password": ""}


def _drivers() -> list[str]:
    """The folders in which Python finds the database drivers: what a host would offer to its sites."""
    found = (find_spec(name) for name in ("pymysql", "psycopg", "psycopg_binary", "typing_extensions"))
    return sorted({str(Path(s.origin).parent.parent if s.submodule_search_locations else Path(s.origin).parent)
                   for s in found if s is not None and s.origin is not None})  # fmt: skip


def _install_runtimes(folder: Path) -> None:
    for version in ("2", "3"):
        home = folder / f"loam-{version}"
        (home / "lib").mkdir(parents=True)
        (home / "bin").mkdir()
        shutil.copy(TANSY / "loam" / "launch.py", home / "launch.py")
        shutil.copy(TANSY / "loam" / f"loam_{version}" / "loam.py", home / "lib" / "loam.py")
        (home / "drivers.txt").write_text("\n".join(_drivers()) + "\n")
        launcher = home / "bin" / "loam"
        launcher.write_text(LAUNCHER.format(python=sys.executable, folder=home))
        launcher.chmod(0o755)
    shutil.copy(TANSY / "loam" / "host.py", folder / "host.py")


class Host:
    """The web host of the live site, and its database server if it has one, running for the time of a ``with``
    block."""

    def __init__(self, scene: Scene) -> None:
        self._scene = scene

    def __enter__(self) -> Host:
        scene = self._scene
        if scene.server_file.exists():
            server = PrivateServer.read(scene.server_file)
            if not server.running:
                server.start()
                server.write(scene.server_file)
        self._process = subprocess.Popen(
            [
                sys.executable, "-I", "-S", "-B", str(scene.host_program), "serve", "--root", str(scene.root),
                "--runtimes", str(scene.runtimes), "--port", str(scene.port), "--control", str(scene.control),
            ],
            stdin=subprocess.DEVNULL, env={"PATH": os.environ.get("PATH", "")},
        )  # fmt: skip
        for _ in range(500):
            if port_is_taken(scene.port):
                return self
            if self._process.poll() is not None:
                break
            time.sleep(0.02)
        raise KeenHarborError("the demonstration's web host does not start", where=scene.address)

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._process.terminate()
        self._process.wait(10)
        if self._scene.server_file.exists():
            PrivateServer.read(self._scene.server_file).stop()
