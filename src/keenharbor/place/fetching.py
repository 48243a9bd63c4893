"""Fetching from a place: the store comes back, with nothing but the place and the key."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from pathlib import Path

from keenharbor.base.durable import private_folder, write_durably
from keenharbor.base.errors import DamagedError, KeenHarborError, UsageError
from keenharbor.base.jsontext import decode_json, encode_json
from keenharbor.base.progress import Progress
from keenharbor.base.text import plural, size
from keenharbor.place.carriers import CarrierError
from keenharbor.place.checking import wrong_with
from keenharbor.place.keys import OtherKeyError, PlaceKey
from keenharbor.place.line import Line
from keenharbor.place.parcels import Member, opened_parcel
from keenharbor.place.reading import Read, read_states
from keenharbor.place.states import Held, Parcel
from keenharbor.snapshot import list_snapshots
from keenharbor.snapshot.incoming import WrongManifest, check_manifest
from keenharbor.snapshot.lists import entries_in
from keenharbor.snapshot.model import ListedTree, Manifest
from keenharbor.store import Store
from keenharbor.store.receiving import Receiver
from keenharbor.tree import Entry

_DONE = "fetched.json"
_NOTED_EVERY = 16
"""Parcels behind which a run that is cut goes on."""


@dataclass
class Fetched:
    """What came of fetching: the store's folder, the snapshots that are whole and those that are not, what was wrong.
    ``at`` is when the newest state was written, whose number is ``state``."""

    store: Path
    state: int = 0
    at: str = ""
    whole: list[str] = field(default_factory=list)
    lacking: list[str] = field(default_factory=list)
    parcels: int = 0
    bytes: int = 0
    papers: list[str] = field(default_factory=list)
    site_file: Path | None = None
    problems: list[str] = field(default_factory=list)

    @property
    def good(self) -> bool:
        return not (self.lacking or self.problems)

    def as_json(self) -> dict[str, object]:
        return {
            "store": str(self.store), "state": self.state, "at": self.at, "whole": self.whole,
            "lacking": self.lacking, "parcels": self.parcels, "bytes": self.bytes, "papers": self.papers,
            "site_file": str(self.site_file) if self.site_file else None,
            "problems": self.problems,
        }  # fmt: skip


@dataclass(frozen=True)
class Found:
    """A berth in a place that a key opens."""

    folder: str
    read: Read

    @property
    def sites(self) -> list[str]:
        return sorted({s.site for s in self.read.held.snapshots.values()})


def berths_in(line: Line, key: PlaceKey, upto: int | None = None) -> tuple[list[Found], int]:
    """What a key opens in a place, as it is or was at the state ``upto``; and how many berths it does not open."""
    folders = sorted({n.partition("/")[0] for n in line.sizes("") if "/states/" in n})
    found, others = [], 0
    for folder in folders:
        try:
            read = read_states(line, folder, key.secret, key.seed, Held(), upto)
        except OtherKeyError:
            others += 1
            continue
        if read.held.number:
            found.append(Found(folder, read))
        elif read.problems:
            others += 1
    return found, others


def find_berth(line: Line, key: PlaceKey, whence: str, wanted: str | None = None, upto: int | None = None) -> Found:
    """What a key opens in a place: all that there is, or the berth that is ``wanted`` by its site or its folder. Raises
    `KeenHarborError` where it opens nothing, `UsageError` where it is not said which."""
    found, others = berths_in(line, key, upto)
    if not found:
        if others:
            what = f"this key opens nothing there ({plural(others, 'folder')} of other keys, or damaged)"
            raise KeenHarborError(what, where=whence, advice="is it the key of this place?")
        raise KeenHarborError("there is nothing there", where=whence, advice="is it the folder that was added?")
    named = [f for f in found if wanted in (None, f.folder, *f.sites)]
    if len(named) != 1:
        raise UsageError(
            "this key opens more than one folder there", advice="say which with --of",
            details=[f"{f.folder}  {', '.join(f.sites)}" for f in found],
        )  # fmt: skip
    return named[0]


def fetch(
    line: Line, berth: Found, key: PlaceKey, into: Path, progress: Progress, *, only: Sequence[str] = (),
    connections: int = 4,
) -> Fetched:  # fmt: skip
    """Bring back the store of a berth to ``into/store``, or what is needed of it for the snapshots ``only``. What is
    there of an earlier run is not fetched again. A parcel that is damaged is told of, and the rest comes all the same.
    Raises `UsageError`, `CarrierError`."""
    held = berth.read.held
    unknown = [i for i in only if i not in held.snapshots]
    if unknown:
        raise UsageError(f"the place has no snapshot '{unknown[0]}'", advice="without --snapshot all are fetched")
    result = Fetched(into / "store", held.number, held.at, problems=list(berth.read.problems))
    store = Store.create(private_folder(into / "store"))
    receiver = Receiver(store)
    members = _wanted(held, only or list(held.snapshots))
    done = _done(into)
    parcels = {p.name: p for parts in members.values() for _, p in parts if p.name not in done}
    total = sum(p.size for p in parcels.values())
    progress.stage(f"Fetching {plural(len(parcels), 'parcel')}, {size(total)}")
    by_sum = {p.sum: p.name for p in held.parcels.values()}
    documents: dict[str, bytes] = {}

    def get(parcel: Parcel) -> str:
        """Fetch a parcel and lay what is in it where it belongs; what is wrong with it."""
        try:
            content = line.get(parcel.name, parcel.size)
            if wrong := wrong_with(parcel, content, by_sum):
                return wrong
            for member, piece in opened_parcel(key.open(content), parcel.members):
                if (member, parcel) in members.get(member.path, ()):
                    if member.path.startswith("packs/"):
                        receiver.lay(Path(member.path).name, piece, member.part, member.parts)
                    else:
                        documents[member.path] = piece
        except CarrierError as error:
            if error.passing:
                raise
            return error.what
        except DamagedError as error:
            return error.what
        return ""

    fetched = 0
    with store.in_use(), ThreadPoolExecutor(connections, "fetch") as pool:
        for some in _batches(list(parcels.values()), _NOTED_EVERY):
            for parcel, wrong in zip(some, pool.map(get, some), strict=True):
                if wrong:
                    result.problems.append(f"parcel {parcel.name.rpartition('/')[2][:8]}…: {wrong}")
                elif all(m.path.startswith("packs/") for m in parcel.members):  # documents come last, so again
                    done.append(parcel.name)
                fetched += parcel.size
                result.parcels, result.bytes = result.parcels + 1, result.bytes + parcel.size
                progress.advance(fetched, total, "byte")
            write_durably(into / _DONE, json.dumps(done).encode())
        _finish(store, receiver, into, members, documents, held, only, result)
    return result


def _wanted(held: Held, snapshots: Iterable[str]) -> dict[str, list[tuple[Member, Parcel]]]:
    """The files that are needed for these snapshots, with the parts of each."""
    members = held.members()
    paths = {f"packs/{pack[:2]}/{pack}" for i in snapshots for pack in held.snapshots[i].packs}
    paths |= {f"{kind}/{i}.json" for i in snapshots for kind in ("snapshots", "records")}
    return {p: parts for p, parts in members.items() if p in paths or p.startswith("papers/")}


def _batches(parcels: list[Parcel], count: int) -> Iterable[list[Parcel]]:
    for at in range(0, len(parcels), count):
        yield parcels[at : at + count]


def _done(into: Path) -> list[str]:
    try:
        found = json.loads((into / _DONE).read_bytes())
    except (OSError, ValueError):
        return []
    return [n for n in found if isinstance(n, str)] if isinstance(found, list) else []


def _finish(
    store: Store, receiver: Receiver, into: Path, members: dict[str, list[tuple[Member, Parcel]]],
    documents: dict[str, bytes], held: Held,
    only: Sequence[str], result: Fetched,
) -> None:  # fmt: skip
    """Join the parts of packs, take in the documents, and say which snapshots are whole."""
    lacking = {
        Path(path).name
        for path, parts in members.items()
        if path.startswith("packs/") and not receiver.joined(Path(path).name, [m.sum for m, _ in parts])
    }
    store.refresh()
    checked: set[str] = set()
    for path, content in sorted(documents.items()):
        kind, _, name = path.partition("/")
        if kind == "papers":
            write_durably(private_folder(into / kind) / name, content)
            result.papers.append(path)
        else:
            try:
                if kind == "snapshots":
                    _check(store, content, checked)
                receiver.take_document(kind, name.removesuffix(".json"), content)
            except KeenHarborError as error:
                result.problems.append(f"{path}: {error.what}")
    result.site_file = _described(into, result.papers)
    here = {s.id for s in list_snapshots(store)}
    for identity in sorted(only or held.snapshots):
        whole = identity in here and not lacking & set(held.snapshots[identity].packs)
        (result.whole if whole else result.lacking).append(identity)


def _check(store: Store, content: bytes, checked: set[str]) -> None:
    """Raise `DamagedError` for a manifest that the tool would not have written, as of an archive that comes in: who
    took over the machine that sends has what seals and signs. Lists of paths that snapshots share are read once."""
    manifest = Manifest.from_json(Store.document_in(content, store.folder))
    entries: list[Entry] = []
    tree = manifest.tree
    read: set[str] = set()
    for identity, _, _ in tree.parts if isinstance(tree, ListedTree) else ():
        if identity not in checked:
            with contextlib.suppress(DamagedError):  # what is lacking is told of elsewhere
                entries += entries_in(identity, store.read)
                read.add(identity)
    told = replace(manifest, tree=tuple(entries) if isinstance(tree, ListedTree) else tree).as_json()
    try:
        check_manifest(decode_json(encode_json(told)))
    except WrongManifest as error:
        raise DamagedError(f"it is not taken: {error}") from None
    checked |= read  # only now: another manifest may share the list for which this one was refused


def _described(into: Path, papers: list[str]) -> Path | None:
    """Lay a site file beside the store by which the tool finds it: as it was, but for where the store is. None where
    there is none; one that is there already stays."""
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    for paper in papers:
        target = into / Path(paper).name
        if target.exists():
            if paper.endswith(".toml") and "site" in tomlkit.parse(target.read_text(encoding="utf-8")):
                return target
            continue
        text = (into / paper).read_text(encoding="utf-8")
        try:
            document = tomlkit.parse(text)
        except TOMLKitError:
            continue
        if "site" not in document or not isinstance(document["site"], dict):
            continue
        document.setdefault("store", tomlkit.table())["path"] = "store"
        document["site"]["work"] = "harbor"
        if isinstance(extends := document.get("extends"), str):
            document["extends"] = f"papers/{Path(extends).name}"
        write_durably(target, tomlkit.dumps(document).encode())
        return target
    return None
