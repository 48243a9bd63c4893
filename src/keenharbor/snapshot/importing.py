"""An exported archive back into a store: read twice, first to check everything against its manifest and sums."""

from __future__ import annotations

import hashlib
import json
import re
import shutil
import stat
import tarfile
import zipfile
import zlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path, PurePosixPath

import zstandard

from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.base.progress import Progress
from keenharbor.base.text import size as shown_size
from keenharbor.database import Block, Schema, StoredTable
from keenharbor.database.lines import decode_json, encode_json
from keenharbor.database.protocol import Table
from keenharbor.database.rows import chunks
from keenharbor.snapshot.archive import ARCHIVE_FORM, LARGEST_MANIFEST, PART
from keenharbor.snapshot.incoming import WrongManifest, check_manifest
from keenharbor.snapshot.lists import has_lists, put_tables, put_tree, tables_of, tree_of, with_lists
from keenharbor.snapshot.manifest import Snapshot, read_snapshot
from keenharbor.snapshot.members import Member, Refused, members_of, pieces_of_member
from keenharbor.snapshot.model import MANIFEST_FORMAT, READ_FORMATS, Manifest
from keenharbor.snapshot.sealed import PassphraseError, parts_of
from keenharbor.store import ObjectId, Store, object_id
from keenharbor.tree import Entry

_ID = re.compile(r"\d{8}-\d{6}-[0-9a-f]{4}")


def import_snapshot(
    file: Path, store: Store, progress: Progress, *, passphrase: str | None = None, links_out: bool = False,
    site: str | None = None, set_ids: bool = False,
) -> Snapshot:  # fmt: skip
    """Take an exported archive into ``store``, under the name ``site`` if one is given.

    Read twice: first everything is checked against the manifest and the sums, then it is taken in. Raises
    `DamagedError` when anything is not as it was exported, or could do harm; nothing is written then. Files that would
    run as their owner (setuid, setgid) lose that unless ``set_ids`` lets them keep it; it is told."""
    files = parts_of(file)
    progress.stage("checking the archive")
    manifest = _check(files, passphrase, links_out)
    if not set_ids:
        manifest = _without_set_ids(manifest, progress)
    identity = manifest.id
    if site is not None:
        manifest = replace(manifest, site=site)
    if identity in store.document_names("snapshots"):
        here = read_snapshot(store, identity)
        if with_lists(here.manifest, store.read).same_anywhere == manifest.same_anywhere:
            return here
        raise UsageError(f"the store has another snapshot {identity}", where=store.folder)
    needed = manifest.database.bytes + manifest.file_bytes
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
            writer.add_all(_contents(files, passphrase, manifest.database.schema))
            tree = put_tree(tree_of(manifest.tree, store.read).values(), writer, None)
            tables = put_tables(tables_of(manifest.database.tables, store.read), writer)
        manifest = replace(
            manifest, format=MANIFEST_FORMAT, tree=tree, database=replace(manifest.database, tables=tables),
            added_bytes=writer.added_bytes, added_objects=writer.added_objects,
        )  # fmt: skip
        store.write_document("snapshots", identity, manifest.as_json())
    made = read_snapshot(store, identity)
    for place, wanted in made.objects():
        if not store.has(wanted):
            store.remove_document("snapshots", identity)
            raise DamagedError(f"{place} changed while the archive was taken in", where=file, advice="import it again")
    return made


def _contents(files: Sequence[Path], passphrase: str | None, schema: Schema) -> Iterator[bytes]:
    """What the archive holds for the store: pieces of files, chunks of rows."""
    for member in members_of(files, passphrase):
        if member.kind == "file" and member.name.startswith("files/"):
            yield from pieces_of_member(member)
        elif member.name.startswith("rows/"):
            table = schema.tables[int(PurePosixPath(member.name).stem)]
            for chunk in chunks(table, _blocks(table, member)):
                yield chunk.data


def _blocks(table: Table, member: Member) -> Iterator[Block]:
    """Whole lines of a table's rows, with their keys where the lines do not show them."""
    rest = b""
    left = member.size
    while left > 0 or rest:
        data = member.read(min(PART, left)) if left > 0 else b""
        if left > 0 and not data:
            raise Refused(f"{member.name} breaks off")
        left -= len(data)
        whole, newline, rest_new = (rest + data).rpartition(b"\n")
        if not newline:
            if left <= 0:
                raise Refused(f"{member.name} does not end with a line")
            rest = rest_new
            continue
        lines, rest = whole + b"\n", rest_new
        if table.row_format == "json":
            keys = len(table.key)
            yield Block(lines, encode_json([r[:keys] for r in decode_json(lines)]))
        else:
            yield Block(lines)


def _without_set_ids(manifest: Manifest, progress: Progress) -> Manifest:
    entries = tree_of(manifest.tree, _nothing_elsewhere).values()
    marked = [e for e in entries if _is_set_id(e)]
    if marked:
        listed = ", ".join(e.path for e in marked[:3]) + (" …" if len(marked) > 3 else "")
        progress.note(f"not to run as their owner any more (--allow-set-ids keeps it): {listed}")
    return replace(manifest, tree=tuple(e._replace(mode=e.mode & ~_SET_IDS) if _is_set_id(e) else e for e in entries))


def _is_set_id(entry: Entry) -> bool:
    return entry.kind == "file" and bool(entry.mode & _SET_IDS)


def _nothing_elsewhere(identity: ObjectId) -> bytes:
    raise Refused("its manifest has no list of what is in it")


_SET_IDS = stat.S_ISUID | stat.S_ISGID


def _check(files: Sequence[Path], passphrase: str | None, links_out: bool) -> Manifest:
    """Read the whole archive and check it; its manifest. Raises `DamagedError`."""
    try:
        return _Checking(links_out).of(members_of(files, passphrase))
    except PassphraseError:
        raise
    except DamagedError as error:
        words = f"the archive is refused: {error.what}"
        raise DamagedError(words, where=files[0], advice="nothing was written") from None
    except (ValueError, KeyError, TypeError, IndexError, AttributeError, AssertionError, RecursionError, OverflowError,
            zlib.error, EOFError, tarfile.TarError, zipfile.BadZipFile, zstandard.ZstdError, NotImplementedError,
            UnicodeError, OSError) as error:  # fmt: skip
        raise DamagedError(f"the archive is refused: {error}", where=files[0], advice="nothing was written") from None


class _Checking:
    """An archive as it is read: each member is held against the manifest, which comes first; the sums come last."""

    def __init__(self, links_out: bool) -> None:
        self._links_out = links_out
        self._manifest: Manifest | None = None
        self._expected: dict[str, Entry] = {}
        self._tables: list[StoredTable] = []
        self._sums: dict[str, str] = {}
        self._told: dict[str, str] | None = None

    def of(self, members: Iterator[Member]) -> Manifest:
        seen: set[str] = set()
        for member in members:
            if member.name in seen:
                raise Refused(f"{member.name} is in it twice")
            seen.add(member.name)
            if self._told is not None:
                raise Refused(f"{member.name} follows behind the sums")
            if self._manifest is None:
                self._manifest = self._begin(member)
            elif member.name == "SHA256SUMS":
                self._told = _read_sums(member)
            else:
                digest = self._sum_of(member, self._manifest.database.schema)
                if digest is not None:
                    self._sums[member.name] = digest
        return self._end(seen)

    def _begin(self, member: Member) -> Manifest:
        if member.name != "manifest.json" or member.size > LARGEST_MANIFEST:
            raise Refused("it does not begin with a manifest of a sensible size")
        data = b"".join(pieces_of_member(member))
        self._sums[member.name] = hashlib.sha256(data).hexdigest()
        manifest = _manifest(data)
        self._expected = {f"files/{p}": e for p, e in tree_of(manifest.tree, _nothing_elsewhere).items()}
        self._tables = tables_of(manifest.database.tables, _nothing_elsewhere)
        _check_tree(self._expected, self._links_out)
        return manifest

    def _sum_of(self, member: Member, schema: Schema) -> str | None:
        """The member's SHA-256, once it is what the manifest says; None where it has none."""
        name = member.name
        if name.startswith("files/"):
            entry = self._expected.get(name)
            if entry is None:
                raise Refused(f"{name} is not in its manifest")
            return _check_file(member, entry, self._expected)
        if name.startswith("rows/"):
            return _check_rows(member, schema, self._tables)
        if name != "README.txt" and not name.startswith(("database/", "csv/")):
            raise Refused(f"{name} does not belong into it")
        if ".." in PurePosixPath(name).parts or member.kind != "file":
            raise Refused(f"{name} is no plain file of the archive")
        if member.size > 1024 * 1024 + 40 * sum(t.size for t in self._tables):
            raise Refused(f"{name} is larger than the database could make it")
        digest = hashlib.sha256()
        for piece in pieces_of_member(member):
            digest.update(piece)
        return digest.hexdigest()

    def _end(self, seen: set[str]) -> Manifest:
        told, sums = self._told, self._sums
        if told is None or self._manifest is None:
            raise Refused("it has no sums at its end: it was cut off, or parts are missing")
        if told != sums:
            apart = sorted(n for n in told.keys() | sums.keys() if told.get(n) != sums.get(n))
            raise Refused(f"the sum of {apart[0]} does not fit")
        missing = [n for n in self._expected if n not in seen] + [
            f"rows of {t.name}" for i, t in enumerate(self._tables) if t.chunk_ids and f"rows/{i}.lines" not in seen
        ]
        if missing:
            raise Refused(f"{missing[0]} is missing")
        return self._manifest


def _read_sums(member: Member) -> dict[str, str]:
    if member.size > LARGEST_MANIFEST:
        raise Refused("its sums are of no sensible size")
    return dict(_read_sum_line(line) for line in b"".join(pieces_of_member(member)).split(b"\n") if line)


def _manifest(data: bytes) -> Manifest:
    held = json.loads(data)
    if not isinstance(held, dict) or held.get("form") != ARCHIVE_FORM or not isinstance(held.get("snapshot"), dict):
        raise Refused("its manifest is of another form")
    said = held["snapshot"]
    if said.get("format") not in READ_FORMATS:
        raise Refused(f"its manifest has format {said.get('format')}")
    if not isinstance(said.get("tree"), list) or not isinstance(said.get("database"), dict):
        raise Refused("its manifest has no list of what is in it")
    try:
        check_manifest(said)
    except WrongManifest as wrong:
        raise Refused(str(wrong)) from None
    manifest = Manifest.from_json(said)
    if not has_lists(manifest):
        raise Refused("its manifest has no list of what is in it")
    return manifest


def _check_tree(expected: Mapping[str, Entry], links_out: bool) -> None:
    """No path may climb out or lie below a link; no link may point out of the tree, unless that is allowed."""
    links = {n for n, e in expected.items() if e.kind == "link"}
    for name, entry in expected.items():
        parts = name.split("/")
        if any(p in ("", ".", "..") for p in parts) or "\x00" in name or entry.kind not in ("file", "folder", "link"):
            raise Refused(f"its path {name!r} climbs out or is none")
        for depth in range(2, len(parts)):
            if "/".join(parts[:depth]) in links:
                raise Refused(f"its path {name!r} lies below a link")
        if entry.kind == "link" and not links_out and _points_out(name, expected):
            raise Refused(f"its link {name!r} points out of the site, to {entry.target!r} (--allow-links-out takes it)")
        if entry.same_as is not None and f"files/{entry.same_as}" not in expected:
            raise Refused(f"{name!r} is a second name of a file that is not there")
        if entry.mode & ~0o7777 or entry.size < 0:
            raise Refused(f"what is said of {name!r} is out of range")


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


def _check_file(member: Member, entry: Entry, expected: Mapping[str, Entry]) -> str | None:
    if member.kind == "same":
        if entry.kind != "file" or member.target != f"files/{entry.same_as}":
            raise Refused(f"{member.name} is another link than its manifest says")
        if expected[member.target].objects != entry.objects:
            raise Refused(f"{member.name} has another content than what it is a second name of")
        return None
    if member.kind != entry.kind or (entry.kind == "link" and member.target != entry.target):
        raise Refused(f"{member.name} is something else than its manifest says")
    if entry.kind != "file":
        return None
    if member.size != entry.size:
        raise Refused(f"{member.name} has another size than its manifest says")
    digest = hashlib.sha256()
    found = []
    for piece in pieces_of_member(member):
        digest.update(piece)
        found.append(object_id(piece))
    if tuple(found) != entry.objects:
        raise Refused(f"{member.name} has another content than its manifest says")
    return digest.hexdigest()


def _check_rows(member: Member, schema: Schema, tables: Sequence[StoredTable]) -> str:
    number = re.fullmatch(r"rows/(\d{1,6})\.lines", member.name)
    if number is None or int(number[1]) >= len(tables):
        raise Refused(f"{member.name} does not belong into it")
    stored, table = tables[int(number[1])], schema.tables[int(number[1])]
    if member.size != stored.size:
        raise Refused(f"{member.name} has another size than its manifest says")
    digest = hashlib.sha256()
    found = []
    for chunk in chunks(table, _blocks(table, member)):
        digest.update(chunk.data)
        found.append(object_id(chunk.data))
    if tuple(found) != stored.chunk_ids:
        raise Refused(f"the rows of table {table.name} are others than its manifest says")
    return digest.hexdigest()


def _read_sum_line(line: bytes) -> tuple[str, str]:
    text = line.decode("utf-8", "surrogateescape")
    escaped = text.startswith("\\")
    digest, _, name = text.lstrip("\\").partition("  ") if escaped else text.partition("  ")
    if escaped:
        name = re.sub(r"\\(.)", lambda m: {"n": "\n", "r": "\r"}.get(m[1], m[1]), name)
    return name, digest
