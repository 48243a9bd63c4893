"""What a snapshot is made of, and how to find one."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import cached_property
from typing import Any

from keenharbor.base.errors import DamagedError, UsageError
from keenharbor.base.text import now, parse_stamp, stamp
from keenharbor.database import DatabasePlace, Schema, StoredState
from keenharbor.snapshot.lists import entries_in, list_objects, tables_of, tree_of
from keenharbor.snapshot.model import READ_FORMATS, ListedTree, Manifest
from keenharbor.store import ObjectId, Store
from keenharbor.tree import Entry


class OtherFormatError(UsageError):
    """A snapshot that another version of the tool has taken."""


@dataclass(frozen=True)
class Proof:
    """One time that a snapshot was restored and looked at."""

    at: datetime
    how: str
    good: bool
    seconds: float
    detail: str = ""

    def as_json(self) -> dict[str, object]:
        return {
            "at": stamp(self.at),
            "how": self.how,
            "good": self.good,
            "seconds": self.seconds,
            "detail": self.detail,
        }

    @classmethod
    def from_json(cls, v: dict[str, Any]) -> Proof:
        return cls(parse_stamp(v["at"]), v["how"], v["good"], v["seconds"], v["detail"])


@dataclass(frozen=True)
class Snapshot:
    """A snapshot: its manifest, and what was learnt of it later. ``kept`` says why thinning must leave it, if it must;
    ``scanned`` are the entries of one that was taken just now, which the manifest tells of otherwise."""

    store: Store
    manifest: Manifest
    proofs: tuple[Proof, ...] = field(default=())
    kept: str | None = None
    scanned: dict[str, Entry] | None = None

    @property
    def id(self) -> str:
        return self.manifest.id

    @property
    def site(self) -> str:
        return self.manifest.site

    @property
    def label(self) -> str | None:
        return self.manifest.label

    @property
    def reason(self) -> str:
        """Why it was taken."""
        return self.manifest.reason

    @property
    def file_count(self) -> int:
        return self.manifest.file_count

    @property
    def file_bytes(self) -> int:
        return self.manifest.file_bytes

    @property
    def taken_at(self) -> datetime:
        return parse_stamp(self.manifest.taken_at)

    @property
    def proven(self) -> Proof | None:
        """The newest proof, if it was good."""
        newest = max(self.proofs, key=lambda p: p.at, default=None)
        return newest if newest is not None and newest.good else None

    @cached_property
    def entries(self) -> dict[str, Entry]:
        """The tree's entries by path."""
        return self.scanned if self.scanned is not None else tree_of(self.manifest.tree, self.store.read)

    def walk(self) -> Iterator[Entry]:
        """The tree's entries in walking order, a part at a time: nothing of them stays in memory. Raises
        `DamagedError`."""
        tree = self.manifest.tree
        if "entries" in self.__dict__ or self.scanned is not None or not isinstance(tree, ListedTree):
            yield from self.entries.values()
            return
        for identity, _, _ in tree.parts:
            yield from entries_in(identity, self.store.read)

    @cached_property
    def state(self) -> StoredState:
        """The database as it was."""
        database = self.manifest.database
        tables = tables_of(database.tables, self.store.read)
        return StoredState(database.schema, tables, self.store.read, self.manifest.left_empty)

    def as_held(self, schema: Schema, marks: Mapping[str, str | None]) -> Snapshot:
        """The snapshot as a database holds it that was restored from it: defined as ``schema`` says there, with the
        marks that the engine gives the tables there."""
        made = replace(self)
        tables = [replace(t, mark=marks.get(name)) for name, t in self.state.tables.items()]
        made.__dict__["state"] = StoredState(schema, tables, self.store.read, self.manifest.left_empty)
        return made

    @property
    def database_place(self) -> DatabasePlace:
        """Where the database was that was read; without a password."""
        return self.manifest.database.where

    def objects(self) -> Iterator[tuple[str, ObjectId]]:
        """Every object that the snapshot needs, with the path or table it is for. Raises `DamagedError` where a list of
        them cannot be read."""
        yield from list_objects(self.manifest)
        for entry in self.walk():
            for identity in entry.objects:
                yield entry.path, identity
        for table in self.state.tables.values():
            for identity in table.chunk_ids:
                yield f"table {table.name}", identity

    def summary(self) -> dict[str, object]:
        """What ``--json`` lists of it."""
        m = self.manifest
        return {
            "id": self.id, "site": self.site, "taken_at": m.taken_at, "label": m.label, "comment": m.comment,
            "reason": m.reason, "core": m.facts.core, "runtime": m.facts.runtime,
            "files": self.file_count, "file_bytes": self.file_bytes,
            "tables": len(m.database.tables), "rows": m.database.rows,
            "added_bytes": m.added_bytes, "seconds": m.seconds,
            "left_out": m.left_out, "areas_left_out": m.areas_left_out, "unreadable": m.unreadable,
            "unstable": m.unstable, "too_large": m.too_large, "left_empty": m.left_empty,
            "not_kept": m.database.schema.not_kept,
            "proven": self.proven.as_json() if self.proven else None, "kept": self.kept,
        }  # fmt: skip


def read_snapshot(store: Store, identity: str) -> Snapshot:
    """The snapshot with that full id."""
    said = store.read_document("snapshots", identity)
    if said is None:
        raise UsageError(f"there is no snapshot {identity}", where=store.folder)
    form = said.get("format") if isinstance(said, dict) else None
    if form not in READ_FORMATS:
        raise OtherFormatError(
            f"snapshot {identity} has format {form}, and this version of the tool reads format "
            f"{' and '.join(map(str, READ_FORMATS))}",
            where=store.folder,
            advice="restore it with the version of the tool that made it, and take a new one with this version",
        )
    manifest = Manifest.from_json(said)
    if manifest.id != identity:
        raise DamagedError(f"the manifest of {identity} is that of {manifest.id}", where=store.folder)
    record = record_of(store, identity)
    kept = record.get("kept")
    return Snapshot(
        store, manifest, tuple(Proof.from_json(p) for p in record["proofs"]), None if kept is None else str(kept["why"])
    )


def record_of(store: Store, identity: str) -> dict[str, Any]:
    """What was learnt of a snapshot. One whose record is damaged counts as not proven, and stays: it may have been to
    be kept."""
    try:
        return store.read_document("records", identity) or {"proofs": []}
    except DamagedError:
        return {"proofs": [], "kept": {"why": "its record is damaged"}}


def list_snapshots(store: Store, site: str | None = None) -> list[Snapshot]:
    """All readable snapshots (of one site), newest first. One whose manifest is damaged is passed over;
    `verify_store` tells of it."""
    found = []
    for identity in store.document_names("snapshots"):
        try:
            snapshot = read_snapshot(store, identity)
        except (DamagedError, OtherFormatError):
            continue
        if site is None or snapshot.site == site:
            found.append(snapshot)
    return sorted(found, key=lambda s: s.taken_at, reverse=True)


def unreadable_snapshots(store: Store, read: Sequence[Snapshot] = ()) -> list[str]:
    """Ids of the snapshots that `list_snapshots` passes over; those in ``read`` are known to be readable."""
    unread = set(store.document_names("snapshots")) - {s.id for s in read}
    return sorted(unread - {s.id for s in list_snapshots(store)}) if unread else []


def find_snapshot(store: Store, wanted: str, site: str | None = None) -> Snapshot:
    """The snapshot by id, by the beginning of an id, by label, or ``newest``. Raises `UsageError` unless exactly one
    fits."""
    if wanted in store.document_names("snapshots"):
        return read_snapshot(store, wanted)
    known = list_snapshots(store, site)
    if wanted == "newest" and known:
        return known[0]
    fit = [s for s in known if s.label == wanted] or [s for s in known if s.id.startswith(wanted)]
    if len(fit) == 1:
        return fit[0]
    problem = f"several snapshots fit '{wanted}'" if fit else f"there is no snapshot '{wanted}'"
    listed = ", ".join(s.id for s in (fit or known)[:4])
    raise UsageError(
        problem + (f": {listed}" if fit else ""),
        where=store.folder,
        advice="'keenharbor snapshot list' shows them" if known else "'keenharbor snapshot take' takes one",
    )


def change_record(snapshot: Snapshot, change: Callable[[dict[str, Any]], None]) -> None:
    """Change what is written down of the snapshot beside its manifest."""
    record = record_of(snapshot.store, snapshot.id)
    change(record)
    snapshot.store.write_document("records", snapshot.id, record)


def record_proof(snapshot: Snapshot, how: str, good: bool, seconds: float, detail: str = "") -> Proof:
    """Note in the snapshot's record that it was restored and looked at."""
    proof = Proof(now(), how, good, seconds, detail)
    change_record(snapshot, lambda record: record["proofs"].append(proof.as_json()))
    return proof
