"""A store: a folder of packs, an index that can be made anew, and named JSON documents.

STORE/store.json            format number
STORE/READ ME.txt           how to read the store by hand
STORE/packs/ab/ab….pack     objects (see `keenharbor.store.packs`)
STORE/index/ab….pack.json   what each pack holds; made anew when missing
STORE/snapshots/ID.json     manifests: a snapshot exists when its manifest does
STORE/records/ID.json       what was learnt of a snapshot later (proofs)
STORE/staging/              what a run is writing; collected when no run is at work
"""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Iterator, Sequence
from pathlib import Path
from types import TracebackType
from typing import Any

from keenharbor.base.durable import private_folder, sync_folder, write_durably, write_json
from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.base.locks import held
from keenharbor.store.packs import (
    PACK_SIZE,
    Damage,
    Location,
    ObjectId,
    ObjectSource,
    PackWriter,
    check_pack,
    object_id,
    unpack,
    walk_heads,
)

FORMAT = 1
READ_ME = """\
This folder is a Keen Harbor store. It can be read without the tool.

snapshots/ID.json is the manifest of one snapshot: plain JSON, under "document". Each file in "tree" names the objects that make
up its content, in order; each table in "databases" names the objects that hold its rows, as JSON lines.

packs/*/*.pack hold the objects. Each object is a head of 53 bytes and its data:
  4 bytes "KHO1" | 32 bytes BLAKE3 of the content (the object's name) | 1 byte: 0 plain, 1 zstd
  | 8 bytes stored length | 8 bytes plain length (both little-endian)
index/NAME.pack.json lists, for each object, [byte offset of its data, stored length, plain length, codec]. So
  tail -c +$((OFFSET+1)) packs/ab/ab….pack | head -c STORED_LENGTH | zstd -d
gives the content. Do not write into this folder.
"""


class Store:
    """Objects by id and documents by name; several runs may use one store at the same time.

    ``behind`` are further sources (other stores) that are asked for objects this one does not have; what they
    have is not stored again.
    """

    def __init__(self, folder: Path, behind: Sequence[ObjectSource] = ()) -> None:
        self.folder = folder
        self._behind = tuple(behind)
        self._index: dict[ObjectId, Location] = {}
        self._read_packs: set[str] = set()
        self._open_pack: tuple[str, int] | None = None
        facts = folder / "store.json"
        try:
            found = json.loads(facts.read_bytes())
        except FileNotFoundError:
            raise UsageError(
                "there is no store here yet", where=folder, advice="'keenharbor snapshot take' makes one"
            ) from None
        except ValueError as error:
            raise DamagedError(f"the store's own description cannot be read: {error}", where=facts) from error
        if not isinstance(found, dict) or found.get("format") != FORMAT:
            raise UsageError(
                f"this store has format {found.get('format') if isinstance(found, dict) else '?'}, "
                f"and this version of the tool reads format {FORMAT}",
                where=facts,
                advice="use the version of the tool that made it, or a newer one",
            )

    @classmethod
    def create(cls, folder: Path, behind: Sequence[ObjectSource] = ()) -> Store:
        """Open the store in ``folder``, making it first where there is none. A folder with other things in it is refused."""
        if not (folder / "store.json").exists():
            if folder.exists() and any(p.name not in _OWN_NAMES for p in folder.iterdir()):
                raise UsageError(
                    "the folder for the store is not empty and holds no store",
                    where=folder,
                    advice="name another folder under [store] in the site file",
                )
            private_folder(folder)
            for name in ("packs", "index", "snapshots", "records", "staging"):
                private_folder(folder / name)
            write_durably(folder / "READ ME.txt", READ_ME.encode())
            write_json(folder / "store.json", {"format": FORMAT})
        return cls(folder, behind)

    # -- objects ---------------------------------------------------------------------------------------------

    def _pack_path(self, name: str) -> Path:
        return self.folder / "packs" / name[:2] / name

    def pack_files(self) -> list[Path]:
        """Every sealed pack, in a fixed order."""
        return sorted((self.folder / "packs").glob("*/*.pack"))

    def refresh(self) -> None:
        """Learn of packs that other runs have added. A missing or unreadable index file is made anew from its pack."""
        for file in self.pack_files():
            if file.name in self._read_packs:
                continue
            self._read_packs.add(file.name)
            entries = self.folder / "index" / f"{file.name}.json"
            try:
                table = json.loads(entries.read_bytes())
                found = {k: Location(file.name, *v) for k, v in table.items()}
            except (OSError, ValueError, TypeError, AttributeError):
                found = dict(item for item in walk_heads(file) if not isinstance(item, Damage))
                with contextlib.suppress(OSError):
                    self._write_index(file.name, found)
            for identity, location in found.items():
                self._index.setdefault(identity, location)

    def _write_index(self, pack: str, found: dict[ObjectId, Location]) -> None:
        table = {k: [v.offset, v.stored, v.plain, v.codec] for k, v in found.items()}
        write_durably(self.folder / "index" / f"{pack}.json", json.dumps(table, separators=(",", ":")).encode())

    def has(self, wanted: ObjectId) -> bool:
        """Whether the object is here or in a store behind this one."""
        if not self._read_packs:
            self.refresh()
        return wanted in self._index or any(source.has(wanted) for source in self._behind)

    def read(self, wanted: ObjectId) -> bytes:
        """The object's content, checked. Raises `DamagedError` when it is missing or not what was stored."""
        if wanted not in self._index:
            self.refresh()
        location = self._index.get(wanted)
        if location is None:
            for source in self._behind:
                if source.has(wanted):
                    return source.read(wanted)
            raise DamagedError(
                f"object {wanted[:12]} is missing",
                where=self.folder,
                advice="run 'keenharbor snapshot verify' to see which snapshots are hurt",
            )
        file = self._pack_path(location.pack)
        if self._open_pack is None or self._open_pack[0] != location.pack:
            self._close_pack()
            try:
                self._open_pack = (location.pack, os.open(file, os.O_RDONLY))
            except OSError as error:
                raise DamagedError(f"a pack cannot be read: {error.strerror}", where=file) from error
        return unpack(location, os.pread(self._open_pack[1], location.stored, location.offset), wanted, file)

    def _close_pack(self) -> None:
        if self._open_pack is not None:
            os.close(self._open_pack[1])
            self._open_pack = None

    def __del__(self) -> None:
        if getattr(self, "_open_pack", None) is not None:
            self._close_pack()

    def writing(self) -> ObjectWriter:
        """A writer for one run; use it in a ``with`` block."""
        return ObjectWriter(self)

    def adopt(self, writer: PackWriter) -> None:
        """Take a sealed pack into the index."""
        self._write_index(writer.name, writer.locations)
        self._read_packs.add(writer.name)
        for identity, location in writer.locations.items():
            self._index.setdefault(identity, location)

    def check(self) -> Iterator[tuple[Path, ObjectId | Damage]]:
        """Read every pack again, object by object. An index that does not fit its pack is told of
        and made anew; one that is missing is made."""
        for file in self.pack_files():
            found: dict[ObjectId, Location] = {}
            for item in walk_heads(file):
                if not isinstance(item, Damage):
                    found[item[0]] = item[1]
            index = self.folder / "index" / f"{file.name}.json"
            if not index.exists():  # a run was killed between the two: nothing is damaged
                self._write_index(file.name, found)
            try:
                fits = {k: Location(file.name, *v) for k, v in json.loads(index.read_bytes()).items()} == found
            except (OSError, ValueError, TypeError, AttributeError):
                fits = False
            if not fits:
                yield index, Damage(index.name, 0, "the index did not fit its pack and was made anew")
                self._write_index(file.name, found)
                self._index.update(found)
            for checked in check_pack(file):
                yield file, checked

    # -- documents -------------------------------------------------------------------------------------------

    def document_names(self, kind: str) -> list[str]:
        """Names of the documents of a kind (``snapshots``, ``records``), oldest first as far as names tell."""
        return sorted(p.stem for p in (self.folder / kind).glob("*.json") if not p.name.startswith("."))

    def read_document(self, kind: str, name: str) -> Any:
        """A document's content; None when there is none. Raises `DamagedError` when it is not what was written."""
        file = self.folder / kind / f"{name}.json"
        try:
            held = json.loads(file.read_bytes())
            body, said = held["document"], held["blake3"]
            if len(held) != 2 or object_id(_canonical(body)) != said:
                raise ValueError("its checksum does not fit")
        except FileNotFoundError:
            return None
        except (ValueError, KeyError, TypeError) as error:
            raise DamagedError(f"a stored document is damaged: {error}", where=file) from error
        return body

    def write_document(self, kind: str, name: str, value: Any) -> None:
        """Write a document durably with its checksum, in place of an earlier one of its name."""
        body = _canonical(value)
        data = b'{"blake3":"' + object_id(body).encode() + b'","document":' + body + b"}"
        write_durably(self.folder / kind / f"{name}.json", data)

    # -- between runs ----------------------------------------------------------------------------------------

    def in_use(self) -> contextlib.AbstractContextManager[int]:
        """Held while a run writes objects, so that `collect_staging` leaves its unfinished packs alone."""
        return held(self.folder / "staging.lock", "the store", wait_seconds=60)

    def collect_staging(self) -> int:
        """Remove what killed runs left unfinished; call it with the store `in_use` by nobody else. Returns bytes."""
        freed = 0
        for part in (self.folder / "staging").glob("*.part"):
            freed += part.stat().st_size
            part.unlink()
        return freed


def _canonical(value: Any) -> bytes:
    return json.dumps(value, separators=(",", ":")).encode()


_OWN_NAMES = {"packs", "index", "snapshots", "records", "staging", "READ ME.txt", "staging.lock"}


class ObjectWriter:
    """Adds objects to a store; what the store has already is not written again.

    Objects can be relied on after `flush` (or the end of the ``with`` block without an error), not before.
    """

    def __init__(self, store: Store) -> None:
        self._store = store
        self._pack: PackWriter | None = None
        self._count = 0
        self.added_objects = 0
        self.added_bytes = 0

    def __enter__(self) -> ObjectWriter:
        self._store.refresh()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if kind is None:
            self.flush()
        elif self._pack is not None:
            self._pack.discard()
            self._pack = None

    def add(self, content: bytes) -> ObjectId:
        """Store ``content`` and return its id."""
        identity = object_id(content)
        if (self._pack is not None and identity in self._pack.locations) or self._store.has(identity):
            return identity
        if self._pack is None:
            self._count += 1
            self._pack = PackWriter(self._store.folder / "packs", self._store.folder / "staging", self._count)
        before = self._pack.size
        self._pack.add(identity, content)
        self.added_objects += 1
        self.added_bytes += self._pack.size - before
        if self._pack.size >= PACK_SIZE:
            self.flush()
        return identity

    def flush(self) -> None:
        """Seal the open pack: all that was added so far is durable afterwards."""
        if self._pack is not None:
            self._pack.seal()
            self._store.adopt(self._pack)
            self._pack = None
            sync_folder(self._store.folder / "index")
