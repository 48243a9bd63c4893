"""Parcels: what travels to a place.

A parcel is an age file around a tar archive (ustar) of files of the store, as they stand there; a pack that does not
fit into one is cut, ``packs/ab/ab….pack.00000`` and so on. So ``age -d -i KEY PARCEL | tar -x`` gives the store back
without this tool. Behind the archive's end stand zeros, up to the next length of Padmé (Nikitin, Barman, Lueks,
Underwood, Hubaux, Ford, "Reducing metadata leakage from encrypted files and communication with PURBs", PETS 2019): the
sizes in a place tell next to nothing, at a cost of at most an eighth for small ones and three in a hundred for large
ones."""

from __future__ import annotations

import io
import re
import tarfile
from collections.abc import Container, Iterable, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from blake3 import blake3

from keenharbor.base.errors import DamagedError
from keenharbor.place.keys import seal_for

PARCEL = 8 * 1024 * 1024
"""Bytes of content from which on a parcel is closed: what a cut line makes go twice."""
LARGEST_SEALED = 64 * 1024 * 1024
_PATH = re.compile(
    r"(packs/[0-9a-f]{2}/[0-9a-f]{20}\.pack(\.[0-9]{5})?|(snapshots|records)/[A-Za-z0-9._-]{1,100}\.json"
    r"|papers/[A-Za-z0-9_-][A-Za-z0-9._ -]{0,98}|state\.(json|signature))",
    re.ASCII,
)


class Member(NamedTuple):
    """A file of the store in a parcel, or the part of one: its path there, how many bytes, their BLAKE3; which part of
    how many."""

    path: str
    size: int
    sum: str
    part: int = 0
    parts: int = 1

    @property
    def name(self) -> str:
        """As the archive has it."""
        return self.path if self.parts == 1 else f"{self.path}.{self.part:05d}"


Piece = tuple[Member, bytes]


def padded(length: int) -> int:
    """The next length that Padmé allows."""
    if length < 2:
        return length
    exponent = length.bit_length() - 1
    mask = (1 << (exponent - exponent.bit_length())) - 1
    return (length + mask) & ~mask


def piece_of(path: str, content: bytes, part: int = 0, parts: int = 1) -> Piece:
    """A member with its content."""
    return Member(path, len(content), blake3(content).hexdigest(), part, parts), content


def pieces_of(file: Path, path: str, largest: int, done: Container[tuple[str, int, int]] = ()) -> Iterator[Piece]:
    """A file of the store, in pieces of at most ``largest`` bytes; those that are ``done`` (by path, part, parts) are
    not even read."""
    parts = max(1, -(-file.stat().st_size // largest))
    with file.open("rb") as source:
        for part in range(parts):
            if (path, part, parts) not in done:
                source.seek(part * largest)
                yield piece_of(path, source.read(largest), part, parts)


def grouped(pieces: Iterable[Piece], largest: int) -> Iterator[list[Piece]]:
    """Pieces for one parcel each."""
    group: list[Piece] = []
    size = 0
    for piece in pieces:
        if group and size + piece[0].size > largest:
            yield group
            group, size = [], 0
        group.append(piece)
        size += piece[0].size
    if group:
        yield group


def sealed_parcel(pieces: Sequence[Piece], *recipients: str) -> bytes:
    """The parcel of these pieces."""
    parts: list[bytes] = []
    for member, content in pieces:
        item = tarfile.TarInfo(member.name)
        item.size, item.mode = member.size, 0o600
        parts += (item.tobuf(tarfile.USTAR_FORMAT), content, bytes(-member.size % tarfile.BLOCKSIZE))
    length = sum(map(len, parts))
    parts.append(bytes(padded(length + 2 * tarfile.BLOCKSIZE) - length))
    return seal_for(b"".join(parts), *recipients)


def opened_parcel(plain: bytes, members: Iterable[Member]) -> Iterator[Piece]:
    """What a parcel holds, each held against what it is to be. Raises `DamagedError` for anything else in it: what
    comes from a place is trusted in nothing."""
    wanted = {m.name: m for m in members}
    for name, content in files_in(plain):
        member = wanted.pop(name, None)
        if member is None:
            raise DamagedError(f"a parcel holds '{name}', which is not listed")
        if len(content) != member.size or blake3(content).hexdigest() != member.sum:
            raise DamagedError(f"'{name}' is not what was sent")
        yield member, content
    if wanted:
        raise DamagedError(f"a parcel lacks '{next(iter(wanted))}'")


def files_in(plain: bytes) -> Iterator[tuple[str, bytes]]:
    """The files of a parcel's archive. Raises `DamagedError`."""
    try:
        with tarfile.open(fileobj=io.BytesIO(plain), mode="r:") as tar:
            for item in tar:
                source = tar.extractfile(item) if item.isreg() else None
                if source is None or not _PATH.fullmatch(item.name):
                    raise DamagedError("a parcel holds what no store has")
                yield item.name, source.read()
    except (tarfile.TarError, ValueError, EOFError, OSError) as error:
        raise DamagedError(f"a parcel cannot be read: {error}") from None
