"""Making clones, opening those that are there, and closing them."""

from __future__ import annotations

import dataclasses
import os
from collections.abc import Callable
from pathlib import Path, PurePosixPath

from keenharbor.base.durable import (
    copy_file,
    free_bytes,
    private_folder,
    remove_folder,
)
from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.base.text import now, size, stamp
from keenharbor.clone.clone import Clone, drop_database, scratch_place, site_of
from keenharbor.clone.elsewhere import environment_here
from keenharbor.clone.facts import TRIAL_PURPOSE, CloneFacts, find_clone, write_facts
from keenharbor.clone.marks import end_marked, mark_of
from keenharbor.clone.quarantine import HolderFacts
from keenharbor.clone.sealed import live_secrets
from keenharbor.clone.server import free_port
from keenharbor.clone.ties import cut_ties, put_programs, rewriter_for, switch_off
from keenharbor.database import DatabasePlace, open_database
from keenharbor.database.kinds import NO_ENGINE
from keenharbor.database.packed import may_be
from keenharbor.database.private_server import PrivateServer
from keenharbor.database.protocol import NO_DATABASE
from keenharbor.host.environment import EnvironmentsHere
from keenharbor.host.programs import end_program, started_at
from keenharbor.host.sealing import remove_groups
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot, restore_state
from keenharbor.snapshot.moved import DELIVERED
from keenharbor.snapshot.take import new_id
from keenharbor.tree import Entry, restore_tree


def make_clone(
    live: SiteView,
    snapshot: Snapshot,
    purpose: str,
    *,
    mail_port: int,
    port: int | None = None,
    folder: Path | None = None,
    environment: bool = False,
    like: str | None = None,
    was_at: str | None = None,
    twin: Clone | None = None,
) -> Clone:
    """Restore ``snapshot`` into a new clone and cut every tie to live; the server is not started.

    Mail settings point to ``mail_port`` on loopback. With ``environment`` it gets a virtual environment of its own
    where the site has one (made like the one at ``like``, else like live's): what installs into it must not install
    into live's. ``was_at`` is the address of the clone
    that a checkpoint was taken of. ``twin`` is a clone of the same snapshot that was not started yet: a database in a
    file is copied from it. Raises `KeenHarborError` when there is too little space or when something of live is
    left that the clone's code could use."""
    identity = new_id(now())
    home = folder or live.work / "clones"
    private_folder(home)
    _refuse_without_room(home, snapshot)
    place = private_folder(home / identity)
    root = place / "site"
    source = live.environment() if environment or not live.host.is_here else None
    if source is not None and live.host.environments.inside(source, live.launcher()) is None:
        source = None  # its programs would go on running in live's
    if source is not None and not live.host.is_here and like is None:
        source = environment_here(live, snapshot.store)
    source = like if source is not None and like is not None else source
    facts = CloneFacts(
        identity, live.name, str(live.site_file), snapshot.id, stamp(now()), purpose, port or free_port(),
        str(root), NO_DATABASE, environment=str(place / "environment") if source else None, mail_port=mail_port,
        whole=False, bytes_held=snapshot.file_bytes, owner=os.getpid(), owner_started=started_at(os.getpid()),
    )  # fmt: skip
    write_facts(place, facts)  # before anything is started: whatever is killed from here on can be found and removed
    database, server = _new_database(
        live, identity, place, root,
        lambda made: write_facts(place, dataclasses.replace(facts, server=made.as_json())),
    )  # fmt: skip
    facts = dataclasses.replace(
        facts, database=str(database.path or database.url), server=server.as_json() if server else None,
        own_database=server is None and database.on_server,
    )  # fmt: skip
    write_facts(place, facts)
    clone = Clone(place, live, facts)
    try:
        if source is not None:
            EnvironmentsHere().make(source, str(place / "environment"))
            clone.site = site_of(live, facts)
        _fill(clone, snapshot, was_at, twin)
    except BaseException:
        clone.drop()
        raise
    return clone


def _refuse_without_room(home: Path, snapshot: Snapshot) -> None:
    needed, free = 2 * snapshot.file_bytes + 64 * 1024 * 1024, free_bytes(home)
    if free < needed:
        raise KeenHarborError(
            f"too little space for a clone: {size(free)} free, {size(needed)} wanted", where=home,
            advice="free some space, or set 'work' under [site] to another disk",
        )  # fmt: skip


def _fill(clone: Clone, snapshot: Snapshot, was_at: str | None, twin: Clone | None) -> None:
    """Files and database of the snapshot into the clone, and every tie to live cut."""
    rewriter = rewriter_for(clone, snapshot, was_at)
    touched: set[str] = set()

    def watch(entry: Entry, piece: bytes) -> None:
        # A place may be cut in two where a large file is. What is packed a site has written itself, not who made it.
        packed = entry.area not in DELIVERED and may_be(piece)
        if len(entry.objects) > 1 or packed or rewriter.may_touch(piece):
            touched.add(entry.path)

    restore_tree(clone.site.tree, snapshot.entries, {}, snapshot.store.read, watch=watch)
    # Of a hard link only the first path is written; links are no content.
    concerned = [e for e in snapshot.entries.values() if e.path in touched or e.same_as in touched or e.kind == "link"]
    database = clone.site.database_place
    if database.path is not None:
        private_folder(database.path.parent)
    if twin is None or not _copied(twin, clone):
        restore_state(snapshot.state, open_database(database))
    rewritten = cut_ties(clone, rewriter, concerned, clone.facts.mail_port, snapshot.state)
    with open_database(database).reading() as held:
        marks = {t.name: held.mark(t.name) for t in held.schema.tables if t.name not in rewritten}
        clone.begun_from = snapshot.as_held(held.schema, marks)
    put_programs(clone)
    switch_off(clone)
    clone.note(whole=True)


def _copied(twin: Clone, clone: Clone) -> bool:
    """Copy the twin's database, where it is a file that differs from the snapshot's only in rewritten cells: reading
    the snapshot once more would cost more than all else."""
    source, target = twin.site.database_place, clone.site.database_place
    if source.path is None or target.path is None or twin.facts.switched_off:
        return False
    for file in open_database(source).files():
        if file.exists():
            copy_file(file, target.path.with_name(target.path.name + file.name.removeprefix(source.path.name)))
    return True


def _new_database(
    live: SiteView, identity: str, folder: Path, root: Path, note: Callable[[PrivateServer], object]
) -> tuple[DatabasePlace, PrivateServer | None]:
    """Where the clone's database is to be: a file beside it, one on a server of its own, or a new one on a server that
    the site file names. ``note`` is told of a server before it is started."""
    old = live.database
    if old.engine == NO_ENGINE:
        return DatabasePlace(NO_ENGINE), None
    if old.file is not None:
        inside = PurePosixPath(live.place) in old.file.parents
        return DatabasePlace(
            old.engine, root / old.file.relative_to(live.place) if inside else folder / "database" / old.file.name
        ), None
    scratch = live.model.database.scratch_url
    if scratch is not None:
        base = scratch_place(live)
        if base.engine != old.engine:
            raise UsageError(
                f"'scratch_url' under [database] is a {base.engine} server, and the site's database is on {old.engine}",
                where=live.site_file,
            )
        return base.with_name(f"{base.name}_{identity.replace('-', '_')}"), None
    try:
        server = PrivateServer.make(
            old.engine, folder / "database", mark_of(folder), note, sealed_from=live_secrets(live)
        )
    except UsageError as error:
        raise UsageError(
            f"a clone's database needs a server of its own: {error.what}",
            advice="install it, or name a server for clones: 'scratch_url' under [database] in the site file",
        ) from error
    return server.place.with_name(old.name), server


def open_clone(live: SiteView, wanted: str) -> Clone:
    """A clone that is there, to be started again."""
    facts = find_clone(live.work, wanted)
    if not facts.whole:
        raise UsageError(
            f"clone {facts.id} was never finished: what made it was killed", where=facts.root,
            advice=f"keenharbor clone close {facts.id}",
        )  # fmt: skip
    _end_processes(live.work / "clones" / facts.id, facts)
    return Clone(live.work / "clones" / facts.id, live, facts)


def close_clone(work: Path, wanted: str, live: SiteView | None = None) -> CloneFacts:
    """End what runs of a clone, also after a crash, and remove it."""
    facts = find_clone(work, wanted)
    folder = work / "clones" / facts.id
    _end_processes(folder, facts)
    drop_database(facts, live)
    remove_folder(folder)
    remove_groups(facts.groups)
    made_for = facts.purpose.removeprefix(TRIAL_PURPOSE)
    trial = work / "trials" / made_for
    begun = not (trial / "result.json").exists() and not (trial / "seen/1.zst").exists()
    if made_for != facts.purpose and made_for and begun:
        remove_folder(trial)  # what a killed trial had begun; with a step done it can be gone on with
    return facts


def _end_processes(folder: Path, facts: CloneFacts) -> None:
    if facts.network is not None:
        told = facts.network
        HolderFacts(tuple(told["pids"]), tuple(told["started"]), str(told["folder"]), int(told.get("network", 0))).end()
    if facts.pid is not None:
        end_program(facts.pid, facts.pid_started)
    # What was killed before it could write down what it had started.
    end_marked(folder, int((facts.network or {}).get("network", 0)), facts.groups)
