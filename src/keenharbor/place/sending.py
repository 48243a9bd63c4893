"""Sending to a place: what it lacks of the store's packs and documents, sealed.

A pack goes when it holds an object that a snapshot needs and the place has in no other pack, be it one that is gone
here (thinning writes packs anew). What was sent is noted parcel by parcel, so that a run which was cut goes on where it
was; a state at the end makes it count."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from threading import Lock

from blake3 import blake3

from keenharbor.base.errors import DamagedError
from keenharbor.base.progress import Progress
from keenharbor.base.text import now, plural, size, stamp
from keenharbor.host.lease import held as lease
from keenharbor.place.berth import Berth, BerthKeys, LastSend, newest_of
from keenharbor.place.line import Line
from keenharbor.place.parcels import Piece, grouped, piece_of, pieces_of, sealed_parcel
from keenharbor.place.places import Place
from keenharbor.place.reading import read_states
from keenharbor.place.rescue import guide_text, program_text
from keenharbor.place.states import WHOLE_EVERY, Held, Parcel, Sent, State, state_object, sum_of, whole_state
from keenharbor.site.whereabouts import Whereabouts
from keenharbor.snapshot import Snapshot, list_snapshots
from keenharbor.store import Store

Clock = Callable[[], datetime]


@dataclass
class Sending:
    """What came of a sending."""

    place: str
    snapshots: list[str] = field(default_factory=list)
    parcels: int = 0
    bytes: int = 0
    state: int = 0
    waits_until: datetime | None = None
    problems: list[str] = field(default_factory=list)
    newest: str | None = None
    in_all: int = 0

    @property
    def good(self) -> bool:
        return not self.problems

    def as_json(self) -> dict[str, object]:
        return {
            "place": self.place, "snapshots": self.snapshots, "parcels": self.parcels, "bytes": self.bytes,
            "state": self.state, "waits_until": stamp(self.waits_until) if self.waits_until else None,
            "problems": self.problems, "newest_snapshot": self.newest, "snapshots_in_all": self.in_all,
        }  # fmt: skip


@dataclass
class _Need:
    """What is to go: packs, documents, and what the state will say of the snapshots."""

    packs: list[str]
    documents: list[Path]
    snapshots: dict[str, Sent]
    gone: list[str]


def send(
    where: Whereabouts, place: Place, store: Store, progress: Progress, *, anyway: bool = False, clock: Clock = now
) -> Sending:
    """Send what the place lacks of the site's snapshots; ``anyway`` also outside its hours. Raises `CarrierError` when
    the line stays broken; what was sent until then counts the next time."""
    keys, berth = place.berth.keys(), place.berth
    result = Sending(place.name)
    with lease(berth.lock, f"the place '{place.name}'", doing="send"), store.in_use():

        def hours() -> datetime | None:
            return None if anyway else place.waits_until(clock().astimezone())

        result.waits_until = hours()
        if result.waits_until is not None:
            return result
        mark = _mark(where, store)
        with place.line(progress.note) as line:
            _Sender(where, place, keys, store, line, progress, hours, result).go(mark)
        whole = mark if result.good and result.waits_until is None else ""
        berth.note_send(LastSend(clock(), result.good, result.bytes, result.snapshots, whole))
    return result


class _Sender:
    """One sending."""

    def __init__(
        self, where: Whereabouts, place: Place, keys: BerthKeys, store: Store, line: Line, progress: Progress,
        hours: Callable[[], datetime | None], result: Sending,
    ) -> None:  # fmt: skip
        self._where, self._place, self._keys, self._store = where, place, keys, store
        self._line, self._progress, self._hours, self._result = line, progress, hours, result
        self._berth: Berth = place.berth
        self._noting = Lock()

    def go(self, mark: str) -> None:
        """Learn what there is, send what is lacking, and say so in a state. Where the documents are those of the last
        sending by their ``mark``, and the place is as it was left, nothing is lacking."""
        known = self._berth.held()
        read = read_states(self._line, self._keys.folder, self._keys.own, self._keys.seed, known)
        self._result.problems += read.problems
        held = read.held if not read.problems else _joined(known, read.held)
        self._result.state, self._result.in_all = held.number, len(held.snapshots)
        bad = {n for n, r in self._berth.readings().items() if r.wrong and n in held.parcels}
        last = self._berth.last_send()
        if last is not None and last.mark == mark and not bad and not read.problems and held.number == known.number:
            newest = newest_of(held.snapshots)
            self._result.newest = newest[0] if newest is not None else None
            return
        need = self._need(held, bad)
        if need.packs or need.documents or need.snapshots or need.gone or bad or read.problems:
            whole = not held.number or held.since_whole >= WHOLE_EVERY or bool(read.problems)
            number = max(held.number, read.newest) + 1
            present, before = set(held.parcels), held.sum
            if not self._send(need, held, number):
                return
            new = tuple(p for n, p in held.parcels.items() if n not in present)
            for name in bad:
                held.parcels.pop(name, None)
            held.snapshots.update(need.snapshots)
            for name in need.gone:
                held.snapshots.pop(name, None)
            folder, reader = self._keys.folder, self._keys.reader
            if whole or number != held.number + 1:
                state = whole_state(folder, number, held, before, reader)
            else:
                gone, dropped = tuple(need.gone), tuple(sorted(bad))
                state = State(folder, number, stamp(now()), before, False, reader, new, dropped, need.snapshots, gone)
            self._say(need, held, state)
        elif held.number != known.number:
            self._berth.note_held(held)
        newest = newest_of(held.snapshots)
        self._result.newest = newest[0] if newest is not None else None

    # -- what is to go ----------------------------------------------------------------------------------------

    def _need(self, held: Held, bad: set[str]) -> _Need:
        present = held.members(bad)
        packs_there = {Path(p).name for p in present if p.startswith("packs/")}
        damaged = {i for i, s in held.snapshots.items() if not set(s.packs) <= packs_there}
        here = {s.id: s for s in list_snapshots(self._store, self._where.name)}
        gone = sorted(i for i in damaged if i not in here)
        if gone:
            self._result.problems.append(
                f"{plural(len(gone), 'snapshot')} cannot be made whole in the place, being gone here, too: "
                + ", ".join(gone[:3])
            )
        wanted = [s for i, s in here.items() if i not in held.snapshots or i in damaged]
        packs, sent = self._packs(wanted, packs_there) if wanted else ([], {})
        documents = [
            file
            for file in self._documents(here)
            if (told := present.get(_path_of(file, self._store.folder))) is None
            or told[0][0].sum != blake3(file.read_bytes()).hexdigest()
        ]
        return _Need(packs, documents, sent, gone)

    def _documents(self, snapshots: dict[str, Snapshot]) -> Iterator[Path]:
        for kind in ("snapshots", "records"):
            for name in snapshots:
                if (file := self._store.folder / kind / f"{name}.json").exists():
                    yield file
        yield from papers(self._where)

    def _packs(self, wanted: list[Snapshot], there: set[str]) -> tuple[list[str], dict[str, Sent]]:
        """The packs that have to go, and what the state says of the snapshots."""
        self._store.refresh()
        elsewhere: dict[bytes, str] | None = None
        lacking: dict[str, None] = {}
        sent: dict[str, Sent] = {}
        for snapshot in sorted(wanted, key=lambda s: s.taken_at):
            by_pack: dict[str, list[str]] = {}
            for identity in self._objects(snapshot):
                place = self._store.location(identity)
                if place is None:
                    raise DamagedError(
                        f"snapshot {snapshot.id} lacks an object: it cannot be sent",
                        advice="keenharbor snapshot verify",
                    )
                by_pack.setdefault(place.pack, []).append(identity)
            packs: set[str] = set()
            for pack, objects in by_pack.items():
                if pack not in there and pack not in lacking:
                    if elsewhere is None:
                        elsewhere = self._berth.packs_by_object(there)
                    others = {elsewhere.get(bytes.fromhex(o)) for o in objects}
                    if None not in others:
                        packs |= {o for o in others if o is not None}
                        continue
                    lacking[pack] = None
                packs.add(pack)
            sent[snapshot.id] = Sent(
                snapshot.site, snapshot.manifest.taken_at, snapshot.label, snapshot.file_count, snapshot.file_bytes,
                tuple(sorted(packs)),
            )  # fmt: skip
        return list(lacking), sent

    def _objects(self, snapshot: Snapshot) -> set[str]:
        """All objects that a snapshot needs, with those that they are stored near to."""
        own = {identity for _, identity in snapshot.objects()}
        return own | {near for identity in own if (near := self._store.needs(identity)) is not None}

    # -- sending ----------------------------------------------------------------------------------------------

    def _pieces(self, need: _Need, pending: list[Parcel]) -> Iterator[Piece]:
        done = {(m.path, m.part, m.parts) for p in pending for m in p.members if m.path.startswith("packs/")}
        largest = self._place.parcel_bytes
        for pack in need.packs:
            path = f"packs/{pack[:2]}/{pack}"
            yield from pieces_of(self._store.folder / path, path, largest, done)

    def _groups(self, need: _Need, pending: list[Parcel]) -> Iterator[list[Piece]]:
        """Pieces for one parcel each; documents, which change, have their own."""
        largest = self._place.parcel_bytes
        yield from grouped(self._pieces(need, pending), largest)
        documents = (piece_of(_path_of(f, self._store.folder), f.read_bytes()) for f in need.documents)
        yield from grouped(documents, largest)

    def _send(self, need: _Need, held: Held, number: int) -> bool:
        """Send all, several parcels at once. False where the hours of the place ended before."""
        pending = self._berth.pending(number)
        for parcel in pending:
            held.parcels[parcel.name] = parcel
        total = sum((self._store.folder / "packs" / p[:2] / p).stat().st_size for p in need.packs)
        done = sum(m.size for p in pending for m in p.members)
        if total:
            left = f", {size(done)} of it there already" if done else ""
            self._progress.stage(
                f"Sending {plural(len(need.snapshots), 'snapshot')} to '{self._place.name}': {size(total)}{left}"
            )
        waiting: list[Future[Parcel]] = []

        def take(future: Future[Parcel]) -> None:
            nonlocal done
            parcel = future.result()
            held.parcels[parcel.name] = parcel
            self._result.parcels += 1
            self._result.bytes += parcel.size
            done += sum(m.size for m in parcel.members)
            self._progress.advance(min(done, total), total, "byte")

        with ThreadPoolExecutor(self._place.part.connections, "send") as pool:
            try:
                for group in self._groups(need, pending):
                    until = self._hours()
                    if until is not None:
                        self._result.waits_until = until
                        break
                    sealed = sealed_parcel(group, self._keys.recipient)
                    waiting.append(pool.submit(self._put, sealed, tuple(m for m, _ in group), number))
                    while len(waiting) > self._place.part.connections:
                        take(waiting.pop(0))
            finally:
                # What others have sent meanwhile counts, whatever became of one.
                failed: BaseException | None = None
                for future in waiting:
                    try:
                        take(future)
                    except BaseException as error:
                        failed = failed or error
            if failed is not None:
                raise failed
        return self._result.waits_until is None

    def _put(self, sealed: bytes, members: tuple[object, ...], number: int) -> Parcel:
        name = self._line.put_new(f"{self._keys.folder}/parcels", sealed)
        parcel = Parcel(name, len(sealed), sum_of(sealed), members)  # type: ignore[arg-type]
        with self._noting:  # here, and not where the next one is sealed: that would wait for the disk
            self._berth.note_sent(parcel, number)
        return parcel

    # -- saying so --------------------------------------------------------------------------------------------

    def _say(self, need: _Need, held: Held, state: State) -> None:
        """Write the state that tells of all this."""
        for pack in need.packs:
            self._berth.note_pack(pack, self._store.objects_of_pack(pack))
        write_state(self._line, self._keys, state, held)
        self._berth.note_held(held)
        self._berth.forget_pending()
        self._result.snapshots = sorted(need.snapshots)
        self._result.state, self._result.in_all = state.number, len(held.snapshots)


def write_state(line: Line, keys: BerthKeys, state: State, held: Held) -> None:
    """Put a state into the place; ``held``, what it comes to, goes on to it."""
    sealed = state_object(state, keys.seed, keys.recipient)
    line.put_new(f"{keys.folder}/states", sealed, f"{state.number:08d}")
    held.take(state, sum_of(sealed))


def put_rescue(line: Line) -> None:
    """Lay the program and the page beside what is sent that need none of this tool."""
    line.put("READ ME.txt", guide_text().encode())
    line.put("rescue.py", program_text().encode())


def _mark(where: Whereabouts, store: Store) -> str:
    """A digest of which documents there are, and when each was written."""
    digest = blake3(where.name.encode())
    for folder in (store.folder / "snapshots", store.folder / "records"):
        for entry in sorted(os.scandir(folder), key=lambda e: e.name):
            facts = entry.stat()
            digest.update(f"{folder.name}/{entry.name} {facts.st_size} {facts.st_mtime_ns}\n".encode())
    for paper in papers(where):
        digest.update(paper.read_bytes())
    return digest.hexdigest()


def papers(where: Whereabouts) -> Iterator[Path]:
    """What is needed beside the store to restore: the site file, and the platform file that it extends."""
    from keenharbor.site.whereabouts import read_said

    yield where.site_file
    _, platform = read_said(where.site_file)
    if platform is not None and platform.name != where.site_file.name:
        yield platform


def _path_of(file: Path, store: Path) -> str:
    """A document's path in a parcel."""
    if store in file.parents:
        return file.relative_to(store).as_posix()
    return f"papers/{file.name}"


def _joined(known: Held, read: Held) -> Held:
    """What the place may hold where its states are not right: all that was sent, and all that they say."""
    return Held(
        max(known.number, read.number), known.sum, known.at, {**known.parcels, **read.parcels},
        {**known.snapshots, **read.snapshots},
    )  # fmt: skip
