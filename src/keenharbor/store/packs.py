"""Pack files: many objects in one file, each readable on its own.

A pack is a run of objects, nothing before, between or behind them. Each object is a 61-byte head and its data:

    4 bytes   the mark ``KHO3`` 32 bytes  BLAKE3 of the object's plain content: its id 1 byte    how the data is stored:
    0 plain, 1 one Zstandard frame, 2 one Zstandard frame with another object's content as its dictionary; that object's
    id (32 bytes) is the beginning of the data 8 bytes   length of the stored data, little-endian 8 bytes   length of
    the plain content, little-endian 8 bytes   the first 8 bytes of BLAKE3 over the head before this and, of a frame,
    the stored data: a frame has bits that change nothing in its content, and a flipped one is to be found all the same
    (of plain data the id tells)

With the mark ``KHO2`` this sum is over the data of plain objects, too; objects with the mark ``KHO1`` have none.

Small objects lie several in one Zstandard frame, a bundle, which is smaller and quicker than a frame of each:

    4 bytes   the mark ``KHB1``
    4 bytes   number of objects, little-endian
    8 bytes   length of the frame, little-endian
    8 bytes   length of its content, little-endian
    36 bytes for each object: its id, and the length of its content, little-endian
    8 bytes   the first 8 bytes of BLAKE3 over all before this and the frame
    then the frame; its content is that of the objects, one behind the other

So an index can always be made anew by walking the heads, and an object can be taken out by hand with ``tail -c +N |
head -c LENGTH | zstd -d`` (``zstd -d -D OTHER`` behind the id for the third kind; from a bundle, the same again of what
comes out)."""

from __future__ import annotations

import os
import struct
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, NamedTuple, Protocol

import zstandard
from blake3 import blake3

from keenharbor.base.durable import PRIVATE_FILE, private_folder, sync_folder
from keenharbor.base.errors import DamagedError

ObjectId = str
"""BLAKE3 of an object's plain content, in lower-case hexadecimal."""

MARK, MARK_ALL_SUMMED, MARK_WITHOUT_SUM = b"KHO3", b"KHO2", b"KHO1"
HEAD = struct.Struct("<4s32sBQQ")
BUNDLE_MARK = b"KHB1"
BUNDLE_HEAD = struct.Struct("<4sIQQ")
MEMBER = struct.Struct("<32sI")
SUM_BYTES = 8
PLAIN, ZSTD, NEAR, BUNDLED = 0, 1, 2, 3
_CODECS = (PLAIN, ZSTD, NEAR)
ID_BYTES = 32
PACK_SIZE = 64 * 1024 * 1024
WORTH_WRITING = 4 * 1024 * 1024
LARGEST_OBJECT = 256 * 1024 * 1024
LEVEL = 1


def object_id(content: bytes) -> ObjectId:
    """The id under which ``content`` is stored."""
    return blake3(content).hexdigest()


class Location(NamedTuple):
    """Where an object's data stands in a pack. Of a bundled one, ``offset`` and ``stored`` are the bundle's frame, of
    which it is ``plain`` bytes from ``start`` in a content of ``whole`` bytes."""

    pack: str
    offset: int
    stored: int
    plain: int
    codec: int
    start: int = 0
    whole: int = 0

    @property
    def space(self) -> int:
        """Bytes that the object takes in its pack; of a bundle, its part (the parts of all add up to the bundle)."""
        if self.codec == BUNDLED:
            shared, whole = BUNDLE_HEAD.size + SUM_BYTES + self.stored, max(self.whole, 1)  # a damaged index may say 0
            end = self.start + self.plain
            return MEMBER.size + shared * end // whole - shared * self.start // whole
        return HEAD.size + SUM_BYTES + self.stored

    def as_json(self) -> tuple[int, ...]:
        """All but the pack, as an index lists it."""
        return self[1:] if self.codec == BUNDLED else self[1:5]


@dataclass(frozen=True)
class Damage:
    """A place in the store that is not what it should be."""

    file: str
    offset: int
    what: str


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

    @property
    def identities(self) -> Sequence[ObjectId]:
        return (self.identity,)


class Bundle(NamedTuple):
    """Small objects ready to be written in one frame: the id and length of each, the frame, and the length of its
    content."""

    members: Sequence[tuple[ObjectId, int]]
    data: bytes
    plain: int

    @property
    def identities(self) -> Sequence[ObjectId]:
        return [identity for identity, _ in self.members]


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


class Packer:
    """Compresses contents as they come, several small ones in one frame; for one thread at a time."""

    def __init__(self, level: int = LEVEL) -> None:
        self._compressor = compressor(level)
        self._packed: list[Packed | Bundle] = []
        self._small: list[tuple[ObjectId, bytes]] = []
        self._small_size = 0
        self.size = 0

    def add(self, identity: ObjectId, content: bytes) -> None:
        """Take in a content; `size` is about what waits to be taken."""
        if 0 < len(content) < _SMALL:
            self._small.append((identity, content))
            self._small_size += len(content)
            self.size += len(content)
            if self._small_size >= _BUNDLE_SIZE:
                self._close_bundle()
        else:
            self.add_packed(pack(identity, content, self._compressor))

    def add_packed(self, item: Packed | Bundle) -> None:
        """Take in what is compressed already."""
        self._packed.append(item)
        self.size += len(item.data)

    def _close_bundle(self) -> None:
        self.size -= self._small_size
        if len(self._small) == 1:
            self.add_packed(pack(*self._small[0], self._compressor))
        elif self._small:
            data = self._compressor.compress(b"".join([c for _, c in self._small]))
            if len(data) < self._small_size:
                self.add_packed(Bundle([(i, len(c)) for i, c in self._small], data, self._small_size))
            else:
                for identity, content in self._small:
                    self.add_packed(Packed(identity, PLAIN, content, len(content)))
        self._small = []
        self._small_size = 0

    def take(self) -> list[Packed | Bundle]:
        """What came since the last time, ready to be written."""
        self._close_bundle()
        packed, self._packed, self.size = self._packed, [], 0
        return packed


_SMALL = 24 * 1024
_BUNDLE_SIZE = 32 * 1024
"""Content from which on a bundle is closed. A larger one hardly compresses better, and all of it has to be read for any
part, and may be lost with a single bit."""


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

    def add(self, items: Iterable[Packed | Bundle]) -> None:
        """Append objects."""
        parts: list[bytes | memoryview] = []
        name, at, locations = self.name, self.size, self.locations
        for item in items:
            data = item.data
            length = len(data)
            if isinstance(item, Bundle):
                members, _, whole = item
                told = [BUNDLE_HEAD.pack(BUNDLE_MARK, len(members), length, whole)]
                told += [MEMBER.pack(bytes.fromhex(identity), plain) for identity, plain in members]
                head = b"".join(told)
                parts += (head + _sum(head, BUNDLED, data), data)
                at += len(head) + SUM_BYTES
                start = 0
                for identity, plain in members:
                    locations[identity] = Location(name, at, length, plain, BUNDLED, start, whole)
                    start += plain
                at += length
                continue
            identity, codec, _, plain = item
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
    """The plain content of an object that is not bundled from its stored ``data``, checked against its id; ``read``
    gives the object that it is stored near to. Raises `DamagedError`."""
    try:
        _check_length(data, location.stored, location.plain)
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
        _check_content(content, location.plain, identity)
    except (ValueError, zstandard.ZstdError) as error:
        raise _damaged(identity, error, file, location) from error
    return content


def open_bundle(location: Location, data: bytes, identity: ObjectId, file: Path) -> bytes:
    """The content of the whole bundle that the object ``identity`` lies in, from its frame. Raises `DamagedError`."""
    try:
        return _opened(location, data)
    except (ValueError, zstandard.ZstdError) as error:
        raise _damaged(identity, error, file, location) from error


def _opened(location: Location, data: bytes) -> bytes:
    """Raises `ValueError` and `zstandard.ZstdError`."""
    _check_length(data, location.stored, location.whole)
    return zstandard.ZstdDecompressor().decompress(data, max_output_size=location.whole)


def member_of(whole: bytes, location: Location, identity: ObjectId, file: Path) -> bytes:
    """An object's content from that of its bundle, checked against its id. Raises `DamagedError`."""
    content = whole[location.start : location.start + location.plain]
    try:
        _check_content(content, location.plain, identity)
    except ValueError as error:
        raise _damaged(identity, error, file, location) from error
    return content


def _check_length(data: bytes, stored: int, plain: int) -> None:
    if len(data) != stored:
        raise ValueError("the file ends early")
    if plain > LARGEST_OBJECT:
        raise ValueError("the stated length is beyond any object's")


def _check_content(content: bytes, plain: int, identity: ObjectId) -> None:
    if len(content) != plain:
        raise ValueError("the stated length is not the content's")
    if object_id(content) != identity:
        raise ValueError("the content is not what was stored")


def _damaged(identity: ObjectId, error: Exception, file: Path, location: Location) -> DamagedError:
    return DamagedError(
        f"object {identity[:12]} is damaged: {error}",
        where=f"{file} at byte {location.offset}",
        advice="run 'keenharbor snapshot verify' to see which snapshots are hurt",
    )


_MOST_PARTS = 1024
"""The system takes no more in one write (IOV_MAX of Linux)."""


def near_of(data: bytes) -> ObjectId:
    """The id of the object that one with the codec `NEAR` is stored near to, from the beginning of its data."""
    return data[:ID_BYTES].hex()


def walk_heads(file: Path) -> Iterator[tuple[ObjectId, Location] | Damage]:
    """Each object that the pack's heads tell of; a `Damage` where the run of objects breaks off."""
    for item in _walk(file):
        if isinstance(item, Damage):
            yield item
        else:
            yield from item.objects


class _Record(NamedTuple):
    """An object or a bundle: what its head tells of, the raw head, and its sum (empty for earlier objects)."""

    objects: Sequence[tuple[ObjectId, Location]]
    head: bytes
    told: bytes

    def sum(self, data: bytes) -> bytes:
        """What ``told`` should be."""
        return _sum(self.head, self.objects[0][1].codec, data)


def _walk(file: Path) -> Iterator[_Record | Damage]:
    end = file.stat().st_size
    with file.open("rb") as pack:
        offset = 0
        while offset < end:
            began = offset
            pack.seek(began)
            mark = pack.read(4)
            pack.seek(began)
            try:
                found = (_bundle_record if mark == BUNDLE_MARK else _object_record)(pack, file.name, began)
            except EOFError:
                yield Damage(file.name, offset, "the file ends within an object's head")
                return
            except ValueError:
                found = None
            if found is not None:
                place = found.objects[0][1]
                offset = place.offset + place.stored
            if found is None or offset > end:
                what = "an object's head is damaged; what follows in this file is out of reach"
                yield Damage(file.name, began, what)
                return
            yield found


def _object_record(pack: BinaryIO, name: str, offset: int) -> _Record:
    """Raises `EOFError` and `ValueError`."""
    raw = pack.read(HEAD.size + SUM_BYTES)
    size = HEAD.size + (0 if raw[:4] == MARK_WITHOUT_SUM else SUM_BYTES)
    if len(raw) < size:
        raise EOFError
    mark, digest, codec, stored, plain = HEAD.unpack(raw[: HEAD.size])
    if mark not in (MARK, MARK_ALL_SUMMED, MARK_WITHOUT_SUM) or codec not in _CODECS:
        raise ValueError(mark)
    place = Location(name, offset + size, stored, plain, codec)
    return _Record([(digest.hex(), place)], raw[: HEAD.size], raw[HEAD.size : size])


def _bundle_record(pack: BinaryIO, name: str, offset: int) -> _Record:
    """Raises `EOFError` and `ValueError`."""
    raw = pack.read(BUNDLE_HEAD.size)
    if len(raw) < BUNDLE_HEAD.size:
        raise EOFError
    _, count, stored, whole = BUNDLE_HEAD.unpack(raw)
    if not 0 < count <= _MOST_MEMBERS:
        raise ValueError(count)
    members = pack.read(count * MEMBER.size)
    told = pack.read(SUM_BYTES)
    if len(told) < SUM_BYTES:
        raise EOFError
    at = offset + len(raw) + len(members) + SUM_BYTES
    objects = []
    start = 0
    for digest, plain in MEMBER.iter_unpack(members):
        objects.append((digest.hex(), Location(name, at, stored, plain, BUNDLED, start, whole)))
        start += plain
    if start != whole:
        raise ValueError(whole)
    return _Record(objects, raw + members, told)


_MOST_MEMBERS = 1 << 20
"""What says more of a bundle is damaged. Of the form, whatever size bundles are made in."""


def check_pack(file: Path, read: Callable[[ObjectId], bytes] | None = None) -> Iterator[ObjectId | Damage]:
    """Read the whole pack again: the id of each object whose content is sound, and a `Damage` for each object or frame
    that is not as it was stored (its contents may be sound all the same). ``read`` gives objects that others are stored
    near to."""
    with file.open("rb") as pack:
        for record in _walk(file):
            if isinstance(record, Damage):
                yield record
                continue
            location = record.objects[0][1]
            pack.seek(location.offset)
            data = pack.read(location.stored)
            otherwise = bool(record.told) and record.told != record.sum(data)
            if location.codec == BUNDLED:
                yield from _check_bundle(record.objects, data, otherwise, file)
            else:
                yield from _check_object(*record.objects[0], data, otherwise, file, read)


def _check_object(
    identity: ObjectId, location: Location, data: bytes, otherwise: bool, file: Path,
    read: Callable[[ObjectId], bytes] | None,
) -> Iterator[ObjectId | Damage]:  # fmt: skip
    """``otherwise``: its sum does not fit."""
    try:
        unpack(location, data, identity, file, read)
    except DamagedError as error:
        yield Damage(file.name, location.offset, error.what)
        return
    if otherwise:
        what = f"object {identity[:12]} is not stored as it was, though its content can still be read"
        yield Damage(file.name, location.offset, what)
    yield identity


def _check_bundle(
    objects: Sequence[tuple[ObjectId, Location]], data: bytes, otherwise: bool, file: Path
) -> Iterator[ObjectId | Damage]:
    """One `Damage` for all that lie in the frame; ``otherwise``: its sum does not fit."""
    location = objects[0][1]
    try:
        whole = _opened(location, data)
    except (ValueError, zstandard.ZstdError) as error:
        yield Damage(file.name, location.offset, f"{len(objects)} objects in one frame are damaged: {error}")
        return
    sound = [i for i, place in objects if object_id(whole[place.start : place.start + place.plain]) == i]
    wrong = len(objects) - len(sound)
    if wrong:
        what = f"{wrong} of {len(objects)} objects in one frame are damaged: the content is not what was stored"
        yield Damage(file.name, location.offset, what)
    elif otherwise:
        what = f"{len(objects)} objects in one frame are not stored as they were, though they can still be read"
        yield Damage(file.name, location.offset, what)
    yield from sound
