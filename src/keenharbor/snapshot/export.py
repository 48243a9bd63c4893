"""A snapshot as one portable file of open formats, and back.

In the archive, in this order: ``manifest.json``, ``README.txt``, ``rows/N.lines`` (each table as the store keeps it),
``database/NAME.sql``, ``csv/TABLE.csv`` on demand, ``files/…``, ``SHA256SUMS``. An archive that comes back is hostile until
proven otherwise: it is read as a whole and checked against its own manifest before anything is written.
"""

from __future__ import annotations

import contextlib
import gzip
import hashlib
import io
import json
import os
import re
import shutil
import stat
import tarfile
import tempfile
import time
import zipfile
import zlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import IO, Any, Literal, cast

import zstandard

from keenharbor import __version__
from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.base.progress import Progress
from keenharbor.base.text import size as shown_size
from keenharbor.database import Block, Schema, StoredTable, sql_text
from keenharbor.database.lines import decode_json, encode_json
from keenharbor.database.protocol import Table
from keenharbor.database.rows import chunks
from keenharbor.host import PIECE_SIZE
from keenharbor.snapshot.incoming import WrongManifest, check_manifest
from keenharbor.snapshot.lists import has_lists, put_tables, put_tree, tables_of, tree_of, with_lists
from keenharbor.snapshot.manifest import MANIFEST_FORMAT, READ_FORMATS, Snapshot, read_snapshot
from keenharbor.snapshot.plaintext import client_hint, csv_text, file_name
from keenharbor.snapshot.sealed import PartsReader, PartsWriter, Sealer, Sink, Unsealer, parts_of
from keenharbor.store import Store, object_id
from keenharbor.tree import Entry

ArchiveForm = Literal["tar.zst", "tar.gz", "zip"]
ARCHIVE_FORM = "keenharbor-export-1"
_OF_ITS_STORE = ("added_bytes", "added_objects", "format")
"""What a manifest says of how its store keeps the snapshot."""
LARGEST_MANIFEST = 1 << 28
LARGEST_HEAD = 1 << 20
_PART = 1 << 20
_ID = re.compile(r"\d{8}-\d{6}-[0-9a-f]{4}")
_ZSTD, _GZIP, _ZIP, _SEALED = b"\x28\xb5\x2f\xfd", b"\x1f\x8b", b"PK\x03\x04", b'{"form'


@dataclass(frozen=True)
class ExportOptions:
    """The archive's form; parts of at most ``part_size`` bytes; sealed with ``passphrase``; ``csv`` of these tables
    (``*`` for all); ``level`` of compression."""

    form: ArchiveForm = "tar.zst"
    part_size: int | None = None
    passphrase: str | None = None
    csv: Sequence[str] = ()
    level: int = 3


@dataclass(frozen=True)
class Exported:
    """The files that were written, in order; members and bytes within; bytes of the files."""

    files: tuple[Path, ...]
    members: int
    plain_bytes: int
    bytes: int


class _Members(contextlib.AbstractContextManager["_Members"]):
    """Takes the members of an archive; the forms differ below it."""

    def __init__(self) -> None:
        self.sums: list[tuple[str, str]] = []
        self.plain_bytes = 0

    def add(self, name: str, size: int, content: Iterator[bytes], entry: Entry | None = None) -> None:
        """A file of ``size`` bytes. Its checksum is noted."""
        digest = hashlib.sha256()

        def read() -> Iterator[bytes]:
            for piece in content:
                digest.update(piece)
                self.plain_bytes += len(piece)
                yield piece

        self._write(name, size, read(), entry)
        self.sums.append((digest.hexdigest(), name))

    def _write(self, name: str, size: int, content: Iterator[bytes], entry: Entry | None) -> None:
        raise NotImplementedError

    def add_other(self, name: str, entry: Entry) -> None:
        """A folder, a symbolic or a hard link."""
        raise NotImplementedError


class _IteratorFile(io.RawIOBase):
    """An iterator of bytes as a file to read."""

    def __init__(self, content: Iterator[bytes]) -> None:
        self._content, self._held = content, b""

    def readable(self) -> bool:
        return True

    def read(self, count: int = -1) -> bytes:
        parts, left = [], count
        while left != 0:
            if not self._held:
                self._held = next(self._content, b"")
                if not self._held:
                    break
            taken = self._held if left < 0 else self._held[:left]
            self._held = self._held[len(taken) :]
            parts.append(taken)
            left -= len(taken) if left > 0 else 0
        return b"".join(parts)


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
        self._tar = tarfile.open(fileobj=self._packed, mode="w|", format=tarfile.PAX_FORMAT, errors="surrogateescape")  # noqa: SIM115

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        if kind is None:
            self._tar.close()
            self._packed.close()

    def _info(self, name: str, entry: Entry | None) -> tarfile.TarInfo:
        info = tarfile.TarInfo(name)
        info.mode = 0o600 if entry is None else entry.mode
        if entry is not None:
            info.uid, info.gid = max(entry.uid, 0), max(entry.gid, 0)
            whole, rest = divmod(entry.mtime_ns, 1_000_000_000)
            info.mtime = whole
            if rest:
                info.pax_headers = {"mtime": f"{whole}.{rest:09d}"}
        return info

    def _write(self, name: str, size: int, content: Iterator[bytes], entry: Entry | None) -> None:
        info = self._info(name, entry)
        info.size = size
        self._tar.addfile(info, _IteratorFile(content))

    def add_other(self, name: str, entry: Entry) -> None:
        info = self._info(name, entry)
        if entry.kind == "folder":
            info.type = tarfile.DIRTYPE
        elif entry.kind == "link":
            info.type, info.linkname = tarfile.SYMTYPE, entry.target or ""
        else:
            info.type, info.linkname = tarfile.LNKTYPE, f"files/{entry.same_as}"
        self._tar.addfile(info)


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
    """Write ``snapshot`` as an archive ``target`` (or its parts). Raises `UsageError` when there is such a file already.

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
        with made as members:
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
    manifest = json.dumps(
        {"form": ARCHIVE_FORM, "made_by": __version__, "snapshot": with_lists(snapshot.manifest, read)}, indent=1
    ).encode()
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
            members.add(name, size, iter(lambda: made.read(_PART), b""))
        count += 1
    progress.stage("writing the files")
    total, done = snapshot.file_bytes, 0
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
    sums = b"".join(_sum_line(digest, name) for digest, name in members.sums)
    members.add("SHA256SUMS", len(sums), iter([sums]))
    return count


def _sum_line(digest: str, name: str) -> bytes:
    """As sha256sum writes it: names with a backslash or a line end are escaped, and the line says so."""
    escaped = name.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r")
    return f"{chr(92) if escaped != name else ''}{digest}  {escaped}\n".encode("utf-8", "surrogateescape")


def _database_name(snapshot: Snapshot) -> str:
    place = snapshot.database_place
    return "none" if place.engine == "none" else file_name(place.name or place.file.name)


def _readme(snapshot: Snapshot, options: ExportOptions) -> str:
    m = snapshot.manifest
    file = f"database/{_database_name(snapshot)}.sql"
    pack = {"tar.zst": "tar --zstd -xpf ARCHIVE", "tar.gz": "tar -xzpf ARCHIVE", "zip": "unzip ARCHIVE"}[options.form]
    lost = [*m["database"]["schema"]["not_kept"], *(f"rows of table {t}" for t in m.get("left_empty", []))]
    lost += [f"file {p}" for p in (*m["unreadable"], *m.get("too_large", []))]
    return f"""\
Snapshot {snapshot.id} of the site "{m["title"] or m["site"]}" ({m["address"]}), taken {m["taken_at"]}.
It needs no particular program to be given back.

1. If it came in parts:     cat ARCHIVE.001 ARCHIVE.002 … > ARCHIVE
2. Unpack it:               {pack}
3. Check it:                sha256sum -c SHA256SUMS
4. Files:                   copy files/ to where the site is to be (it was {m["root"]})
5. Database:                make an empty {m["database"]["schema"]["engine"]} database, then
                            {client_hint(Schema.from_json(m["database"]["schema"]), file)}
                            (it was {m["database"]["place"]}, version {m["database"]["schema"]["version"]})
6. Name the database, and the new address and folder if they changed, in the site's settings.

files/          every file, with mode, owner and time
database/       the whole database as SQL text for its engine's own client
csv/            tables as CSV, where these were asked for
rows/           the rows once more as Keen Harbor keeps them, for "keenharbor snapshot import"
manifest.json   everything that is known of the snapshot, with a BLAKE3 of every piece of content
SHA256SUMS      a sum for every file in here

Not in it: {"; ".join(lost) or "nothing was left out but what the manifest lists under left_out"}.
"""


# -- import ---------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class _Member:
    """A member as it stands in an archive."""

    name: str
    kind: Literal["file", "folder", "link", "same"]
    size: int
    target: str
    read: Callable[[int], bytes]


class _Refused(DamagedError):
    """An archive that is not what it says."""


def import_snapshot(
    file: Path, store: Store, progress: Progress, *, passphrase: str | None = None, links_out: bool = False,
    site: str | None = None, set_ids: bool = False,
) -> Snapshot:  # fmt: skip
    """Take an exported archive into ``store``, under the name ``site`` if one is given.

    Read twice: first everything is checked against the manifest and the sums, then it is taken in. Raises `DamagedError`
    when anything is not as it was exported, or could do harm; nothing is written then. Files that would run as their owner
    (setuid, setgid) lose that unless ``set_ids`` lets them keep it; it is told.
    """
    files = parts_of(file)
    progress.stage("checking the archive")
    manifest = _check(files, passphrase, links_out)
    if not set_ids:
        manifest = _without_set_ids(manifest, progress)
    identity = str(manifest["id"])
    if site is not None:
        manifest = {**manifest, "site": site}
    if identity in store.document_names("snapshots"):
        here = read_snapshot(store, identity)
        known = json.loads(json.dumps(with_lists(here.manifest, store.read)))
        if all(known.get(k) == v for k, v in manifest.items() if k not in _OF_ITS_STORE):
            return here
        raise UsageError(f"the store has another snapshot {identity}", where=store.folder)
    needed = sum(t["size"] for t in manifest["database"]["tables"]) + sum(e[4] for e in manifest["tree"])
    free = shutil.disk_usage(store.folder).free
    if needed > free:
        raise UsageError(
            f"the archive says that it holds {shown_size(needed)}, and {shown_size(free)} are free", where=store.folder,
            advice="free some space, or name another folder under [store]",
        )  # fmt: skip
    progress.stage("taking it in")
    with store.in_use():
        store.collect_staging()
        with store.writing() as writer:
            writer.add_all(_contents(files, passphrase, Schema.from_json(manifest["database"]["schema"])))
            tree = put_tree(tree_of(manifest, store.read).values(), writer, None)
            tables = put_tables(tables_of(manifest, store.read), writer)
        manifest = {
            **manifest, "format": MANIFEST_FORMAT, "tree": tree, "database": {**manifest["database"], "tables": tables},
            "added_bytes": writer.added_bytes, "added_objects": writer.added_objects,
        }  # fmt: skip
        store.write_document("snapshots", identity, manifest)
    made = read_snapshot(store, identity)
    for place, wanted in made.objects():
        if not store.has(wanted):
            store.remove_document("snapshots", identity)
            raise DamagedError(f"{place} changed while the archive was taken in", where=file, advice="import it again")
    return made


def _contents(files: Sequence[Path], passphrase: str | None, schema: Schema) -> Iterator[bytes]:
    """What the archive holds for the store: pieces of files, chunks of rows."""
    for member in _members(files, passphrase):
        if member.kind == "file" and member.name.startswith("files/"):
            yield from _pieces(member)
        elif member.name.startswith("rows/"):
            table = schema.tables[int(PurePosixPath(member.name).stem)]
            for chunk in chunks(table, _blocks(table, member)):
                yield chunk.data


def _pieces(member: _Member) -> Iterator[bytes]:
    left = member.size
    while left > 0:
        piece = b""
        while len(piece) < min(PIECE_SIZE, left) and (data := member.read(min(PIECE_SIZE, left) - len(piece))):
            piece += data
        if not piece:
            raise _Refused(f"{member.name} breaks off")
        left -= len(piece)
        yield piece


def _blocks(table: Table, member: _Member) -> Iterator[Block]:
    """Whole lines of a table's rows, with their keys where the lines do not show them."""
    rest = b""
    left = member.size
    while left > 0 or rest:
        data = member.read(min(_PART, left)) if left > 0 else b""
        if left > 0 and not data:
            raise _Refused(f"{member.name} breaks off")
        left -= len(data)
        whole, newline, rest_new = (rest + data).rpartition(b"\n")
        if not newline:
            if left <= 0:
                raise _Refused(f"{member.name} does not end with a line")
            rest = rest_new
            continue
        lines, rest = whole + b"\n", rest_new
        if table.row_format == "json":
            keys = len(table.key)
            yield Block(lines, encode_json([r[:keys] for r in decode_json(lines)]))
        else:
            yield Block(lines)


def _without_set_ids(manifest: dict[str, Any], progress: Progress) -> dict[str, Any]:
    tree = [list(e) for e in manifest["tree"]]
    marked = [e for e in tree if e[1] == "file" and e[2] & _SET_IDS]
    for entry in marked:
        entry[2] &= ~_SET_IDS
    if marked:
        listed = ", ".join(str(e[0]) for e in marked[:3]) + (" …" if len(marked) > 3 else "")
        progress.note(f"not to run as their owner any more (--allow-set-ids keeps it): {listed}")
    return {**manifest, "tree": tree}


_SET_IDS = stat.S_ISUID | stat.S_ISGID


def _check(files: Sequence[Path], passphrase: str | None, links_out: bool) -> dict[str, Any]:
    """Read the whole archive and check it; its manifest. Raises `DamagedError`."""
    try:
        return _checked(_members(files, passphrase), links_out, files[0])
    except DamagedError as error:
        if error.what.startswith("the passphrase"):
            raise
        words = f"the archive is refused: {error.what}"
        raise DamagedError(words, where=files[0], advice="nothing was written") from None
    except (ValueError, KeyError, TypeError, IndexError, AttributeError, AssertionError, RecursionError, OverflowError,
            zlib.error, EOFError, tarfile.TarError, zipfile.BadZipFile, zstandard.ZstdError, NotImplementedError,
            UnicodeError, OSError) as error:  # fmt: skip
        raise DamagedError(f"the archive is refused: {error}", where=files[0], advice="nothing was written") from None


def _checked(members: Iterator[_Member], links_out: bool, file: Path) -> dict[str, Any]:
    sums: dict[str, str] = {}
    manifest: dict[str, Any] = {}
    expected: dict[str, Entry] = {}
    schema = Schema("", "", ())
    tables: list[StoredTable] = []
    seen: set[str] = set()
    told: dict[str, str] | None = None
    for number, member in enumerate(members):
        name = member.name
        if name in seen:
            raise _Refused(f"{name} is in it twice")
        seen.add(name)
        if told is not None:
            raise _Refused(f"{name} follows behind the sums")
        if number == 0:
            if name != "manifest.json" or member.size > LARGEST_MANIFEST:
                raise _Refused("it does not begin with a manifest of a sensible size")
            data = b"".join(_pieces(member))
            sums[name] = hashlib.sha256(data).hexdigest()
            manifest = _manifest(data)
            expected = {f"files/{e[0]}": Entry.from_json(e) for e in manifest["tree"]}
            schema = Schema.from_json(manifest["database"]["schema"])
            tables = [StoredTable.from_json(t) for t in manifest["database"]["tables"]]
            _check_tree(expected, links_out)
        elif name == "SHA256SUMS":
            if member.size > LARGEST_MANIFEST:
                raise _Refused("its sums are of no sensible size")
            told = dict(_read_sum_line(line) for line in b"".join(_pieces(member)).split(b"\n") if line)
        elif name.startswith("files/"):
            entry = expected.get(name)
            if entry is None:
                raise _Refused(f"{name} is not in its manifest")
            digest = _check_file(member, entry, expected)
            if digest is not None:
                sums[name] = digest
        elif name.startswith("rows/"):
            sums[name] = _check_rows(member, schema, tables)
        elif name == "README.txt" or name.startswith(("database/", "csv/")):
            if ".." in PurePosixPath(name).parts or member.kind != "file":
                raise _Refused(f"{name} is no plain file of the archive")
            digest_of = hashlib.sha256()
            limit = 1024 * 1024 + 40 * sum(t.size for t in tables)
            if member.size > limit:
                raise _Refused(f"{name} is larger than the database could make it")
            for piece in _pieces(member):
                digest_of.update(piece)
            sums[name] = digest_of.hexdigest()
        else:
            raise _Refused(f"{name} does not belong into it")
    if told is None:
        raise _Refused("it has no sums at its end: it was cut off, or parts are missing")
    if told != sums:
        apart = sorted(n for n in told.keys() | sums.keys() if told.get(n) != sums.get(n))
        raise _Refused(f"the sum of {apart[0]} does not fit")
    missing = [n for n in expected if n not in seen] + [
        f"rows of {t.name}" for i, t in enumerate(tables) if t.chunk_ids and f"rows/{i}.lines" not in seen
    ]
    if missing:
        raise _Refused(f"{missing[0]} is missing")
    return manifest


def _manifest(data: bytes) -> dict[str, Any]:
    held = json.loads(data)
    if not isinstance(held, dict) or held.get("form") != ARCHIVE_FORM:
        raise _Refused("its manifest is of another form")
    manifest: dict[str, Any] = held["snapshot"]
    if not isinstance(manifest, dict):
        raise _Refused("its manifest is of another form")
    if manifest.get("format") not in READ_FORMATS:
        raise _Refused(f"its manifest has format {manifest.get('format')}")
    if not isinstance(manifest.get("tree"), list) or not isinstance(manifest.get("database"), dict):
        raise _Refused("its manifest has no list of what is in it")
    if not has_lists(manifest):
        raise _Refused("its manifest has no list of what is in it")
    try:
        check_manifest(manifest)
    except WrongManifest as wrong:
        raise _Refused(str(wrong)) from None
    return manifest


def _check_tree(expected: Mapping[str, Entry], links_out: bool) -> None:
    """No path may climb out or lie below a link; no link may point out of the tree, unless that is allowed."""
    links = {n for n, e in expected.items() if e.kind == "link"}
    for name, entry in expected.items():
        parts = name.split("/")
        if any(p in ("", ".", "..") for p in parts) or "\x00" in name or entry.kind not in ("file", "folder", "link"):
            raise _Refused(f"its path {name!r} climbs out or is none")
        for depth in range(2, len(parts)):
            if "/".join(parts[:depth]) in links:
                raise _Refused(f"its path {name!r} lies below a link")
        if entry.kind == "link" and not links_out and _points_out(name, expected):
            raise _Refused(
                f"its link {name!r} points out of the site, to {entry.target!r} (--allow-links-out takes it)"
            )
        if entry.same_as is not None and f"files/{entry.same_as}" not in expected:
            raise _Refused(f"{name!r} is a second name of a file that is not there")
        if entry.mode & ~0o7777 or entry.size < 0:
            raise _Refused(f"what is said of {name!r} is out of range")


def _points_out(name: str, expected: Mapping[str, Entry]) -> bool:
    """Whether a link leads out of the site, by all links on its way, wherever it ends. A chain that never ends does."""
    steps = [*name.split("/")[1:-1], *(expected[name].target or "").split("/")][::-1]
    if (expected[name].target or "").startswith("/"):
        return True
    at: list[str] = []
    for _ in range(_MOST_STEPS):
        if not steps:
            return False
        part = steps.pop()
        if part in ("", "."):
            continue
        if part == "..":
            if not at:
                return True
            at.pop()
            continue
        at.append(part)
        entry = expected.get("/".join(["files", *at]))
        if entry is not None and entry.kind == "link":
            if (entry.target or "").startswith("/"):
                return True
            at.pop()
            steps.extend((entry.target or "").split("/")[::-1])
    return True


_MOST_STEPS = 10_000


def _check_file(member: _Member, entry: Entry, expected: Mapping[str, Entry]) -> str | None:
    if member.kind == "same":
        if entry.kind != "file" or member.target != f"files/{entry.same_as}":
            raise _Refused(f"{member.name} is another link than its manifest says")
        if expected[member.target].objects != entry.objects:
            raise _Refused(f"{member.name} has another content than what it is a second name of")
        return None
    if member.kind != entry.kind or (entry.kind == "link" and member.target != entry.target):
        raise _Refused(f"{member.name} is something else than its manifest says")
    if entry.kind != "file":
        return None
    if member.size != entry.size:
        raise _Refused(f"{member.name} has another size than its manifest says")
    digest = hashlib.sha256()
    found = []
    for piece in _pieces(member):
        digest.update(piece)
        found.append(object_id(piece))
    if tuple(found) != entry.objects:
        raise _Refused(f"{member.name} has another content than its manifest says")
    return digest.hexdigest()


def _check_rows(member: _Member, schema: Schema, tables: Sequence[StoredTable]) -> str:
    number = re.fullmatch(r"rows/(\d{1,6})\.lines", member.name)
    if number is None or int(number[1]) >= len(tables):
        raise _Refused(f"{member.name} does not belong into it")
    stored, table = tables[int(number[1])], schema.tables[int(number[1])]
    if member.size != stored.size:
        raise _Refused(f"{member.name} has another size than its manifest says")
    digest = hashlib.sha256()
    found = []
    for chunk in chunks(table, _blocks(table, member)):
        digest.update(chunk.data)
        found.append(object_id(chunk.data))
    if tuple(found) != stored.chunk_ids:
        raise _Refused(f"the rows of table {table.name} are others than its manifest says")
    return digest.hexdigest()


def _read_sum_line(line: bytes) -> tuple[str, str]:
    text = line.decode("utf-8", "surrogateescape")
    escaped = text.startswith("\\")
    digest, _, name = text.lstrip("\\").partition("  ") if escaped else text.partition("  ")
    if escaped:
        name = re.sub(r"\\(.)", lambda m: {"n": "\n", "r": "\r"}.get(m[1], m[1]), name)
    return name, digest


def _members(files: Sequence[Path], passphrase: str | None) -> Iterator[_Member]:
    with contextlib.closing(PartsReader(files)) as raw:
        stream = _Peeked(raw)
        if stream.begins_with(_SEALED):
            if passphrase is None:
                raise UsageError(
                    "the archive is sealed", where=files[0], advice="give its passphrase with --passphrase-file"
                )
            stream = _Peeked(Unsealer(cast("IO[bytes]", stream), passphrase))
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
            raise _Refused("it is neither a tar archive (zstd or gzip) nor a zip archive")


class _Peeked:
    """A stream of which the beginning can be seen before it is read."""

    def __init__(self, below: Any) -> None:
        self._below = below
        self._held = bytes(below.read(8))

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
            raise _Refused("a member's head is of no sensible size")
        made: tarfile.TarInfo = super()._proc_member(archive)  # type: ignore[misc]
        return made


def _tar_members(plain: IO[bytes]) -> Iterator[_Member]:
    with tarfile.open(fileobj=plain, mode="r|", errors="surrogateescape", tarinfo=_BoundedInfo) as archive:
        for info in archive:
            if info.isreg():
                content = archive.extractfile(info)
                assert content is not None
                yield _Member(info.name, "file", info.size, "", content.read)
            elif info.isdir():
                yield _Member(info.name.rstrip("/"), "folder", 0, "", lambda n: b"")
            elif info.issym():
                yield _Member(info.name, "link", 0, info.linkname, lambda n: b"")
            elif info.islnk():
                yield _Member(info.name, "same", 0, info.linkname, lambda n: b"")
            else:
                raise _Refused(f"{info.name} is a device, a pipe or the like")
    # The archive's reader stops at its end; what decompresses must have come to its own, where the sums are.
    while plain.read(_PART):
        pass


def _zip_members(stream: Any) -> Iterator[_Member]:
    with tempfile.TemporaryFile() as whole:
        shutil.copyfileobj(stream, whole)
        with zipfile.ZipFile(whole) as archive:
            for info in archive.infolist():
                kind = stat.S_IFMT(info.external_attr >> 16)
                name = info.filename
                if info.is_dir():
                    yield _Member(name.rstrip("/"), "folder", 0, "", lambda n: b"")
                    continue
                with archive.open(info) as content:
                    if kind == stat.S_IFLNK:
                        if info.file_size > 4096:
                            raise _Refused(f"{name} is a link of no sensible length")
                        yield _Member(name, "link", 0, os.fsdecode(content.read()), lambda n: b"")
                    elif kind in (0, stat.S_IFREG):
                        yield _Member(name, "file", info.file_size, "", content.read)
                    else:
                        raise _Refused(f"{name} is a device, a pipe or the like")
