"""The site that is to be known, and the machine that it stands on: to be read, and nothing else."""

from __future__ import annotations

import posixpath
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from keenharbor.host import Host, ReadPath


@dataclass(frozen=True)
class Ground:
    """A tree at ``place`` of a ``host``."""

    host: Host
    place: str

    @cached_property
    def root(self) -> ReadPath:
        """The tree; a link in it may lead out, as for paths that a person names."""
        return ReadPath(self.host.reading(self.place, leads_out=True))

    @cached_property
    def _machine(self) -> ReadPath:
        return ReadPath(self.host.reading("/", leads_out=True))

    def absolute(self, path: str, base: str = "") -> str:
        """Where a path is that begins at ``base`` in the tree, if it does not begin at the root of the machine."""
        return posixpath.normpath(posixpath.join(self.place, base, path))

    def anywhere(self, path: str, base: str = "") -> ReadPath:
        """The same, to be read."""
        return self._machine / self.absolute(path, base).lstrip("/")

    def file(self, path: str, base: str = "") -> Path:
        """The same as the place of a database that is a file: such a one is opened on the machine that it lies on."""
        return Path(self.absolute(path, base))
