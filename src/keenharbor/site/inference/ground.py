"""The site that is to be known, and the machine that it stands on: to be read, and nothing else."""

from __future__ import annotations

import posixpath
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from keenharbor.base.errors import UsageError
from keenharbor.database import DatabasePlace
from keenharbor.host import Here, Host, ReadPath
from keenharbor.host.addresses import is_far
from keenharbor.site.load import far_host
from keenharbor.site.routines import LinePart
from keenharbor.site.view import reached


@dataclass(frozen=True)
class Ground:
    """A tree at ``place`` of a ``host``. Of another machine ``far`` is its address, as a site file has it."""

    host: Host
    place: str
    far: str = ""

    @classmethod
    def at(cls, root: str, site_file: Path, line: LinePart) -> Ground:
        """The site in the folder ``root``, here or at an address, for a site file that is to be written. Raises
        `UsageError`."""
        home = site_file.resolve().parent
        if is_far(root):
            host, place = far_host(root, line, home, home)
            ground = cls(host, place, root)
        else:
            ground = cls(Here(home), str(Path(root).resolve()))
        if not ground.root.is_dir():
            raise UsageError("the site's folder is not there", where=root)
        return ground

    def written(self, home: Path) -> str:
        """The root as it stands in a site file in the folder ``home``."""
        place = Path(self.place)
        return self.far or (str(place.relative_to(home)) if home in place.parents else str(place))

    def reached(self, place: DatabasePlace) -> DatabasePlace:
        """How a database of the site is connected from here."""
        return reached(self.host, place)

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
