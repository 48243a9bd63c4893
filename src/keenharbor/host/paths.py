"""A path of a tree as an object that can only be read: what `pathlib` offers for reading, through a `ReadFiles`."""

from __future__ import annotations

import fnmatch
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import BinaryIO

from keenharbor.host.protocol import Facts, ReadFiles


@dataclass(frozen=True)
class ReadPath:
    """One path of a tree. Links are followed as long as they stay in the tree; what leads out of it is not there."""

    files: ReadFiles
    path: str = ""

    def __truediv__(self, more: str) -> ReadPath:
        return ReadPath(self.files, f"{self.path}/{more}" if self.path and more else self.path or more)

    def joinpath(self, *more: str) -> ReadPath:
        """As `pathlib` has it: what reads the records of a distribution asks for it."""
        found = self
        for part in more:
            found = found / str(part)
        return found

    def __str__(self) -> str:
        return f"{self.files.place.rstrip('/')}/{self.path}" if self.path else self.files.place

    @property
    def name(self) -> str:
        return PurePosixPath(str(self)).name

    @property
    def suffix(self) -> str:
        return PurePosixPath(self.path).suffix

    @property
    def parent(self) -> ReadPath:
        return ReadPath(self.files, self.path.rpartition("/")[0])

    def _look(self) -> Facts | None:
        try:
            return self.files.look(self.path, through_links=True)
        except OSError:
            return None

    def exists(self) -> bool:
        return self._look() is not None

    def is_file(self) -> bool:
        found = self._look()
        return found is not None and found.kind == "file"

    def is_dir(self) -> bool:
        found = self._look()
        return found is not None and found.kind == "folder"

    def is_symlink(self) -> bool:
        found = self.files.look(self.path) if self.path else None
        return found is not None and found.kind == "link"

    @property
    def size(self) -> int:
        """Its bytes; 0 where it is not there."""
        found = self._look()
        return found.size if found is not None else 0

    def open_binary(self) -> BinaryIO:
        """Open it for reading. Raises OSError."""
        return self.files.open(self.path, through_links=True)

    def read_bytes(self) -> bytes:
        with self.open_binary() as source:
            return source.read()

    def read_text(self, encoding: str = "utf-8", errors: str = "strict") -> str:
        """Its text, line ends as they stand in it made one."""
        return self.read_bytes().decode(encoding, errors).replace("\r\n", "\n").replace("\r", "\n")

    def exact_text(self) -> str:
        """Its text with all line ends as they are; bytes that are not UTF-8 are kept as surrogates."""
        return self.read_bytes().decode("utf-8", "surrogateescape")

    def iterdir(self) -> Iterator[ReadPath]:
        for name in self.files.names(self.path, through_links=True):
            yield self / name

    def glob(self, pattern: str) -> Iterator[ReadPath]:
        """What fits ``pattern`` (parts with ``*`` and ``?``, no ``**``), sorted."""
        first, _, rest = pattern.partition("/")
        try:
            names = [n for n in self.files.names(self.path, through_links=True) if fnmatch.fnmatchcase(n, first)]
        except OSError:
            return
        for name in names:
            if rest:
                yield from (self / name).glob(rest)
            else:
                yield self / name


AnyPath = Path | ReadPath
"""Where nothing but reading is done, either will do."""


def size_of(path: AnyPath) -> int:
    """How many bytes a file has; 0 where it is not there."""
    if isinstance(path, ReadPath):
        return path.size
    try:
        return path.stat().st_size
    except OSError:
        return 0


def relative_to(path: AnyPath, root: AnyPath) -> str:
    """Where ``path`` is below ``root``, with ``/``."""
    return PurePosixPath(str(path)).relative_to(str(root)).as_posix()
