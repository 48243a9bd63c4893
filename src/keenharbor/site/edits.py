"""Local edits: files of a package that are not what the package shipped."""

from __future__ import annotations

import base64
import difflib
import hashlib
import tarfile
import zipfile
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from blake3 import blake3

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.host import AnyPath
from keenharbor.site.components import installed_in
from keenharbor.site.feed import Feed, NoFeed, Package
from keenharbor.site.view import SiteView


@dataclass(frozen=True)
class Installed:
    """A package as it is installed: its name and version, and its folder relative to the site's root ("" for the
    core); where it shares that with others, the ``files`` of its own."""

    name: str
    version: str
    kind: str
    folder: str
    files: tuple[str, ...] = ()

    def path(self, file: str) -> str:
        """Where a file of the package stands in the site."""
        return f"{self.folder}/{file}" if self.folder else file


@dataclass(frozen=True)
class LocalEdit:
    """A file of a package that somebody changed or removed, with a unified diff from what was shipped."""

    package: str
    path: str
    removed: bool
    diff: str


def installed_packages(site: SiteView) -> list[Installed]:
    """The core, then extensions and themes."""
    core = Installed(site.model.core.package, site.core_version(), "core", "")
    return [core, *(Installed(c.name, c.version, c.kind, c.folder, c.files) for c in site.components())]


def local_edits(site: SiteView, feed: Feed) -> tuple[list[LocalEdit], list[str]]:
    """The local edits of all packages that the feed still has; and the packages it has not (or whose archive is
    damaged), which could not be checked."""
    if isinstance(feed, NoFeed):
        return [], ["no feed of releases is named"]
    if not feed.has_packages:
        return distribution_edits(site)
    edits: list[LocalEdit] = []
    unknown: list[str] = []
    for installed in installed_packages(site):
        release = feed.find(installed.name, installed.version)
        try:
            if release is None:
                unknown.append(f"{installed.name} {installed.version}".strip() + ": not in the feed")
            elif _differs(site.path(), installed, feed.sums(release)):
                edits += edits_of(site.path(), installed, feed.package(release))
        except KeenHarborError as error:
            unknown.append(f"{installed.name} {installed.version}: {error.what}")
    return edits, unknown


def _differs(root: AnyPath, installed: Installed, sums: Mapping[str, str]) -> bool:
    """Whether any file of a package is not what was shipped."""
    for file, sum_of in sums.items():
        place = root / installed.path(file)
        if not place.is_file() or blake3(place.read_bytes()).hexdigest() != sum_of:
            return True
    return False


LARGEST_PRISTINE = 2 * 1024**3


def edits_against(site: SiteView, pristine: Path, under: str = "") -> list[LocalEdit]:
    """How the site (its folder ``under``) differs from a pristine copy: a folder, or an archive (tar or zip, of which a
    single folder on top is passed over). Only the copy's files are looked at. Raises `UsageError` when it cannot be
    read."""
    try:
        files = _files_of_folder(pristine) if pristine.is_dir() else _files_of_archive(pristine)
    except (OSError, tarfile.TarError, zipfile.BadZipFile, EOFError, ValueError, RuntimeError) as error:
        raise UsageError(f"the pristine copy cannot be read: {error}", where=pristine) from None
    tops = {f.partition("/")[0] for f in files}
    if (
        len(tops) == 1
        and all("/" in f for f in files)
        and not (site.path(under.strip("/")) / next(iter(tops))).exists()
    ):
        files = {f.partition("/")[2]: c for f, c in files.items()}
    if not files:
        raise UsageError("the pristine copy holds no file", where=pristine)
    return edits_of(
        site.path(), Installed(pristine.name, "", "core", under.strip("/")), Package(pristine.name, "", files)
    )


def _files_of_folder(folder: Path) -> dict[str, bytes]:
    return {
        p.relative_to(folder).as_posix(): p.read_bytes()
        for p in sorted(folder.rglob("*"))
        if p.is_file() and not p.is_symlink()
    }


def _files_of_archive(archive: Path) -> dict[str, bytes]:
    files: dict[str, bytes] = {}
    left = LARGEST_PRISTINE

    def put(name: str, size: int, read: Callable[[], bytes]) -> None:
        nonlocal left
        left -= size
        path = PurePosixPath(name)
        if left < 0:
            raise ValueError("it unpacks to more than a package may")
        if path.is_absolute() or ".." in path.parts:
            raise ValueError(f"'{name}' leads out of it")
        files[path.as_posix()] = read()

    if zipfile.is_zipfile(archive):
        with zipfile.ZipFile(archive) as packed:
            for item in packed.infolist():
                if not item.is_dir():
                    put(item.filename, item.file_size, lambda i=item: packed.read(i))  # type: ignore[misc]
        return files
    with tarfile.open(archive) as tar:
        for member in tar:
            content = tar.extractfile(member) if member.isfile() else None
            if content is not None:
                put(member.name, member.size, content.read)
    return files


def distribution_edits(site: SiteView) -> tuple[list[LocalEdit], list[str]]:
    """The files of installed Python distributions that are not what their own records say
    (https://packaging.python.org/en/latest/specifications/recording-installed-packages/); and distributions without a
    record."""
    unknown: list[str] = []
    folder = site.packages()
    claims: dict[str, list[tuple[str, str, str]]] = {}
    for item in installed_in(folder):
        name, files = str(item.metadata["Name"]), item.files
        if not files:
            unknown.append(f"{name} {item.version}: it keeps no record of its files")
            continue
        for file in files:
            if file.hash is None or file.hash.mode not in ("sha256", "sha384", "sha512") or file.suffix == ".pyc":
                continue
            claims.setdefault(file.as_posix(), []).append((name, file.hash.mode, file.hash.value))
    edits = [edit for file, claimed in claims.items() if (edit := _edit_of(folder, file, claimed)) is not None]
    return edits, unknown


def _edit_of(folder: AnyPath, file: str, claims: list[tuple[str, str, str]]) -> LocalEdit | None:
    """How a file differs from what distributions' records say (name, method, sum). Where several own it, one was
    unpacked over the other: it is as shipped when it is what any of them says."""
    owner = claims[0][0]
    try:
        content = (folder / file).read_bytes()
    except OSError:
        return LocalEdit(owner, file, True, "")
    for _, mode, told in claims:
        if base64.urlsafe_b64encode(hashlib.new(mode, content).digest()).rstrip(b"=").decode() == told:
            return None
    return LocalEdit(owner, file, False, "(the record tells that it differs, not how)")


def edits_of(root: AnyPath, installed: Installed, package: Package) -> list[LocalEdit]:
    """The files of one package that differ from ``package``."""
    found = []
    for file, shipped in package.files.items():
        path = installed.path(file)
        place = root / path
        present = place.read_bytes() if place.is_file() else None
        if present != shipped:
            found.append(LocalEdit(installed.name, path, present is None, _diff(path, shipped, present or b"")))
    return found


def _diff(path: str, shipped: bytes, present: bytes) -> str:
    try:
        left, right = shipped.decode("utf-8").splitlines(), present.decode("utf-8").splitlines()
    except UnicodeDecodeError:
        return "(not text)"
    return "\n".join(difflib.unified_diff(left, right, f"{path} as shipped", f"{path} here", lineterm="", n=2))


class MergeConflict(Exception):
    """Both sides changed the same lines; ``line`` (from 1) is where, in the common base."""

    def __init__(self, line: int) -> None:
        super().__init__(f"both changed the lines from {line} on")
        self.line = line


def merge_three(base: str, theirs: str, ours: str) -> str:
    """The text with what changed from ``base`` to ``theirs`` and from ``base`` to ``ours``.

    Line by line, after the three-way merge of Khanna, Kunal & Pierce, "A formal investigation of diff3" (2007):
    stretches that both sides keep hold the text together; between them, the side that changed wins. Raises
    `MergeConflict` when both changed the same stretch differently.
    """
    a, b, c = (t.splitlines(keepends=True) for t in (base, theirs, ours))
    kept_b = _kept(a, b)
    kept_c = _kept(a, c)
    out: list[str] = []
    at_a = at_b = at_c = 0
    anchors = [i for i in range(len(a)) if i in kept_b and i in kept_c]
    for anchor in [*anchors, None]:
        end_a = len(a) if anchor is None else anchor
        end_b = len(b) if anchor is None else kept_b[anchor]
        end_c = len(c) if anchor is None else kept_c[anchor]
        part_a, part_b, part_c = a[at_a:end_a], b[at_b:end_b], c[at_c:end_c]
        if part_b in (part_a, part_c):
            out += part_c
        elif part_c == part_a:
            out += part_b
        else:
            raise MergeConflict(at_a + 1)
        if anchor is not None:
            out.append(a[anchor])
            at_a, at_b, at_c = anchor + 1, end_b + 1, end_c + 1
    return "".join(out)


def _kept(left: list[str], right: list[str]) -> Mapping[int, int]:
    """Lines that both have, as positions in left to positions in right."""
    matcher = difflib.SequenceMatcher(None, left, right, autojunk=False)
    return {block.a + i: block.b + i for block in matcher.get_matching_blocks() for i in range(block.size)}
