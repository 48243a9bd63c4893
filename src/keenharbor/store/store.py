"""A store: a folder of packs, an index that can be made anew, and named JSON documents.

STORE/store.json            format number
STORE/READ ME.txt           how to read the store by hand
STORE/packs/ab/ab….pack     objects (see `keenharbor.store.packs`)
STORE/index/ab….pack.json   what each pack holds; made anew when missing
STORE/snapshots/ID.json     manifests: a snapshot exists when its manifest does
STORE/records/ID.json       what was learnt of a snapshot later (proofs, whether it is kept)
STORE/dependents/ID.json    stores that leave to this one what this one has (checkpoints of trials)
STORE/history.jsonl         which documents came and went (see `keenharbor.store.history`)
STORE/staging/              what a run is writing; collected when no run is at work
"""

from __future__ import annotations

import contextlib
import itertools
import json
import os
import re
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from keenharbor.base.durable import private_folder, sync_folder, write_durably, write_json
from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.base.jsontext import decode_json, encode_json
from keenharbor.base.memory import no_cycle_search
from keenharbor.host.lease import held
from keenharbor.host.programs import is_running
from keenharbor.store.history import LISTED, NAME, History
from keenharbor.store.index import PackIndex
from keenharbor.store.packs import (
    BUNDLED,
    ID_BYTES,
    LEVEL,
    NEAR,
    PACK_SIZE,
    WORTH_WRITING,
    Damage,
    Location,
    ObjectId,
    ObjectSource,
    Packed,
    Packer,
    PackWriter,
    check_pack,
    member_of,
    near_of,
    object_id,
    open_bundle,
    unpack,
    walk_heads,
)

if TYPE_CHECKING:
    from keenharbor.store.writer import ObjectWriter

FORMAT = 1


READ_ME = """\
This folder is a Keen Harbor store. It can be read without the tool.

snapshots/ID.json is the manifest of one snapshot: plain JSON, under "document". "parts" in "tree" names the objects
that hold the list of its paths, in order, each a JSON list of [path, kind, mode, time of change in ns, size, area,
target of a link, objects that make up its content in order, ...]. Each table in "database" names in "chunks" the
objects that hold its rows, as lines of JSON or of tab-separated values ("row_format" of the table in "schema": json, or
copy as COPY and LOAD DATA take it), or in "chunks_in" the object that holds that list.

packs/*/*.pack hold the objects. Each object is a head of 61 bytes and its data:
  4 bytes "KHO3" | 32 bytes BLAKE3 of the content (the object's name) | 1 byte: 0 plain, 1 zstd,
  2 zstd with another object as dictionary, whose 32-byte name comes first
  | 8 bytes stored length | 8 bytes plain length (both little-endian)
  | 8 bytes: the beginning of BLAKE3 over the head before them and, unless it is plain, the data
  (with "KHO2" over plain data, too; heads with "KHO1" have 53 bytes, without these)
index/NAME.pack.json lists, for each object, [byte offset of its data, stored length, plain length, codec]. So
  tail -c +$((OFFSET+1)) packs/ab/ab….pack | head -c STORED_LENGTH | zstd -d
gives the content (codec 0: without zstd; codec 2: cut off the first 32 bytes and use "zstd -d -D OTHER").
Small objects lie several in one zstd frame: for those the index has codec 3 and two numbers more, START and the length
of all that comes out of the frame. There the content is
  tail -c +$((OFFSET+1)) packs/ab/ab….pack | head -c STORED_LENGTH | zstd -d > OUT
  tail -c +$((START+1)) OUT | head -c PLAIN_LENGTH
and before the frame stand 4 bytes "KHB1" | 4 bytes number of objects | 8 bytes stored length | 8 bytes length of what
comes out | for each object 32 bytes BLAKE3 and 4 bytes length | 8 bytes: the beginning of BLAKE3 over all that and the
frame.
Do not write into this folder.
"""
EARLIER_READ_MES = {"51da85bef755bc06a3da28b4f0a30b694db9fe2994ea7da91dec8f5b17c837a2"}
"""BLAKE3 of the texts that earlier versions wrote."""


class Store:
    """Objects by id and documents by name; several runs may use one store at the same time.

    ``behind`` are further sources (other stores) that are asked for objects this one does not have; what they
    have is not stored again.
    """

    def __init__(self, folder: Path, behind: Sequence[ObjectSource] = ()) -> None:
        self.folder = folder
        self.history = History(folder)
        self._behind = tuple(behind)
        self._pack_paths: dict[str, Path] = {}
        self._index_lock = threading.RLock()
        self._index = PackIndex()
        self._read_packs: set[str] = set()
        self._refreshed = False
        self._descriptors: dict[str, int] = {}
        self._descriptors_lock = threading.Lock()
        self._bundles: dict[tuple[str, int], bytes] = {}
        self._bundles_lock = threading.Lock()
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

        self.keeps_history = found.get("history") is True

    @classmethod
    def create(cls, folder: Path, behind: Sequence[ObjectSource] = ()) -> Store:
        """Open the store in ``folder``, making it first where there is none. A folder with other things in it is
        refused."""
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
            write_json(folder / "store.json", {"format": FORMAT, "history": True})
        return cls(folder, behind)

    # -- objects ---------------------------------------------------------------------------------------------

    def _pack_path(self, name: str) -> Path:
        found = self._pack_paths.get(name)
        if found is None:
            found = self._pack_paths[name] = self.folder / "packs" / name[:2] / name
        return found

    def pack_files(self) -> list[Path]:
        """Every sealed pack, in a fixed order."""
        return sorted((self.folder / "packs").glob("*/*.pack"))

    def refresh(self) -> None:
        """Learn of packs that other runs have added or removed. A missing or unreadable index file is made anew from
        its pack."""
        with self._index_lock:
            self._refresh()

    def expect_more(self) -> None:
        """Another process has added packs: learn of them when the next object is asked for."""
        self._refreshed = False

    def _refresh(self) -> None:
        files = self.pack_files()
        if self._read_packs - {f.name for f in files}:
            self._index.clear()
            self._read_packs.clear()
        for file in files:
            if file.name in self._read_packs:
                continue
            entries = self.folder / "index" / f"{file.name}.json"
            try:
                with no_cycle_search():
                    self._index.add_listed(file.name, decode_json(entries.read_bytes()))
            except (OSError, ValueError, TypeError, AttributeError):
                found = dict(item for item in walk_heads(file) if not isinstance(item, Damage))
                with contextlib.suppress(OSError):
                    self._write_index(file.name, found)
                self._index.add(found.items())
            self._read_packs.add(file.name)
        self._refreshed = True  # only now: others may ask meanwhile, and must wait

    def _write_index(self, pack: str, found: dict[ObjectId, Location]) -> None:
        table = {identity: place.as_json() for identity, place in found.items()}
        write_durably(self.folder / "index" / f"{pack}.json", encode_json(table))

    def knows(self, wanted: ObjectId) -> bool:
        """Whether the object is here or in a store behind this one, as far as that is known without looking for packs
        that were added lately."""
        return wanted in self._index or (bool(self._behind) and any(source.has(wanted) for source in self._behind))

    def has(self, wanted: ObjectId) -> bool:
        """Whether the object is here or in a store behind this one."""
        if self._located(wanted) is not None:
            return True
        return bool(self._behind) and any(source.has(wanted) for source in self._behind)

    def is_behind(self, wanted: ObjectId) -> bool:
        """Whether a store behind this one has the object."""
        return any(source.has(wanted) for source in self._behind)

    def read(self, wanted: ObjectId) -> bytes:
        """The object's content, checked. Raises `DamagedError` when it is missing or not what was stored."""
        if wanted not in self._index:
            for source in self._behind:  # what is known to be there need not be looked for in new packs
                if source.has(wanted):
                    return source.read(wanted)
            self.refresh()
        location = self._index.get(wanted)
        if (
            location is not None
            and location.pack not in self._descriptors
            and not self._pack_path(location.pack).exists()
        ):
            self.refresh()  # the pack was written anew meanwhile
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
        if location.codec == BUNDLED:
            return member_of(self._bundle(location, wanted, file), location, wanted, file)
        return unpack(location, self._stored(location, location.stored), wanted, file, self.read)

    def _bundle(self, location: Location, wanted: ObjectId, file: Path) -> bytes:
        """The content of the bundle that an object lies in. Some stay at hand: what lies together was read together,
        and is likely to be asked for together."""
        key = location.pack, location.offset
        with self._bundles_lock:
            found = self._bundles.get(key)
        if found is None:
            found = open_bundle(location, self._stored(location, location.stored), wanted, file)
            with self._bundles_lock:
                self._bundles[key] = found
                while len(self._bundles) > _MOST_OPEN_BUNDLES:
                    self._bundles.pop(next(iter(self._bundles)))
        return found

    def _stored(self, location: Location, count: int) -> bytes:
        """The first bytes of an object's stored data. Raises `DamagedError` when its pack cannot be read.

        Of the packs that were read last a few stay open; the lock keeps one from being closed while it is read.
        """
        file = self._pack_path(location.pack)
        with self._descriptors_lock:
            try:
                found = self._descriptors.pop(location.pack, None)
                if found is None:
                    found = os.open(file, os.O_RDONLY)
                self._descriptors[location.pack] = found  # the last one read stands last
                while len(self._descriptors) > _MOST_OPEN_PACKS:
                    os.close(self._descriptors.pop(next(iter(self._descriptors))))
                return os.pread(found, count, location.offset)
            except OSError as error:
                raise DamagedError(f"a pack cannot be read: {error.strerror}", where=file) from error

    def near(self, wanted: ObjectId) -> tuple[ObjectId, bytes] | None:
        """The object that one like ``wanted`` can be stored near to, with its content: itself, or the one that it is
        stored near to (so that no chain is longer than one). None when it is not in this store's own packs."""
        try:
            base = self.needs(wanted) or wanted
            return (base, self.read(base)) if base in self._index else None
        except DamagedError:
            return None  # what is stored now must not depend on it

    def location(self, wanted: ObjectId) -> Location | None:
        """Where the object is in this store's own packs."""
        return self._located(wanted)

    def _located(self, wanted: ObjectId) -> Location | None:
        if not self._refreshed:
            self.refresh()
        return self._index.get(wanted)

    def objects_of_pack(self, pack: str) -> list[ObjectId]:
        """The ids of all objects of one pack."""
        return [item[0] for item in walk_heads(self._pack_path(pack)) if not isinstance(item, Damage)]

    def needs(self, wanted: ObjectId) -> ObjectId | None:
        """The object that this one is stored near to and cannot be read without; None when there is none."""
        location = self._located(wanted)
        if location is None or location.codec != NEAR:
            return None
        return near_of(self._stored(location, ID_BYTES))

    def close(self) -> None:
        """Close the packs that were opened for reading."""
        with self._descriptors_lock:
            for descriptor in self._descriptors.values():
                os.close(descriptor)
            self._descriptors.clear()

    def __del__(self) -> None:
        if hasattr(self, "_descriptors_lock"):
            self.close()

    def writing(self, workers: int = 2, level: int = LEVEL, *, forks: bool = True) -> ObjectWriter:
        """A writer for one run, with so many threads, or processes where it ``forks``, and that level of compression;
        use it in a ``with`` block."""
        from keenharbor.store.writer import ObjectWriter

        return ObjectWriter(self, workers, level, forks=forks)

    def adopt(self, writer: PackWriter) -> None:
        """Take a sealed pack into the index."""
        self._write_index(writer.name, writer.locations)
        self._read_packs.add(writer.name)
        self._index.add(writer.locations.items())

    def check(self) -> Iterator[tuple[Path, ObjectId | Damage]]:
        """Read every pack again, object by object. An index that does not fit its pack is told of
        and made anew; one that is missing is made."""
        # All indexes first: reading an object looks for it in all of them, and mends what it cannot read.
        for file in self.pack_files():
            found: dict[ObjectId, Location] = {}
            for item in walk_heads(file):
                if not isinstance(item, Damage):
                    found[item[0]] = item[1]
            index = self.folder / "index" / f"{file.name}.json"
            if not index.exists():  # a run was killed between the two: nothing is damaged
                self._write_index(file.name, found)
            try:
                fits = {k: Location(file.name, *v) for k, v in decode_json(index.read_bytes()).items()} == found
            except (OSError, ValueError, TypeError, AttributeError):
                fits = False
            if not fits:
                yield index, Damage(index.name, 0, "the index did not fit its pack and was made anew")
                self._write_index(file.name, found)
                self._index.update(found)
            self._index.add(found.items())
        for file in self.pack_files():
            for checked in check_pack(file, self.read):
                yield file, checked

    # -- documents -------------------------------------------------------------------------------------------

    def document_names(self, kind: str) -> list[str]:
        """Names of the documents of a kind (``snapshots``, ``records``), oldest first as far as names tell."""
        return sorted(p.stem for p in (self.folder / kind).glob("*.json") if not p.name.startswith("."))

    def read_document(self, kind: str, name: str) -> Any:
        """A document's content; None when there is none. Raises `DamagedError` when it is not what was written."""
        file = self.folder / kind / f"{name}.json"
        try:
            held = file.read_bytes()
        except FileNotFoundError:
            return None
        except OSError as error:
            raise DamagedError(f"a stored document is damaged: {error}", where=file) from error
        return self.document_in(held, file)

    @staticmethod
    def document_in(held: bytes, file: Path) -> object:
        """What a document's file says. Raises `DamagedError`."""
        body = held[len(_SUM_BEFORE) + 64 + len(_BODY_BEFORE) : -1]
        try:
            if _with_sum(body) != held:
                raise ValueError("its checksum does not fit")
            return decode_json(body)
        except (ValueError, RecursionError) as error:
            raise DamagedError(f"a stored document is damaged: {error}", where=file) from error

    def write_document(self, kind: str, name: str, value: object) -> None:
        """Write a document durably with its checksum, in place of an earlier one of its name."""
        whole = _with_sum(encode_json(value))
        if not self.keeps_history:
            self._begin_history()
        with self.history.writing(kind, name, object_id(whole)):
            write_durably(self.folder / kind / f"{name}.json", whole)

    def _begin_history(self) -> None:
        """A store of an earlier version has no list: from now on it has."""
        for (kind, name), sum_of in self.documents().items():
            self.history.came(kind, name, sum_of)
        write_json(self.folder / "store.json", {"format": FORMAT, "history": True})
        self.keeps_history = True

    def remove_document(self, kind: str, name: str) -> None:
        """Remove a document, durably; nothing happens when there is none."""
        if not (self.folder / kind / f"{name}.json").exists():
            return
        self.history.removing(kind, name)
        (self.folder / kind / f"{name}.json").unlink(missing_ok=True)
        sync_folder(self.folder / kind)

    def documents(self) -> dict[tuple[str, str], str]:
        """The sums of the documents that the store's list has, by kind and name."""
        found = {}
        for kind in LISTED:
            for name in self.document_names(kind):
                with contextlib.suppress(OSError):
                    found[kind, name] = object_id((self.folder / kind / f"{name}.json").read_bytes())
        return found

    # -- space -----------------------------------------------------------------------------------------------

    def pack_bytes(self) -> int:
        """What the packs take."""
        return sum(f.stat().st_size for f in self.pack_files())

    def document_bytes(self) -> int:
        """What indexes and documents take."""
        return sum(f.stat().st_size for k in ("index", *_DOCUMENTS) for f in (self.folder / k).glob("*.json"))

    def collect(self, wanted: set[ObjectId], advance: Callable[[int, int], None], level: int = LEVEL) -> None:
        """Remove every object that is not ``wanted``, and is not what a wanted one is stored near to.

        Call it with the store `in_use`. Packs of which a part is wanted are written anew before the old ones go; so are
        those of many small runs, together. Of a bundle that is not wanted as a whole, the rest is compressed with
        ``level``."""
        wanted = wanted | {near for o in wanted if (near := self.needs(o)) is not None}
        files = self.pack_files()
        sizes = {file: file.stat().st_size for file in files}
        by_pack: dict[str, list[ObjectId]] = {}
        for identity in wanted:
            place = self._index.get(identity)
            if place is not None:
                by_pack.setdefault(place.pack, []).append(identity)
        kept = {file: sum(self._index[o].space for o in by_pack.get(file.name, ())) for file in files}
        for file in files:
            if not kept[file]:
                self._drop(file)  # first what costs nothing: the disk may be full
        small = [(file, kept[file]) for file in files if 0 < kept[file] < _SMALL_PACK]
        anew = _groups(small, PACK_SIZE) if len(small) >= _MANY_SMALL else []
        joined = set(itertools.chain.from_iterable(anew))
        anew += [[f] for f in files if f not in joined and 0 < kept[f] < sizes[f] * _WORTH_KEEPING]
        total = sum(sizes.values())
        done = total - sum(sizes[file] for group in anew for file in group)
        advance(done, total)
        for number, group in enumerate(anew):
            kept_in_order = [
                identity
                for file in group
                for identity in sorted(by_pack[file.name], key=lambda o: (self._index[o].offset, self._index[o].start))
            ]
            self._write_anew(group, kept_in_order, number, level)
            done += sum(sizes[file] for file in group)
            advance(done, total)
        self.refresh()

    def _drop(self, file: Path) -> None:
        self.close()
        file.unlink()
        (self.folder / "index" / f"{file.name}.json").unlink(missing_ok=True)
        sync_folder(file.parent)

    def _write_anew(self, files: Sequence[Path], kept: Iterable[ObjectId], number: int, level: int = LEVEL) -> None:
        """Copy objects of packs into a new one, and remove them. Raises `DamagedError` for an object that is not sound,
        which must not look so in a new place; nothing is removed then."""
        writer = PackWriter(self.folder / "packs", self.folder / "staging", number)
        packer = Packer(level)
        try:
            for identity in kept:
                place = self._index[identity]
                file = self._pack_path(place.pack)
                if place.codec == BUNDLED:  # of its bundle others may go
                    whole = self._bundle(place, identity, file)
                    packer.add(identity, member_of(whole, place, identity, file))
                else:
                    data = self._stored(place, place.stored)
                    unpack(place, data, identity, file, self.read)
                    packer.add_packed(Packed(identity, place.codec, data, place.plain))
                if packer.size >= WORTH_WRITING:
                    writer.add(packer.take())
            writer.add(packer.take())
            writer.seal()
        except BaseException:
            writer.discard()
            raise
        self._index.update(writer.locations)
        self.adopt(writer)
        sync_folder(self.folder / "index")
        for file in files:
            self._drop(file)

    def drop_damaged(self, files: Iterable[Path], sound: set[ObjectId]) -> None:
        """Write packs that are damaged anew with their ``sound`` objects alone."""
        for number, file in enumerate(files):
            found = dict(item for item in walk_heads(file) if not isinstance(item, Damage))
            self._index.update({k: v for k, v in found.items() if k in sound})
            kept = [k for k in found if k in sound]
            if kept:
                self._write_anew([file], kept, number)
            else:
                self._drop(file)
        self.refresh()

    def read_me_is_right(self) -> bool:
        """Whether the store's own text is as it was written; one that is not, or is of an earlier version, is written
        anew."""
        file = self.folder / "READ ME.txt"
        try:
            held = file.read_bytes()
        except OSError:
            held = b""
        if held == READ_ME.encode():
            return True
        write_durably(file, READ_ME.encode())
        return object_id(held) in EARLIER_READ_MES

    # -- stores that lean on this one --------------------------------------------------------------------------

    def add_dependent(self, folder: Path) -> None:
        """Note that the store in ``folder`` leaves to this one what this one has."""
        private_folder(self.folder / "dependents")
        self.write_document("dependents", object_id(os.fsencode(folder))[:16], {"folder": os.fsdecode(folder)})

    def dependents(self) -> list[Path]:
        """The stores that lean on this one and are there."""
        folders = [Path(self.read_document("dependents", n)["folder"]) for n in self.document_names("dependents")]
        return [f for f in folders if (f / "store.json").exists()]

    # -- between runs ----------------------------------------------------------------------------------------

    def in_use(self) -> contextlib.AbstractContextManager[int]:
        """Held while a run adds to the store: several may, and none removes anything meanwhile."""
        return held(self.folder / _LOCK, "the store", wait_seconds=60, shared=True)

    def alone(self, wait_seconds: float = 60) -> contextlib.AbstractContextManager[int]:
        """Held while a run takes something away: nobody adds anything meanwhile."""
        return held(self.folder / _LOCK, "the store", wait_seconds=wait_seconds, doing="a run that uses it")

    def collect_staging(self, *, alone: bool = False) -> int:
        """Remove what killed runs left unfinished, in any folder of the store; that of runs which go on stays, unless
        the caller has the store `alone`. Returns bytes."""
        freed = 0
        for folder in (".", "staging", *_DOCUMENTS, "index", "packs"):
            for part in (self.folder / folder).glob("*.part"):
                writer = _WRITER.match(part.name)
                if alone or writer is None or not is_running(int(writer[1])):
                    with contextlib.suppress(FileNotFoundError):
                        freed += part.stat().st_size
                        part.unlink()
        return freed


_SUM_BEFORE, _BODY_BEFORE = b'{"blake3":"', b'","document":'


def _with_sum(body: bytes) -> bytes:
    """A document's JSON behind its checksum, as it stands in the file."""
    return b"".join((_SUM_BEFORE, object_id(body).encode(), _BODY_BEFORE, body, b"}"))


_DOCUMENTS = ("snapshots", "records", "dependents")


_LOCK = "staging.lock"


_WRITER = re.compile(r"(?:\..*\.)?(\d+)-")
"""The number of the process that writes, in the name of a file that is being written."""


_MOST_OPEN_PACKS = 32


_MOST_OPEN_BUNDLES = 256


_WORTH_KEEPING = 0.75
"""A pack of which less than this part is wanted is written anew."""


_SMALL_PACK, _MANY_SMALL = 4 * 1024 * 1024, 8
"""From so many packs on of which less than so much is wanted, they are joined."""


def _groups(sized: Iterable[tuple[Path, int]], most: int) -> list[list[Path]]:
    """Files one after another, in groups of at most about ``most`` bytes."""
    found: list[list[Path]] = []
    size = most
    for file, count in sized:
        if size + count > most:
            found.append([])
            size = 0
        found[-1].append(file)
        size += count
    return found


_OWN_NAMES = {NAME, "dependents", "packs", "index", "snapshots", "records", "staging", "READ ME.txt", "staging.lock"}
