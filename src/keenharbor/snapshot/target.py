"""Where a snapshot is given back to: a folder here, or on another machine."""

from __future__ import annotations

import contextlib
import posixpath
import tempfile
import time
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from keenharbor.base.durable import private_folder
from keenharbor.base.errors import UsageError
from keenharbor.database import DatabasePlace
from keenharbor.host import Files, Host
from keenharbor.host.entries import Entry
from keenharbor.site.load import host_at
from keenharbor.site.whereabouts import Whereabouts

_PIECE = 4 * 1024 * 1024


@dataclass(frozen=True)
class Target:
    """A folder on a host. ``told`` is what a person typed."""

    host: Host
    folder: str
    told: str

    def path(self, *parts: str) -> str:
        """A path in it, on its machine."""
        return posixpath.join(self.folder, *parts)

    def refuse_unless_empty(self) -> None:
        """Raise `UsageError` unless the folder is empty, or not there."""
        there = self.host.reading(self.folder)
        try:
            found = there.look("")
        except NotADirectoryError:
            found = None
        if found is not None and (found.kind != "folder" or there.names("")):
            raise UsageError(
                "the folder to restore to is not empty", where=self.told,
                advice="name a new folder, so that nothing is overwritten; --live restores over the live site",
            )  # fmt: skip

    def refuse_inside(self, root: str) -> None:
        """Raise `UsageError` where the folder lies inside the live site, which has ``root`` on its own machine."""
        inside = Path(self.folder).resolve() if self.host.is_here else Path(self.folder)
        if Path(root) in (inside, *inside.parents):
            raise UsageError("this folder lies inside the live site", where=self.told, advice="name one outside it")

    def tree(self, name: str) -> Files:
        """A folder in it, made for its owner alone, to be written."""
        if self.host.is_here:
            private_folder(Path(self.path(name)))
        files = self.host.writing(self.path(name))
        files.make_root()
        return files

    def database_file(self, engine: str, name: str) -> DatabasePlace:
        """A database in a file in it."""
        self.tree("database")
        return DatabasePlace(engine, Path(self.path("database", name)), through=self.host.sqlite_files)

    def write(self, name: str, pieces: Iterable[bytes]) -> None:
        """A file in its folder ``database``, for its owner alone."""
        with contextlib.ExitStack() as stack:
            kept = stack.enter_context(tempfile.TemporaryFile())
            sizes = []
            for piece in _even(pieces):
                kept.write(piece)
                sizes.append(len(piece))
            entry = Entry(
                name, "file", 0o600, time.time_ns(), sum(sizes), objects=tuple(str(n) for n in range(len(sizes)))
            )

            def read(identity: str) -> bytes:
                kept.seek(int(identity) * _PIECE)
                return kept.read(sizes[int(identity)])

            stack.enter_context(self.tree("database").changing()).write_there(entry, read)


def target_at(at: Whereabouts, folder: str) -> Target:
    """The folder that a person named."""
    return Target(*host_at(at, folder), folder)


def _even(pieces: Iterable[bytes]) -> Iterable[bytes]:
    """The same bytes in pieces of one size."""
    waiting = bytearray()
    for piece in pieces:
        waiting += piece
        while len(waiting) >= _PIECE:
            yield bytes(waiting[:_PIECE])
            del waiting[:_PIECE]
    if waiting:
        yield bytes(waiting)
