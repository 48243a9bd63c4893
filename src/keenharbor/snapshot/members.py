"""The members of an archive as they stand in it, whatever form it has."""

from __future__ import annotations

import contextlib
import gzip
import os
import shutil
import stat
import tarfile
import tempfile
import zipfile
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any, Literal, cast

import zstandard

from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.host import PIECE_SIZE
from keenharbor.snapshot import agefile
from keenharbor.snapshot.archive import LARGEST_HEAD, PART
from keenharbor.snapshot.sealed import PartsReader, Unsealer

_ZSTD, _GZIP, _ZIP, _SEALED = b"\x28\xb5\x2f\xfd", b"\x1f\x8b", b"PK\x03\x04", b'{"form'


@dataclass(frozen=True)
class Member:
    """A member as it stands in an archive."""

    name: str
    kind: Literal["file", "folder", "link", "same"]
    size: int
    target: str
    read: Callable[[int], bytes]


class Refused(DamagedError):
    """An archive that is not what it says."""


def pieces_of_member(member: Member) -> Iterator[bytes]:
    left = member.size
    while left > 0:
        piece = b""
        while len(piece) < min(PIECE_SIZE, left) and (data := member.read(min(PIECE_SIZE, left) - len(piece))):
            piece += data
        if not piece:
            raise Refused(f"{member.name} breaks off")
        left -= len(piece)
        yield piece


def members_of(files: Sequence[Path], passphrase: str | None) -> Iterator[Member]:
    with contextlib.closing(PartsReader(files)) as raw:
        stream = _Peeked(raw)
        in_age = stream.begins_with(agefile.MARK)
        if in_age or stream.begins_with(_SEALED):
            if passphrase is None:
                raise UsageError(
                    "the archive is sealed", where=files[0], advice="give its passphrase with --passphrase-file"
                )
            opener = agefile.Unsealer if in_age else Unsealer
            stream = _Peeked(opener(cast("IO[bytes]", stream), passphrase))
        if stream.begins_with(_ZIP):
            yield from _zip_members(stream)
        elif stream.begins_with(_ZSTD):
            source = cast("IO[bytes]", stream)
            with zstandard.ZstdDecompressor(max_window_size=1 << 27).stream_reader(
                source, read_across_frames=True
            ) as plain:
                yield from _tar_members(cast("IO[bytes]", plain))
        elif stream.begins_with(_GZIP):
            with gzip.GzipFile(fileobj=cast("IO[bytes]", stream)) as plain_gzip:
                yield from _tar_members(cast("IO[bytes]", plain_gzip))
        else:
            raise Refused("it is neither a tar archive (zstd or gzip) nor a zip archive")


_LONGEST_MARK = 32


class _Peeked:
    """A stream of which the beginning can be seen before it is read."""

    def __init__(self, below: Any) -> None:
        self._below = below
        self._held = bytes(below.read(_LONGEST_MARK))

    def begins_with(self, mark: bytes) -> bool:
        return self._held.startswith(mark)

    def read(self, count: int = -1) -> bytes:
        if not self._held:
            return bytes(self._below.read(count))
        held = self._held if count < 0 else self._held[:count]
        self._held = self._held[len(held) :]
        return held + (bytes(self._below.read(-1)) if count < 0 else b"")

    def readline(self, limit: int) -> bytes:
        line = b""
        while len(line) < limit and not line.endswith(b"\n") and (byte := self.read(1)):
            line += byte
        return line

    def seekable(self) -> bool:
        return False


class _BoundedInfo(tarfile.TarInfo):
    """A member's head of a sensible size: the library holds extended heads in memory as a whole."""

    def _proc_member(self, archive: tarfile.TarFile) -> tarfile.TarInfo:
        if (
            self.type not in (*tarfile.REGULAR_TYPES, tarfile.DIRTYPE, tarfile.SYMTYPE, tarfile.LNKTYPE)
            and self.size > LARGEST_HEAD
        ):
            raise Refused("a member's head is of no sensible size")
        made: tarfile.TarInfo = super()._proc_member(archive)  # type: ignore[misc]
        return made


def _tar_members(plain: IO[bytes]) -> Iterator[Member]:
    with tarfile.open(fileobj=plain, mode="r|", errors="surrogateescape", tarinfo=_BoundedInfo) as archive:
        for info in archive:
            if info.isreg():
                content = archive.extractfile(info)
                assert content is not None
                yield Member(info.name, "file", info.size, "", content.read)
            elif info.isdir():
                yield Member(info.name.rstrip("/"), "folder", 0, "", lambda n: b"")
            elif info.issym():
                yield Member(info.name, "link", 0, info.linkname, lambda n: b"")
            elif info.islnk():
                yield Member(info.name, "same", 0, info.linkname, lambda n: b"")
            else:
                raise Refused(f"{info.name} is a device, a pipe or the like")
    # The archive's reader stops at its end; what decompresses must have come to its own, where the sums are.
    while plain.read(PART):
        pass


def _zip_members(stream: Any) -> Iterator[Member]:
    with tempfile.TemporaryFile() as whole:
        shutil.copyfileobj(stream, whole)
        with zipfile.ZipFile(whole) as archive:
            for info in archive.infolist():
                kind = stat.S_IFMT(info.external_attr >> 16)
                name = info.filename
                if info.is_dir():
                    yield Member(name.rstrip("/"), "folder", 0, "", lambda n: b"")
                    continue
                with archive.open(info) as content:
                    if kind == stat.S_IFLNK:
                        if info.file_size > 4096:
                            raise Refused(f"{name} is a link of no sensible length")
                        yield Member(name, "link", 0, os.fsdecode(content.read()), lambda n: b"")
                    elif kind in (0, stat.S_IFREG):
                        yield Member(name, "file", info.file_size, "", content.read)
                    else:
                        raise Refused(f"{name} is a device, a pipe or the like")
