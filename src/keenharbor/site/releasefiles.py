"""The files of a release as its makers ship it: in a folder, or in an archive. What an archive says is not trusted: no
path leads out of it, and links are left out."""

from __future__ import annotations

import re
import stat
import tarfile
import zipfile
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.host import AreaRules, ReadPath, ReadTree, WalkRules
from keenharbor.site.settings import form_of, values_in
from keenharbor.site.view import SiteView
from keenharbor.tree import scan_tree

LARGEST_RELEASE = 2 * 1024**3
"""Bytes of all files of an archive; a larger one is refused."""
_ARCHIVES = (".tar", ".tar.gz", ".tgz", ".tar.bz2", ".tar.xz", ".zip")


@dataclass(frozen=True)
class ReleaseFiles:
    """A release in the folder or archive ``source``."""

    source: Path

    def files(self) -> Iterator[tuple[str, tuple[bytes, int]]]:
        """Each file's path, content and mode. A single folder around all of an archive is left out of the paths. Raises
        `DamagedError`."""
        if self.source.is_dir():
            yield from self._in_folder()
            return
        try:
            found = list(self._in_zip() if self.source.suffix == ".zip" else self._in_tar())
        except (tarfile.TarError, zipfile.BadZipFile, EOFError, zlib.error, OSError, ValueError) as error:
            raise DamagedError(f"the release cannot be read: {error}", where=self.source) from None
        tops = {p.partition("/")[0] for p, _ in found if "/" in p}
        around = f"{tops.pop()}/" if len(tops) == 1 and all("/" in p for p, _ in found) else ""
        for path, content in found:
            yield path.removeprefix(around), content

    def _in_folder(self) -> Iterator[tuple[str, tuple[bytes, int]]]:
        tree = ReadTree(str(self.source))
        for path, entry in scan_tree(tree, WalkRules(AreaRules({}))).entries.items():
            if entry.kind == "file":
                yield path, (ReadPath(tree, path).read_bytes(), entry.mode)

    def _in_tar(self) -> Iterator[tuple[str, tuple[bytes, int]]]:
        total = 0
        with tarfile.open(self.source) as tar:
            for member in tar:
                if not member.isfile():
                    continue
                total = _within(member.name, total + member.size)
                content = tar.extractfile(member)
                yield _plain(member.name), (content.read() if content else b"", member.mode & 0o755)

    def _in_zip(self) -> Iterator[tuple[str, tuple[bytes, int]]]:
        total = 0
        with zipfile.ZipFile(self.source) as archive:
            for member in archive.infolist():
                mode = member.external_attr >> 16
                if member.is_dir() or (mode and not stat.S_ISREG(mode) and stat.S_IFMT(mode)):
                    continue
                total = _within(member.filename, total + member.file_size)
                yield _plain(member.filename), (archive.read(member), (mode & 0o755) or 0o644)

    def version_of(self, site: SiteView) -> str | None:
        """The version of the core that it brings, where it stands in the same file as the site's own."""
        file, key = site.model.core.version_file, site.model.core.key
        content = next((c for p, (c, _) in self.files() if p == file), None) if file is not None else None
        if content is None or file is None:
            return None
        text = content.decode("utf-8", "replace")
        if key is not None:
            text = values_in(text, form_of(file) or "ini", self.source / file).get(key, "")
        found = re.search(r"\d[\w.+-]*", text)
        return found[0] if found is not None else None


def _plain(name: str) -> str:
    return PurePosixPath(name).as_posix()


def _within(name: str, total: int) -> int:
    """The bytes so far. Raises ValueError for a path that climbs out, or for too many bytes."""
    path = PurePosixPath(name)
    if path.is_absolute() or ".." in path.parts or "\x00" in name:
        raise ValueError(f"its path {name!r} leads out of it")
    if total > LARGEST_RELEASE:
        raise ValueError("it unpacks to more than a release may")
    return total


def release_files(source: Path) -> ReleaseFiles:
    """The release at ``source``. Raises `UsageError` where there is none."""
    if not source.exists():
        raise UsageError("the release is not there", where=source, advice="name its folder or archive")
    if not source.is_dir() and not source.name.endswith(_ARCHIVES):
        raise UsageError(
            "this is neither a folder nor an archive", where=source, advice=f"one of {', '.join(_ARCHIVES)}"
        )
    return ReleaseFiles(source)
