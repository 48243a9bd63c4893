"""Pack files: many objects in one file, each readable on its own.

A pack is a run of objects, nothing before, between or behind them. Each object is a 61-byte head and its data:

    4 bytes   the mark ``KHO3``
    32 bytes  BLAKE3 of the object's plain content: its id
    1 byte    how the data is stored: 0 plain, 1 one Zstandard frame, 2 one Zstandard frame with another object's content
              as its dictionary; that object's id (32 bytes) is the beginning of the data
    8 bytes   length of the stored data, little-endian
    8 bytes   length of the plain content, little-endian
    8 bytes   the first 8 bytes of BLAKE3 over the head before this and, of a frame, the stored data: a frame has bits that
              change nothing in its content, and a flipped one is to be found all the same (of plain data the id tells)

With the mark ``KHO2`` this sum is over the data of plain objects, too; objects with the mark ``KHO1`` have none. So an index can
always be made anew by walking the heads, and an object can be taken out by hand with ``tail -c +N | head -c LENGTH | zstd -d``
(``zstd -d -D OTHER`` behind the id for the third kind).
"""

from __future__ import annotations

import os
import struct
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple, Protocol

import zstandard
from blake3 import blake3

from keenharbor.base.durable import PRIVATE_FILE, private_folder, sync_folder
from keenharbor.base.errors import DamagedError

ObjectId = str
"""BLAKE3 of an object's plain content, in lower-case hexadecimal."""

MARK, MARK_ALL_SUMMED, MARK_WITHOUT_SUM = b"KHO3", b"KHO2", b"KHO1"
HEAD = struct.Struct("<4s32sBQQ")
SUM_BYTES = 8
PLAIN, ZSTD, NEAR = 0, 1, 2
_CODECS = (PLAIN, ZSTD, NEAR)
ID_BYTES = 32
PACK_SIZE = 64 * 1024 * 1024
LARGEST_OBJECT = 256 * 1024 * 1024
LEVEL = 1


def object_id(content: bytes) -> ObjectId:
    """The id under which ``content`` is stored."""
    return blake3(content).hexdigest()


class Location(NamedTuple):
    """Where an object's data stands in a pack."""

    pack: str
    offset: int
    stored: int
    plain: int
    codec: int

    @property
    def head(self) -> int:
        """Bytes that the object takes beside its data."""
        return HEAD.size + SUM_BYTES


@dataclass(frozen=True)
class Damage:
    """A place in the store that is not what it should be; ``object`` is known where a head could be read."""

    file: str
    offset: int
    what: str
    object: ObjectId | None = None


class ObjectSource(Protocol):
    """Gives objects by their ids."""

    def has(self, wanted: ObjectId) -> bool: ...

    def read(self, wanted: ObjectId) -> bytes: ...


class Packed(NamedTuple):
    """An object ready to be written: how it is stored, its data, and the length of its content."""

    identity: ObjectId
    codec: int
    data: bytes
    plain: int


def pack_all(contents: Mapping[ObjectId, bytes], level: int = LEVEL) -> list[Packed]:
    """Compress contents, in one call of the library: other threads run meanwhile, which they would hardly do between many
    short ones. Plain where it does not help."""
    if not contents:
        return []
    sampler = compressor(level)
    plain = [i for i, c in contents.items() if not c or _looks_packed(c, sampler)]
    if plain:  # the library takes no empty ones
        others = {i: c for i, c in contents.items() if i not in set(plain)}
        return [Packed(i, PLAIN, contents[i], len(contents[i])) for i in plain] + pack_all(others, level)
    packed = sampler.multi_compress_to_buffer(list(contents.values()), threads=1)
    made = []
    for number, (identity, content) in enumerate(contents.items()):
        data = packed[number].tobytes()
        made.append(
            Packed(identity, ZSTD, data, len(content))
            if len(data) < len(content)
            else Packed(identity, PLAIN, content, len(content))
        )
    return made


def compressor(level: int) -> zstandard.ZstdCompressor:
    """What `pack` compresses with; for one thread at a time."""
    return zstandard.ZstdCompressor(level=level, write_content_size=True)


def pack(identity: ObjectId, content: bytes, compressor: zstandard.ZstdCompressor) -> Packed:
    """Compress one content, where that helps."""
    if content and not _looks_packed(content, compressor):
        data = compressor.compress(content)
        if len(data) < len(content):
            return Packed(identity, ZSTD, data, len(content))
    return Packed(identity, PLAIN, content, len(content))


_WORTH_A_SAMPLE = 48 * 1024
_SAMPLE = 4 * 1024
_SAVES_HARDLY = 0.97


def _looks_packed(content: bytes, compressor: zstandard.ZstdCompressor) -> bool:
    """Whether samples from the middle and from near the end say that ``content`` is compressed already (a picture, an
    archive): trying it all would cost time for nothing."""
    if len(content) < _WORTH_A_SAMPLE:
        return False
    view = memoryview(content)
    starts = (len(content) // 2, len(content) - 2 * _SAMPLE)
    return all(len(compressor.compress(view[at : at + _SAMPLE])) > _SAVES_HARDLY * _SAMPLE for at in starts)


def pack_near(identity: ObjectId, content: bytes, base: ObjectId, base_content: bytes) -> Packed | None:
    """Compress ``content`` with the object ``base`` as its dictionary (raw content,
    https://www.rfc-editor.org/rfc/rfc8878#section-5); None where that does not save much."""
    dictionary = zstandard.ZstdCompressionDict(base_content, dict_type=zstandard.DICT_TYPE_RAWCONTENT)
    data = zstandard.ZstdCompressor(level=3, dict_data=dictionary).compress(content)
    if ID_BYTES + len(data) < len(content) // 4:
        return Packed(identity, NEAR, bytes.fromhex(base) + data, len(content))
    return None


def _sum(head: bytes, codec: int, data: bytes) -> bytes:
    digest = blake3(head)
    if codec != PLAIN or not head.startswith(MARK):
        digest.update(data)
    return digest.digest(SUM_BYTES)


class PackWriter:
    """Appends objects to a new pack; nothing is visible in the store before `seal`.

    One writer belongs to one run; two runs write two packs. Compression is kept only where it helps.
    """

    def __init__(self, folder: Path, staging: Path, number: int) -> None:
        self._folder = folder
        self.name = f"{os.urandom(10).hex()}.pack"
        self._part = staging / f"{os.getpid()}-{number}-{self.name}.part"
        private_folder(staging)
        descriptor = os.open(self._part, os.O_WRONLY | os.O_CREAT | os.O_EXCL, PRIVATE_FILE)
        self._out = os.fdopen(descriptor, "wb", buffering=0)
        self.size = 0
        self.locations: dict[ObjectId, Location] = {}

    def add(self, items: Sequence[Packed]) -> None:
        """Append objects."""
        parts: list[bytes | memoryview] = []
        name, at, locations = self.name, self.size, self.locations
        for identity, codec, data, plain in items:
            length = len(data)
            head = HEAD.pack(MARK, bytes.fromhex(identity), codec, length, plain)
            parts += (head + _sum(head, codec, data), data)
            at += HEAD.size + SUM_BYTES
            locations[identity] = Location(name, at, length, plain, codec)
            at += length
        self.size = at
        while parts:
            written = os.writev(self._out.fileno(), parts[:_MOST_PARTS])
            while parts and written >= len(parts[0]):
                written -= len(parts.pop(0))
            if parts and written:
                parts[0] = memoryview(parts[0])[written:]

    def seal(self) -> Path:
        """Force the pack to disk and give it its name in the store."""
        os.fsync(self._out.fileno())
        self._out.close()
        final = private_folder(self._folder / self.name[:2]) / self.name
        self._part.replace(final)
        sync_folder(final.parent)
        sync_folder(self._folder)
        return final

    def discard(self) -> None:
        """Throw away what was written."""
        self._out.close()
        self._part.unlink(missing_ok=True)


def unpack(
    location: Location, data: bytes, identity: ObjectId, file: Path, read: Callable[[ObjectId], bytes] | None = None
) -> bytes:
    """The plain content of an object from its stored ``data``, checked against its id; ``read`` gives the object that
    it is stored near to. Raises `DamagedError`."""
    try:
        if len(data) != location.stored:
            raise ValueError("the file ends early")
        if location.plain > LARGEST_OBJECT:
            raise ValueError("the stated length is beyond any object's")
        if location.codec == PLAIN:
            content = data
        elif location.codec == ZSTD:
            content = zstandard.ZstdDecompressor().decompress(data, max_output_size=location.plain)
        else:
            if read is None:
                raise ValueError("the object that it is stored near to is out of reach")
            dictionary = zstandard.ZstdCompressionDict(read(near_of(data)), dict_type=zstandard.DICT_TYPE_RAWCONTENT)
            content = zstandard.ZstdDecompressor(dict_data=dictionary).decompress(
                data[ID_BYTES:], max_output_size=location.plain
            )
        if len(content) != location.plain:
            raise ValueError("the stated length is not the content's")
        if object_id(content) != identity:
            raise ValueError("the content is not what was stored")
    except (ValueError, zstandard.ZstdError) as error:
        raise DamagedError(
            f"object {identity[:12]} is damaged: {error}",
            where=f"{file} at byte {location.offset}",
            advice="run 'keenharbor snapshot verify' to see which snapshots are hurt",
        ) from error
    return content


_MOST_PARTS = 1024
"""The system takes no more in one write (IOV_MAX of Linux)."""


def near_of(data: bytes) -> ObjectId:
    """The id of the object that one with the codec `NEAR` is stored near to, from the beginning of its data."""
    return data[:ID_BYTES].hex()


def walk_heads(file: Path) -> Iterator[tuple[ObjectId, Location] | Damage]:
    """Each object that the pack's heads tell of; a `Damage` where the run of objects breaks off."""
    for item in _walk(file):
        yield item if isinstance(item, Damage) else item[:2]


def _walk(file: Path) -> Iterator[tuple[ObjectId, Location, bytes, bytes] | Damage]:
    """As `walk_heads`, with the raw head and its sum (empty for earlier objects)."""
    end = file.stat().st_size
    with file.open("rb") as pack:
        offset = 0
        while offset < end:
            pack.seek(offset)
            raw = pack.read(HEAD.size + SUM_BYTES)
            size = HEAD.size + (0 if raw[:4] == MARK_WITHOUT_SUM else SUM_BYTES)
            if len(raw) < size:
                yield Damage(file.name, offset, "the file ends within an object's head")
                return
            head, told = raw[: HEAD.size], raw[HEAD.size : size]
            mark, digest, codec, stored, plain = HEAD.unpack(head)
            if (
                mark not in (MARK, MARK_ALL_SUMMED, MARK_WITHOUT_SUM)
                or codec not in _CODECS
                or offset + size + stored > end
            ):
                yield Damage(
                    file.name, offset, "an object's head is damaged; what follows in this file is out of reach"
                )
                return
            yield digest.hex(), Location(file.name, offset + size, stored, plain, codec), head, told
            offset += size + stored


def check_pack(file: Path, read: Callable[[ObjectId], bytes] | None = None) -> Iterator[ObjectId | Damage]:
    """Read the whole pack again: the id of each sound object, a `Damage` for each that is not. ``read`` gives objects
    that others are stored near to."""
    with file.open("rb") as pack:
        for item in _walk(file):
            if isinstance(item, Damage):
                yield item
                continue
            identity, location, head, told = item
            pack.seek(location.offset)
            data = pack.read(location.stored)
            try:
                unpack(location, data, identity, file, read)
            except DamagedError as error:
                yield Damage(file.name, location.offset, error.what, identity)
                continue
            if told and told != _sum(head, location.codec, data):
                what = f"object {identity[:12]} is not stored as it was, though its content can still be read"
                yield Damage(file.name, location.offset, what, identity)
                continue
            yield identity
