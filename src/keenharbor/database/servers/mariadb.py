"""A private MariaDB server."""

from __future__ import annotations

import os
import signal
from pathlib import Path

from keenharbor.base.durable import private_folder
from keenharbor.database.engines import open_database
from keenharbor.database.kinds import MARIADB
from keenharbor.database.protocol import DatabasePlace
from keenharbor.database.servers.recipe import Folders


class MariadbRecipe:
    programs = ("mariadb-install-db", "mariadbd")
    stop_signal = signal.SIGTERM

    def search_path(self) -> str:
        return f"{os.environ.get('PATH', '')}:/usr/sbin:/usr/libexec"

    def user(self) -> str | None:
        return None

    def choose_data(self, folders: Folders) -> None:
        pass

    def prepare_command(self, program: str, folders: Folders) -> list[str]:
        return [program, "--no-defaults", f"--datadir={folders.own}/data", "--skip-test-db",
                "--auth-root-authentication-method=normal", *self._options(folders)]  # fmt: skip

    def serve_command(self, program: str, folders: Folders) -> list[str]:
        return [
            program, "--no-defaults", f"--datadir={folders.own}/data", f"--socket={folders.socket}/server.sock",
            "--skip-networking", f"--pid-file={folders.own}/server.pid", "--innodb-buffer-pool-size=64M",
            "--innodb-log-file-size=48M", "--local-infile=1", "--event-scheduler=OFF", "--skip-log-bin",
            "--innodb-flush-log-at-trx-commit=0", "--max-allowed-packet=1G", *self._options(folders),
        ]  # fmt: skip

    def _options(self, folders: Folders) -> list[str]:
        """Temporary files go into a folder of the server's own: a server that starts removes those that it finds, which
        in the system's temporary folder may be another running server's, live's among them."""
        own = private_folder(Path(folders.own) / "tmp")
        return [f"--tmpdir={own}", *(["--user=root"] if os.geteuid() == 0 else [])]

    def place(self, folders: Folders) -> DatabasePlace:
        return DatabasePlace(MARIADB.name, socket=f"{folders.socket}/server.sock", user="root", name="site")

    def run_sql(self, place: DatabasePlace, statement: str) -> None:
        with open_database(place.with_name(MARIADB.first_database)).writing() as writer:
            writer.script(statement)
