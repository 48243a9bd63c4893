"""Writing tar archives of very many small files (POSIX.1-2001, "pax Interchange Format").

The standard library makes the same headers, one attribute at a time; for a site of 100,000 files that takes longer than
reading and compressing them. What is usual here is put together in one go; a name that is long or not ASCII, a size of
many gigabytes: the library makes those headers."""

from __future__ import annotations

import tarfile
from collections.abc import Iterable
from typing import Protocol

BLOCK = 512
_HELD = 256 * 1024
_END = 20 * BLOCK
_FILE, _LINK, _SYMLINK, _FOLDER, _PAX = b"0", b"1", b"2", b"5", b"x"
_PAX_NAME = b"././@PaxHeader"
_LARGEST = 8**11


class _Out(Protocol):
    def write(self, data: bytes) -> object: ...


class Tarball:
    """Writes members to ``out``, one behind the other. Owners go by number; times have nanoseconds."""

    def __init__(self, out: _Out) -> None:
        self._out = out
        self._held = bytearray()
        self._written = 0

    def file(
        self, name: str, size: int, content: Iterable[bytes], mode: int, uid: int = 0, gid: int = 0, mtime_ns: int = 0
    ) -> None:  # fmt: skip
        """A file of ``size`` bytes; ``content`` must have as many."""
        self._put(_headers(name, mode, uid, gid, size, mtime_ns, _FILE, ""))
        came = 0
        for piece in content:
            came += len(piece)
            self._put(piece)
        if came != size:
            raise OSError(f"a member of an archive has {came} bytes instead of {size}")
        self._put(bytes(-size % BLOCK))

    def folder(self, name: str, mode: int, uid: int, gid: int, mtime_ns: int) -> None:
        """A folder."""
        self._put(_headers(f"{name}/", mode, uid, gid, 0, mtime_ns, _FOLDER, ""))

    def link(
        self, name: str, target: str, mode: int, uid: int, gid: int, mtime_ns: int, *, hard: bool = False
    ) -> None:  # fmt: skip
        """A link to ``target``: a symbolic one, or one more name of an earlier member."""
        self._put(_headers(name, mode, uid, gid, 0, mtime_ns, _LINK if hard else _SYMLINK, target))

    def close(self) -> None:
        """Write the end."""
        self._put(bytes(2 * BLOCK))
        self._put(bytes(-self._written % _END))
        self._flush()

    def _put(self, data: bytes) -> None:
        self._written += len(data)
        self._held += data
        if len(self._held) >= _HELD:
            self._flush()

    def _flush(self) -> None:
        self._out.write(bytes(self._held))
        self._held.clear()


def _headers(
    name: str, mode: int, uid: int, gid: int, size: int, mtime_ns: int, kind: bytes, target: str
) -> bytes:  # fmt: skip
    whole, rest = divmod(mtime_ns, 1_000_000_000)
    plain = (
        name.isascii() and target.isascii() and len(target) <= 100 and "\0" not in name
        and 0 <= size < _LARGEST and 0 <= whole < _LARGEST and 0 <= uid < 8**7 and 0 <= gid < 8**7
    )  # fmt: skip
    split = _split(name) if plain else None
    if split is None:
        return _by_library(name, mode, uid, gid, size, whole, rest, kind, target)
    made = b""
    if rest:
        record = _record(f"mtime={whole}.{rest:09d}")
        made = _header(_PAX_NAME, b"", 0, 0, 0, len(record), 0, _PAX, b"") + record + bytes(-len(record) % BLOCK)
    return made + _header(*split, mode, uid, gid, size, whole, kind, target.encode("ascii"))


def _split(name: str) -> tuple[bytes, bytes] | None:
    """Name and prefix as the header has them; None for one that does not fit."""
    data = name.encode("ascii")
    if len(data) <= 100:
        return data, b""
    at = data.find(b"/", len(data) - 101)
    if at < 1 or at > 155 or at == len(data) - 1:
        return None
    return data[at + 1 :], data[:at]


def _record(said: str) -> bytes:
    """``LENGTH KEY=VALUE``, the length counting itself."""
    rest = f" {said}\n"
    length = len(rest) + 2
    while len(f"{length}{rest}") != length:
        length = len(f"{length}{rest}")
    return f"{length}{rest}".encode("ascii")


def _header(
    name: bytes, prefix: bytes, mode: int, uid: int, gid: int, size: int, mtime: int, kind: bytes, target: bytes
) -> bytes:  # fmt: skip
    block = b"%b%07o\0%07o\0%07o\0%011o\0%011o\0        %b%bustar\00000%b%07o\0%07o\0%b" % (
        name.ljust(100, b"\0"), mode & 0o7777, uid, gid, size, mtime, kind, target.ljust(100, b"\0"), bytes(64), 0, 0,
        prefix.ljust(167, b"\0"),
    )  # fmt: skip
    return b"%b%06o\0%b" % (block[:148], sum(block), block[155:])


def _by_library(
    name: str, mode: int, uid: int, gid: int, size: int, whole: int, rest: int, kind: bytes, target: str
) -> bytes:  # fmt: skip
    info = tarfile.TarInfo(name.rstrip("/"))
    info.mode, info.uid, info.gid, info.size, info.mtime, info.type = mode, uid, gid, size, whole, kind
    info.linkname = target
    if rest:
        info.pax_headers = {"mtime": f"{whole}.{rest:09d}"}
    return info.tobuf(tarfile.PAX_FORMAT, "utf-8", "surrogateescape")
