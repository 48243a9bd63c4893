"""What the program of a private server needs to know of its engine, as its module here tells it."""

from __future__ import annotations

import signal
from dataclasses import dataclass
from typing import Protocol

from keenharbor.database.protocol import DatabasePlace


@dataclass
class Folders:
    """Where a private server keeps what: its ``own`` folder, the one of its ``socket``, and ``data`` where that is
    elsewhere."""

    own: str
    socket: str
    data: str | None = None


class ServerRecipe(Protocol):
    """How a server of one engine is found, prepared, started, asked and ended. It runs as ``user`` where that is not
    this one."""

    programs: tuple[str, str]
    """The one that prepares a data folder, and the server."""
    stop_signal: signal.Signals

    def search_path(self) -> str: ...

    def user(self) -> str | None: ...

    def choose_data(self, folders: Folders) -> None:
        """Before anything is run: choose another folder for the data, if it must be."""

    def prepare_command(self, program: str, folders: Folders) -> list[str]: ...

    def serve_command(self, program: str, folders: Folders) -> list[str]: ...

    def place(self, folders: Folders) -> DatabasePlace:
        """The server with the name of the database left open."""

    def run_sql(self, place: DatabasePlace, statement: str) -> None:
        """Run a statement outside any database of a site."""
