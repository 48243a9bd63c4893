"""A private PostgreSQL server."""

from __future__ import annotations

import contextlib
import os
import pwd
import signal
import tempfile
from pathlib import Path

from keenharbor.base.durable import private_folder, remove_folder
from keenharbor.base.errors import UsageError
from keenharbor.database.kinds import POSTGRES
from keenharbor.database.protocol import DatabasePlace
from keenharbor.database.servers.recipe import Folders

_USER = "harbor"
_FOLDERS = "/usr/lib/postgresql/*/bin"


class PostgresRecipe:
    programs = ("initdb", "postgres")
    stop_signal = signal.SIGINT  # the fast shutdown, which does not wait for clients

    def search_path(self) -> str:
        folders = sorted(Path("/").glob(_FOLDERS.lstrip("/")), key=lambda p: _number(p.parent.name), reverse=True)
        return ":".join([*map(str, folders), os.environ.get("PATH", "")])

    def user(self) -> str | None:
        return _unprivileged() if os.geteuid() == 0 else None

    def choose_data(self, folders: Folders) -> None:
        folders.data = str(Path(folders.own) / "data")
        if os.geteuid() == 0:
            # It refuses to run as root; another user must be able to reach its folder, which lies in a private one.
            folders.data = tempfile.mkdtemp(prefix="harbor-postgres-")
            if folders.socket != folders.own:  # one was made for its short name
                remove_folder(Path(folders.socket))
            folders.socket = folders.data
            owner = pwd.getpwnam(_unprivileged())
            os.chown(folders.data, owner.pw_uid, owner.pw_gid)
        private_folder(Path(folders.data))

    def prepare_command(self, program: str, folders: Folders) -> list[str]:
        return [
            program, "-D", f"{folders.data}/cluster", "-U", _USER, "-A", "trust", "-N", "--no-locale", "-E", "UTF8",
        ]  # fmt: skip

    def serve_command(self, program: str, folders: Folders) -> list[str]:
        return [program, "-D", f"{folders.data}/cluster", "-k", folders.socket, "-c", "listen_addresses=",
                "-c", "fsync=off", "-c", "max_wal_size=2GB"]  # fmt: skip

    def place(self, folders: Folders) -> DatabasePlace:
        socket = f"{folders.socket}/{POSTGRES.socket_name.format(POSTGRES.port)}"
        return DatabasePlace(POSTGRES.name, socket=socket, user=_USER, name="site")

    def run_sql(self, place: DatabasePlace, statement: str) -> None:
        from keenharbor.database.postgres import PostgresDatabase, run_statement

        with contextlib.closing(PostgresDatabase(place).connect(POSTGRES.first_database)) as connection:
            run_statement(connection, statement)


def _number(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return 0


def _unprivileged() -> str:
    for name in ("postgres", "nobody"):
        with contextlib.suppress(KeyError):
            pwd.getpwnam(name)
            return name
    raise UsageError(
        "there is no unprivileged user for a private PostgreSQL server", advice="run as another user than root"
    )
