"""A database as it can be read: what a site's view hands around."""

from __future__ import annotations

import contextlib
from functools import cached_property
from pathlib import PurePosixPath

from keenharbor.database.engines import open_database
from keenharbor.database.protocol import Database, DatabasePlace, DatabaseState


class ReadDatabase:
    """The reading half of a `Database`. Its place does not leak: nobody can open it for writing from here."""

    def __init__(self, place: DatabasePlace) -> None:
        self.__place = place

    @cached_property
    def __database(self) -> Database:
        return open_database(self.__place)

    @property
    def engine(self) -> str:
        return self.__place.engine

    @property
    def name(self) -> str:
        """Its name on its server."""
        return self.__place.name

    @property
    def told(self) -> str:
        """Where it is, for people: the file, or engine, name and server."""
        return str(self.__place.path or self.__place)

    @property
    def url(self) -> str:
        """Where it is, without a password."""
        return self.__place.url

    @property
    def file(self) -> PurePosixPath | None:
        """The file that it is; None for one on a server."""
        return PurePosixPath(str(self.__place.path)) if self.__place.path is not None else None

    @property
    def socket(self) -> str:
        """The socket through which its server is reached, if any."""
        return self.__place.socket

    @property
    def on_server(self) -> bool:
        return self.__place.on_server

    @property
    def marks(self) -> tuple[str, ...]:
        """What would lead a program to it if it stood in its settings."""
        return self.__place.marks

    def is_at(self, place: DatabasePlace) -> bool:
        """Whether ``place`` leads to this very database."""
        return place.is_same_as(self.__place)

    def exists(self) -> bool:
        return self.__database.exists()

    def version(self) -> str:
        """The engine's version."""
        return self.__database.version()

    def size(self) -> int:
        """About how many bytes it takes."""
        return self.__database.size()

    def reading(self) -> contextlib.AbstractContextManager[DatabaseState]:
        """A consistent state for the time of the block."""
        return self.__database.reading()

    @property
    def files(self) -> list[str]:
        """The files that the engine keeps for it."""
        return [str(f) for f in self.__database.files()]

    def lacking(self) -> list[str]:
        """What its user may not do that a snapshot needs, in words."""
        return self.__database.lacking()


def read_only(place: DatabasePlace) -> ReadDatabase:
    """The database at ``place``, to be read."""
    return ReadDatabase(place)
