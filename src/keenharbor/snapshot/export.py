"""A snapshot as one portable file of open formats, and back.

In the archive, in this order: ``manifest.json``, ``README.txt``, ``rows/N.lines`` (each table as the store keeps it),
``database/NAME.sql``, ``csv/TABLE.csv`` on demand, ``files/…``, ``SHA256SUMS``. An archive that comes back is hostile
until proven otherwise: it is read as a whole and checked against its own manifest before anything is written."""

from __future__ import annotations

import contextlib
import hashlib
import os
import stat
import tempfile
import threading
import time
import zipfile
import zlib
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any, Protocol, cast

import zstandard

from keenharbor import __version__
from keenharbor.base.errors import UsageError
from keenharbor.base.jsontext import indented_json
from keenharbor.base.progress import Progress
from keenharbor.database import sql_text
from keenharbor.database.kinds import NO_ENGINE
from keenharbor.snapshot.agefile import Sealer
from keenharbor.snapshot.archive import ARCHIVE_FORM, PART, ArchiveForm
from keenharbor.snapshot.lists import with_lists
from keenharbor.snapshot.manifest import Snapshot
from keenharbor.snapshot.plaintext import client_hint, csv_text, file_name
from keenharbor.snapshot.sealed import PartsWriter, Sink
from keenharbor.snapshot.tarball import Tarball
from keenharbor.tree import Entry


@dataclass(frozen=True)
class ExportOptions:
    """The archive's form; parts of at most ``part_size`` bytes; sealed with ``passphrase``; ``csv`` of these tables
    (``*`` for all); ``level`` of compression."""

    form: ArchiveForm = "tar.zst"
    part_size: int | None = None
    passphrase: str | None = None
    csv: Sequence[str] = ()
    level: int = 1


@dataclass(frozen=True)
class Exported:
    """The files that were written, in order; members and bytes within; bytes of the files."""

    files: tuple[Path, ...]
    members: int
    plain_bytes: int
    bytes: int


_MOST_AHEAD = 8
"""So many parts may wait for their sums."""


class _Digest(Protocol):
    def update(self, data: bytes, /) -> None: ...
    def hexdigest(self) -> str: ...


class _Members(contextlib.AbstractContextManager["_Members"]):
    """Takes the members of an archive; the forms differ below it."""

    def __init__(self) -> None:
        self._digests: list[tuple[str, _Digest]] = []
        self._hashing = ThreadPoolExecutor(1)
        self._ahead = threading.BoundedSemaphore(_MOST_AHEAD)
        self._waiting: list[tuple[_Digest, bytes]] = []
        self._waiting_bytes = 0
        self.plain_bytes = 0

    def add(self, name: str, size: int, content: Iterator[bytes], entry: Entry | None = None) -> None:
        """A file of ``size`` bytes. Its checksum is noted."""
        digest = hashlib.sha256()

        def read() -> Iterator[bytes]:
            for piece in content:
                self._hash(digest, piece)
                yield piece

        self._write(name, size, read(), entry)
        self._digests.append((name, digest))

    def _hash(self, digest: _Digest, piece: bytes) -> None:
        """Have it summed up beside the packing: that takes as long as reading and compressing."""
        self.plain_bytes += len(piece)
        self._waiting.append((digest, piece))
        self._waiting_bytes += len(piece)
        if self._waiting_bytes >= PART:
            self._hand_over()

    def _hand_over(self) -> None:
        self._ahead.acquire()
        self._hashing.submit(self._sum_up, self._waiting)
        self._waiting, self._waiting_bytes = [], 0

    def _sum_up(self, pieces: Sequence[tuple[_Digest, bytes]]) -> None:
        try:
            for digest, piece in pieces:
                digest.update(piece)
        finally:
            self._ahead.release()

    def sums(self) -> list[tuple[str, str]]:
        """The SHA-256 of each member so far, and its name."""
        self._hand_over()
        self._hashing.submit(int).result()  # behind all others
        return [(digest.hexdigest(), name) for name, digest in self._digests]

    def close(self) -> None:
        """No member comes any more."""
        self._hashing.shutdown()

    def _write(self, name: str, size: int, content: Iterator[bytes], entry: Entry | None) -> None:
        raise NotImplementedError

    def add_other(self, name: str, entry: Entry) -> None:
        """A folder, a symbolic or a hard link."""
        raise NotImplementedError


class _TarMembers(_Members):
    def __init__(self, below: Sink, form: ArchiveForm, level: int) -> None:
        super().__init__()
        self._below = below
        self._packed: Any
        if form == "tar.zst":
            threads = min(4, os.cpu_count() or 1)
            self._packed = zstandard.ZstdCompressor(level=level, threads=threads, write_checksum=True).stream_writer(
                cast("IO[bytes]", below), closefd=False
            )
        else:
            self._packed = _GzipWriter(below, min(level, 9))
        self._tar = Tarball(self._packed)

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        if kind is None:
            self._tar.close()
            self._packed.close()

    def _write(self, name: str, size: int, content: Iterator[bytes], entry: Entry | None) -> None:
        if entry is None:
            self._tar.file(name, size, content, 0o600)
        else:
            self._tar.file(name, size, content, entry.mode, *_owner(entry), entry.mtime_ns)

    def add_other(self, name: str, entry: Entry) -> None:
        if entry.kind == "folder":
            self._tar.folder(name, entry.mode, *_owner(entry), entry.mtime_ns)
            return
        hard = entry.kind != "link"
        target = f"files/{entry.same_as}" if hard else entry.target or ""
        self._tar.link(name, target, entry.mode, *_owner(entry), entry.mtime_ns, hard=hard)


def _owner(entry: Entry) -> tuple[int, int]:
    return max(entry.uid, 0), max(entry.gid, 0)


class _GzipWriter:
    def __init__(self, below: Sink, level: int) -> None:
        self._below = below
        self._packer = zlib.compressobj(level, zlib.DEFLATED, 31)

    def write(self, data: bytes) -> int:
        self._below.write(self._packer.compress(data))
        return len(data)

    def close(self) -> None:
        self._below.write(self._packer.flush())


class _ZipMembers(_Members):
    def __init__(self, below: Sink, level: int) -> None:
        super().__init__()
        self._zip = zipfile.ZipFile(
            cast("IO[bytes]", _Unseekable(below)), "w", zipfile.ZIP_DEFLATED, compresslevel=min(level, 9)
        )

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        if kind is None:
            self._zip.close()

    def _info(self, name: str, entry: Entry | None, kind: int) -> zipfile.ZipInfo:
        moment = (entry.mtime_ns // 1_000_000_000) if entry is not None else 315_532_800
        year, *rest = time.gmtime(max(moment, 315_532_800))[:6]
        info = zipfile.ZipInfo(name, (min(year, 2107), *rest))  # type: ignore[arg-type]
        info.create_system = 3
        info.external_attr = (kind | (0o600 if entry is None else entry.mode)) << 16
        info.compress_type = zipfile.ZIP_DEFLATED
        return info

    def _write(self, name: str, size: int, content: Iterator[bytes], entry: Entry | None) -> None:
        with self._zip.open(self._info(name, entry, stat.S_IFREG), "w", force_zip64=size > 1 << 30) as out:
            for piece in content:
                out.write(piece)

    def add_other(self, name: str, entry: Entry) -> None:
        if entry.kind == "folder":
            self._zip.writestr(self._info(name + "/", entry, stat.S_IFDIR), b"")
        else:
            self._zip.writestr(self._info(name, entry, stat.S_IFLNK), os.fsencode(entry.target or ""))


class _Unseekable:
    """Lets the archive's library write without going back."""

    def __init__(self, below: Sink) -> None:
        self._below = below

    def write(self, data: bytes) -> int:
        self._below.write(bytes(data))
        return len(data)

    def flush(self) -> None: ...


def export_snapshot(snapshot: Snapshot, target: Path, options: ExportOptions, progress: Progress) -> Exported:
    """Write ``snapshot`` as an archive ``target`` (or its parts). Raises `UsageError` when there is such a file
    already.

    Nothing has its name before all of it is on the disk.
    """
    for taken in (target, target.with_name(f"{target.name}.001")):
        if taken.exists():
            raise UsageError("there is such a file already", where=taken, advice="name another, or remove it first")
    if not target.parent.is_dir():
        raise UsageError("the folder for the archive is not there", where=target.parent)
    state = snapshot.state
    wanted = [t.name for t in state.schema.tables if t.kind == "table"] if "*" in options.csv else list(options.csv)
    for name in wanted:
        if name not in state.tables:
            raise UsageError(
                f"the snapshot has no table '{name}'", advice=f"keenharbor snapshot show {snapshot.id} --tables"
            )
    if options.form == "zip":
        _refuse_for_zip(snapshot)
    parts = PartsWriter(target, options.part_size)
    try:
        below: Sink = parts if options.passphrase is None else Sealer(parts, options.passphrase)
        made = (
            _ZipMembers(below, options.level)
            if options.form == "zip"
            else _TarMembers(below, options.form, options.level)
        )
        with made as members, contextlib.closing(members):
            count = _write_members(snapshot, members, wanted, options, progress)
        below.close()
    except BaseException:
        parts.discard()
        raise
    return Exported(tuple(parts.files), count, members.plain_bytes, parts.total)


def _refuse_for_zip(snapshot: Snapshot) -> None:
    for entry in snapshot.entries.values():
        try:
            f"{entry.path}{entry.target or ''}".encode()
        except UnicodeEncodeError:
            shown = entry.path.encode("utf-8", "surrogateescape").decode("utf-8", "replace")
            raise UsageError(
                f"a zip archive cannot hold the name {shown!r}, which is not UTF-8",
                advice="choose --form tar.zst or tar.gz",
            ) from None


def _write_members(
    snapshot: Snapshot, members: _Members, csv: Sequence[str], options: ExportOptions, progress: Progress
) -> int:
    state, read = snapshot.state, snapshot.store.read
    said = {"form": ARCHIVE_FORM, "made_by": __version__, "snapshot": with_lists(snapshot.manifest, read).as_json()}
    manifest = indented_json(said)
    members.add("manifest.json", len(manifest), iter([manifest]))
    readme = _readme(snapshot, options).encode("utf-8", "surrogateescape")
    members.add("README.txt", len(readme), iter([readme]))
    progress.stage("writing the database")
    count = 3
    for number, table in enumerate(state.schema.tables):
        stored = state.tables[table.name]
        if stored.chunk_ids:
            members.add(f"rows/{number}.lines", stored.size, (read(i) for i in stored.chunk_ids))
            count += 1
    # An archive wants to know a member's size before; the text is made on the disk first.
    for name, content in [
        (f"database/{_database_name(snapshot)}.sql", sql_text(state)),
        *((f"csv/{file_name(n)}.csv", csv_text(state, n)) for n in csv),
    ]:
        with tempfile.TemporaryFile() as made:
            for piece in content:
                made.write(piece)
            size = made.tell()
            made.seek(0)
            members.add(name, size, iter(lambda: made.read(PART), b""))
        count += 1
    progress.stage("writing the files")
    total, done = snapshot.manifest.file_bytes, 0
    for path, entry in sorted(snapshot.entries.items()):
        if entry.kind == "file" and (
            entry.same_as is None or entry.same_as not in snapshot.entries or options.form == "zip"
        ):
            members.add(f"files/{path}", entry.size, (read(i) for i in entry.objects), entry)
        else:
            members.add_other(f"files/{path}", entry)
        done += entry.size
        count += 1
        progress.advance(done, total, "byte")
    sums = b"".join(_sum_line(digest, name) for digest, name in members.sums())
    members.add("SHA256SUMS", len(sums), iter([sums]))
    return count


def _sum_line(digest: str, name: str) -> bytes:
    """As sha256sum writes it: names with a backslash or a line end are escaped, and the line says so."""
    escaped = name.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r")
    return f"{chr(92) if escaped != name else ''}{digest}  {escaped}\n".encode("utf-8", "surrogateescape")


def _database_name(snapshot: Snapshot) -> str:
    place = snapshot.database_place
    return NO_ENGINE if place.engine == NO_ENGINE else file_name(place.name or place.file.name)


def _readme(snapshot: Snapshot, options: ExportOptions) -> str:
    m = snapshot.manifest
    schema = m.database.schema
    file = f"database/{_database_name(snapshot)}.sql"
    pack = {"tar.zst": "tar --zstd -xpf ARCHIVE", "tar.gz": "tar -xzpf ARCHIVE", "zip": "unzip ARCHIVE"}[options.form]
    lost = [*schema.not_kept, *(f"rows of table {t}" for t in m.left_empty)]
    lost += [f"file {p}" for p in (*m.unreadable, *m.too_large)]
    return f"""\
Snapshot {snapshot.id} of the site "{m.title or m.site}" ({m.address}), taken {m.taken_at}.
It needs no particular program to be given back.

1. If it came in parts:     cat ARCHIVE.001 ARCHIVE.002 … > ARCHIVE
2. Unpack it:               {pack}
3. Check it:                sha256sum -c SHA256SUMS
4. Files:                   copy files/ to where the site is to be (it was {m.root})
5. Database:                make an empty {schema.engine} database, then
                            {client_hint(schema, file)}
                            (it was {m.database.place}, version {schema.version})
6. Name the database, and the new address and folder if they changed, in the site's settings.

files/          every file, with mode, owner and time
database/       the whole database as SQL text for its engine's own client
csv/            tables as CSV, where these were asked for
rows/           the rows once more as Keen Harbor keeps them, for "keenharbor snapshot import"
manifest.json   everything that is known of the snapshot, with a BLAKE3 of every piece of content
SHA256SUMS      a sum for every file in here

Not in it: {"; ".join(lost) or "nothing was left out but what the manifest lists under left_out"}.
"""
