"""Comparing any two states of a site: live, a snapshot, a clone."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from dataclasses import dataclass

from keenharbor.base.errors import UsageError
from keenharbor.base.progress import Progress
from keenharbor.clone.clone import Clone
from keenharbor.clone.mailbox import Mailbox
from keenharbor.clone.making import make_clone, open_clone
from keenharbor.compare import (
    Finding,
    Look,
    Noise,
    Observation,
    Visitor,
    compare_files,
    compare_pages,
    compare_settings,
    compare_tables,
    group,
    learn_noise,
    take_look,
)
from keenharbor.compare.state import settings_of
from keenharbor.database import DatabasePlace, DatabaseState, row_delta
from keenharbor.database.kinds import NO_ENGINE
from keenharbor.database.rewrite import Rewriter
from keenharbor.host.addresses import is_far
from keenharbor.site.load import far_host
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot, find_snapshot, list_snapshots
from keenharbor.store import Store, object_id
from keenharbor.tree import Entry
from keenharbor.tree.scan import Hashing, read_content
from keenharbor.trial.record import read_record
from keenharbor.trial.renamed import RenamedState, renamed_entries
from keenharbor.trial.result import find_trial

SAMPLES = 3
CLONE_PREFIX = "clone:"
CHECKPOINT_PREFIX = "checkpoint:"
BEFORE = "before"
"""The checkpoint before the first step."""


@dataclass(frozen=True)
class Compared:
    """Two states by name, what differs from the left to the right, the noise left out, pages looked at."""

    left: str
    right: str
    findings: tuple[Finding, ...]
    noise: tuple[str, ...]
    pages: int | None

    def as_json(self) -> dict[str, object]:
        return {
            "left": self.left, "right": self.right, "findings": [f.as_json() for f in self.findings],
            "noise": list(self.noise), "pages": self.pages,
        }  # fmt: skip


@dataclass(frozen=True)
class _Side:
    name: str
    entries: Mapping[str, Entry] | None
    state: DatabaseState | None
    ini: dict[str, str]
    address: str | None


def compare_states(live: SiteView, left: str, right: str, progress: Progress, *, pages: bool = True) -> Compared:
    """Compare two of ``live``, a snapshot (id, label, ``newest``), ``clone:ID``, ``checkpoint:STEP`` (the newest
    trial's, after that step), an address, of which only pages can be seen, or a folder on another machine (``ssh://``),
    of which only files can.

    For pages a snapshot is served from a clone made for the purpose and dropped. Live is only read; its files that were
    not touched since the snapshot that it is compared with are taken to be as they were there.
    """
    pages = pages and not (is_far(left) or is_far(right))
    with contextlib.ExitStack() as stack:
        saved = {w: find_snapshot(Store(live.store_folder), w, live.name) for w in (left, right) if _is_saved(w)}
        known = next((s.entries for s in saved.values()), {})
        a = _side(live, left, saved.get(left), known, stack, progress, pages)
        b = _side(live, right, saved.get(right), known, stack, progress, pages)
        progress.stage("comparing files, data and settings")
        seen: list[Observation] = []
        # The settings file is compared key by key; a clone's mail settings differ on purpose.
        if a.entries is not None and b.entries is not None:
            seen += compare_files(a.entries, b.entries, [live.settings_path])
            seen += compare_settings(a.ini, b.ini, prefix=f"{live.settings_path} ")
        if a.state is not None and b.state is not None:
            seen += compare_tables(row_delta(a.state, b.state), live.model)
            seen += compare_settings(settings_of(a.state, live.model), settings_of(b.state, live.model))
        noise, count = Noise(), None
        if pages and a.address and b.address:
            progress.stage(f"looking at {a.name}, twice")
            first, second = _look(live, a.address, progress), _look(live, a.address, progress)
            progress.stage(f"looking at {b.name}, twice")
            third, fourth = (_look(live, b.address, progress, second) for _ in range(2))
            noise = learn_noise([first, second]) | learn_noise([third, fourth])
            seen += compare_pages(second, fourth, noise)
            count = len(second.pages)
        return Compared(a.name, b.name, tuple(group((o, None, None) for o in seen)), tuple(noise.listing()), count)


def _look(live: SiteView, address: str, progress: Progress, also: Look | None = None) -> Look:
    with Visitor(address) as visitor:
        return take_look(
            visitor, live.model.look, also=tuple(also.pages) if also else (), samples=SAMPLES, served=False, learn=True,
            progress=progress,
        )  # fmt: skip


def _is_saved(wanted: str) -> bool:
    """Whether a state is a snapshot of the store."""
    return wanted != "live" and not wanted.startswith(
        (CLONE_PREFIX, CHECKPOINT_PREFIX, "http://", "https://", "ssh://")
    )


def _side(
    live: SiteView, wanted: str, saved: Snapshot | None, known: Mapping[str, Entry], stack: contextlib.ExitStack,
    progress: Progress, pages: bool,
) -> _Side:  # fmt: skip
    if wanted == "live":
        progress.stage("reading the files of live")
        scan = live.scan()
        read_content(
            live.files, scan, Hashing(), known, None, lambda done, total: progress.advance(done, total, "byte")
        )
        state = stack.enter_context(live.reading_database())
        return _Side("live", scan.entries, state, live.settings(), live.address)
    if wanted.startswith(CLONE_PREFIX):
        return _clone_side(live, wanted, stack, pages)
    if wanted.startswith(("http://", "https://")):
        return _Side(wanted, None, None, {}, wanted.rstrip("/"))
    if is_far(wanted):
        return _folder_side(live, wanted, known, progress)
    was_at: str | None = None
    if saved is None:
        saved, was_at = _checkpoint(live, wanted.removeprefix(CHECKPOINT_PREFIX))
    snapshot = saved
    settings = snapshot.entries.get(live.settings_path)
    text = b"".join(snapshot.store.read(o) for o in settings.objects) if settings else b""
    ini = live.settings_in(text.decode("utf-8"))
    address = None
    if pages:
        progress.stage(f"making a clone of snapshot {snapshot.id} to look at its pages")
        mailbox = stack.enter_context(Mailbox())
        clone = make_clone(live, snapshot, "compare", mail_port=mailbox.port, was_at=was_at)
        stack.callback(clone.drop)
        clone.start()
        address = clone.address
    if was_at is not None:
        return _renamed_checkpoint(live, wanted, snapshot, was_at, ini, address)
    return _Side(f"snapshot {snapshot.id}", snapshot.entries, snapshot.state, ini, address)


def _folder_side(live: SiteView, wanted: str, known: Mapping[str, Entry], progress: Progress) -> _Side:
    """A folder on another machine: its files, and what its settings file says."""
    host, place = far_host(wanted, live.model.line, live.site_file.absolute().parent, live.work)
    there = SiteView(live.model, live.site_file, place, DatabasePlace(NO_ENGINE), live.work, live.store_folder, host)
    progress.stage(f"reading the files of {wanted}")
    scan = there.scan()
    read_content(there.files, scan, Hashing(), {}, None, lambda done, total: progress.advance(done, total, "byte"))
    try:
        said = there.settings()
    except (UsageError, OSError):
        said = {}
    return _Side(wanted, scan.entries, None, said, None)


def _checkpoint(live: SiteView, step: str) -> tuple[Snapshot, str]:
    """The newest trial's checkpoint after a step, and the address that its clone had."""
    trial = find_trial(live.work)
    record = read_record(live.work / "trials" / trial.id)
    found = next((s.record.checkpoint for s in record.steps if s.name == step), None)
    if step == BEFORE:
        found = record.before.initial
    if found is None:
        names = ", ".join([BEFORE, *(s.name for s in record.steps)])
        raise UsageError(f"trial {trial.id} has no checkpoint '{step}'", advice=f"it has: {names}")
    origin = find_snapshot(Store(live.store_folder), record.before.snapshot, live.name)
    return find_snapshot(Store(record.checkpoints, [origin.store]), found, live.name), record.before.address


def _renamed_checkpoint(
    live: SiteView, name: str, snapshot: Snapshot, was_at: str, ini: dict[str, str], address: str | None
) -> _Side:
    """A checkpoint with its clone's places written as live's."""
    places = {was_at: live.address, snapshot.manifest.root: live.place}
    places |= dict(zip(snapshot.database_place.marks, live.database.marks, strict=False))
    back = Rewriter(places)
    own = {k: back.text(v) for k, v in ini.items()}
    if live.model.mail is not None:
        now = live.settings()
        own |= {k: now[k] for k in (live.model.mail.host, live.model.mail.port) if k in now}
    entries = renamed_entries(snapshot, back, object_id)
    return _Side(name, entries, RenamedState(snapshot.state, back), own, address)


def _clone_side(live: SiteView, wanted: str, stack: contextlib.ExitStack, pages: bool) -> _Side:
    clone = open_clone(live, wanted.removeprefix(CLONE_PREFIX))
    origin = _origin(live, clone)
    back = Rewriter(
        {
            clone.address: live.address,
            **dict(zip(clone.site.database_place.marks, live.database.marks, strict=False)),
            clone.site.place: live.place,
        }
    )
    scan = clone.site.scan()
    read_content(clone.site.files, scan, Hashing(), {}, None, lambda done, total: None)
    entries = dict(scan.entries)
    for path in clone.facts.rewritten_files:
        entry = entries.get(path)
        if entry is not None and entry.kind == "file":
            text = clone.site.path(path).read_bytes().decode("utf-8", "surrogateescape")
            entries[path] = entry._replace(objects=(object_id(back.text(text).encode("utf-8", "surrogateescape")),))
    state = RenamedState(stack.enter_context(clone.site.reading_database()), back)
    ini = {k: back.text(v) for k, v in clone.site.settings().items()}
    if live.model.mail is not None and origin is not None:
        for key in (live.model.mail.host, live.model.mail.port):
            if key in origin:
                ini[key] = origin[key]
    if pages:
        clone.start()
        stack.callback(clone.stop)
    return _Side(f"clone {clone.id}", entries, state, ini, clone.address)


def _origin(live: SiteView, clone: Clone) -> dict[str, str] | None:
    """The settings file of the snapshot that the clone was made from."""
    known: list[Snapshot] = list_snapshots(Store(live.store_folder), live.name)
    snapshot = next((s for s in known if s.id == clone.facts.snapshot), None)
    entry = snapshot.entries.get(live.settings_path) if snapshot else None
    if snapshot is None or entry is None:
        return None
    text = b"".join(snapshot.store.read(o) for o in entry.objects).decode("utf-8")
    return live.settings_in(text)


def check_names(left: str, right: str) -> None:
    """Refuse to compare a state with itself."""
    if left == right:
        raise UsageError("both sides are the same", advice="name two of: live, a snapshot, clone:ID")
