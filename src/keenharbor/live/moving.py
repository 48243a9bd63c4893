"""Moving house: the site comes up in another place, parked, while the old one goes on; then visitors change over.

    bring over   a snapshot of the old place is made the new one, with address, folder and database rewritten. Its own
                 maintenance flag keeps visitors out there; whoever has the flag's text gets in.
    switch       visitors are locked out of the old place, for good; what they did there since goes over; the two are
                 held against each other; the flag of the new place goes.

Until the switch nothing of the old place is changed, and it stays as it is behind its flag when all is done. The way
back is a move the other way round."""

from __future__ import annotations

import contextlib
import dataclasses
import posixpath
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import urlsplit

from keenharbor.base.durable import private_folder, read_summed, remove_file, write_plain, write_summed
from keenharbor.base.errors import KeenHarborError, PutBackError, UnsettledError, UsageError, words_of
from keenharbor.base.progress import Progress
from keenharbor.base.text import now, plural, size, stamp
from keenharbor.compare import Finding, Visitor, compare_pages, compare_tables, group, learn_noise, take_look
from keenharbor.compare.look import Look
from keenharbor.compare.visitor import VisitError
from keenharbor.database import DatabasePlace, open_database, row_delta
from keenharbor.database.kinds import NO_ENGINE
from keenharbor.database.rewrite import Rewriter, rewrite_database
from keenharbor.host.programs import ProgramError
from keenharbor.live.flag import MOVED, flag_path, flag_text, maintenance_off, maintenance_on, pass_header, reload_host
from keenharbor.live.journal import exclusive, new_token, refuse_unsettled
from keenharbor.live.putting import empty_caches
from keenharbor.live.snapshots import take_guarded
from keenharbor.site.checks import Check, Verdict
from keenharbor.site.connections import values_for
from keenharbor.site.load import database_place, database_settings_file, host_of, live_database_place, load_site_file
from keenharbor.site.log import append_log
from keenharbor.site.settings import read_settings
from keenharbor.site.view import SiteView, reached
from keenharbor.site.whereabouts import whereabouts_of
from keenharbor.site.writable import Writable
from keenharbor.snapshot import Snapshot, TakeOptions
from keenharbor.snapshot.estimate import estimate
from keenharbor.snapshot.moved import Moved, moved_rewriter
from keenharbor.store import Store
from keenharbor.tree import Entry, restore_tree
from keenharbor.tree.scan import Hashing, read_content
from keenharbor.trial.renamed import RenamedState, renamed_entries

RECORD = "move.json"
_SAMPLES = 3
_MARGIN = 64 * 1024 * 1024
_MOST_NAMED = 5


@dataclass(frozen=True)
class Record:
    """What is known of a move that was begun: where to (the site file, and the ``place`` that it described), the new
    flag's text, the snapshot that was brought over, and when the switch was made, if it was. ``good`` says that both
    places were alike."""

    to: str
    place: str
    token: str
    snapshot: str
    brought_at: str
    good: bool = False
    switched_at: str = ""


@dataclass
class Moving:
    """What a stage of a move did: paths and rows of the new place, seconds that visitors were locked out (of a switch),
    what is not alike, and what is left to do by hand."""

    stage: str
    snapshot: str
    address: str
    token: str
    header: str
    paths: int = 0
    written: int = 0
    rows: int = 0
    rewritten_files: int = 0
    rewritten_cells: int = 0
    pages: int = 0
    maintenance_seconds: float = 0.0
    apart: list[str] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    by_hand: list[str] = field(default_factory=list)

    @property
    def good(self) -> bool:
        return not self.apart and not any(f.weight == "damage" for f in self.findings)


class NewPlace:
    """The place that a site file describes, in which nothing may stand yet."""

    def __init__(self, site_file: Path, old: SiteView) -> None:
        at = whereabouts_of(site_file)
        model = load_site_file(at.site_file)
        if at.name != old.name:
            raise UsageError(
                f"this is the site file of '{at.name}', not of '{old.name}'", where=site_file,
                advice="copy the site file of the old place, and change 'root', 'address' and [database] in it",
            )  # fmt: skip
        host, root = host_of(at, model)
        self.site_file = at.site_file
        self.raw_database = _raw_place(model_place=_said_place(model, at.site_file, host.is_here, root), old=old,
                                       root=root)  # fmt: skip
        self.site = Writable(model, at.site_file, root, self.raw_database, at.work, at.store_folder, host)
        same_machine = host.told == old.host.told
        if same_machine and root == old.place:
            raise UsageError("the new place is the old one", where=site_file, advice="change 'root' in it")
        if same_machine and old.database.is_at(reached(host, self.raw_database)) and old.database.engine != NO_ENGINE:
            raise UsageError(
                "the new place has the old one's database", where=str(self.raw_database),
                advice="name one of its own under [database] of the new site file: 'url', or 'path'",
            )  # fmt: skip

    @property
    def database(self) -> DatabasePlace:
        """How its database is connected from here."""
        return reached(self.site.host, self.raw_database)

    @property
    def told(self) -> str:
        """Its machine, folder and database: what a move that was begun may write over."""
        return f"{self.site.host.told}:{self.site.place}, {self.raw_database}"

    def is_of(self, record: Record | None) -> bool:
        """Whether it is the very place to which that move has brought the site."""
        return record is not None and (record.to, record.place) == (str(self.site_file), self.told)

    def is_empty(self) -> bool:
        """Whether there is no folder, or nothing in it."""
        try:
            found = self.site.files.look("")
        except OSError:
            return True
        return found is None or not self.site.files.names("")


def _said_place(model: object, site_file: Path, is_here: bool, root: str) -> DatabasePlace | None:
    """The database that the new site file names itself; None where it leaves that to the settings."""
    from keenharbor.host import Here, ReadPath
    from keenharbor.site.model import SiteFile

    assert isinstance(model, SiteFile)
    said = model.database
    if said.path is None and said.url is None and said.engine != NO_ENGINE:
        return None
    base = site_file.parent if is_here else Path(root)
    nowhere = ReadPath(Here(site_file.parent).reading(str(site_file.parent)))
    return database_place(model, base, nowhere, site_file.parent)


def _raw_place(model_place: DatabasePlace | None, old: SiteView, root: str) -> DatabasePlace:
    if model_place is not None:
        return model_place
    place = live_database_place(old)
    if place.path is not None and Path(old.place) in place.path.parents:  # it moves with the folder
        return dataclasses.replace(place, path=Path(posixpath.join(root, str(place.path.relative_to(old.place)))))
    return place


def record_of(old: SiteView) -> Record | None:
    """The move of a site that was begun; None where there is none."""
    try:
        return Record(**read_summed((old.work / RECORD).read_bytes()))
    except FileNotFoundError:
        return None
    except (OSError, ValueError, TypeError):
        raise UsageError("what is known of the move cannot be read", where=old.work / RECORD) from None


def close_move(old: SiteView) -> Record | None:
    """Nothing more is known of the move: the old place may be taken away by hand."""
    record = record_of(old)
    remove_file(old.work / RECORD)
    if record is not None:
        append_log(old.work, old.name, "move", "done", f"closed; the site is where {record.to} says")
    return record


def _keep(old: SiteView, record: Record) -> None:
    private_folder(old.work)
    write_summed(old.work / RECORD, dataclasses.asdict(record))


# -- readiness ----------------------------------------------------------------------------------------------------


def readiness(old: SiteView, new: NewPlace, record: Record | None) -> list[Check]:
    """What stands in the way of a move, and what to do about it."""
    ours = new.is_of(record)
    checks = [
        _folder_check(new, ours),
        _space_check(old, new),
        _runtime_check(old, new),
        *_database_checks(old, new, ours),
    ]
    if new.site.base != old.base:
        checks.append(Check("address", Verdict.BLOCKED, f"the path in it is '{new.site.base}', and was '{old.base}'",
                            "a site is moved with its path; change that afterwards"))  # fmt: skip
    for site, which in ((old, "old"), (new.site, "new")):
        if site.model.maintenance is None:
            checks.append(Check(
                "maintenance", Verdict.BLOCKED, f"the {which} site file names no maintenance flag",
                "visitors of both places are to be kept out for a while: 'keenharbor init --maintenance' brings a gate",
            ))  # fmt: skip
            break
    if new.site.model.live.reload is not None and not new.site.host.programs.can_run:
        checks.append(Check("reload", Verdict.BLOCKED, "no program can be run there", "take 'reload' out of [live]"))
    if old.model.runtime.packages is not None:
        try:
            there = new.site.environment()
        except (KeenHarborError, OSError):
            there = None
        verdict, told = (Verdict.CLEAR, there) if there else (Verdict.CAUTION, "there is none yet")
        checks.append(Check("virtual environment", verdict, str(told), "" if there else _ENVIRONMENT))
    return checks


_ENVIRONMENT = "it is not moved: make one there with the versions that 'keenharbor snapshot show newest --json' lists"


def _folder_check(new: NewPlace, ours: bool) -> Check:
    if new.is_empty():
        return Check("folder", Verdict.CLEAR, f"{new.site.place} is empty, or not there yet")
    if ours:
        return Check("folder", Verdict.CLEAR, f"{new.site.place} holds what this move brought before")
    return Check(
        "folder",
        Verdict.BLOCKED,
        f"{new.site.place} is not empty",
        "empty it, or name another 'root' in the new site file",
    )


def _space_check(old: SiteView, new: NewPlace) -> Check:
    wanted = estimate(old, TakeOptions(), None)
    needed = wanted.file_bytes + wanted.database_bytes + _MARGIN
    try:
        free = new.site.host.reading(_nearest(new)).free_bytes()
    except OSError as error:
        return Check("disk space", Verdict.CAUTION, f"it cannot be told: {words_of(error)}")
    if free < needed:
        return Check(
            "disk space", Verdict.BLOCKED, f"{size(free)} free, {size(needed)} wanted", "free some space there"
        )
    return Check("disk space", Verdict.CLEAR, f"{size(free)} free; {size(needed)} wanted")


def _nearest(new: NewPlace) -> str:
    """The nearest folder above the new place that is there."""
    place = new.site.place
    while place not in ("", "/"):
        with contextlib.suppress(OSError):
            if new.site.host.reading(place).look("") is not None:
                return place
        place = posixpath.dirname(place)
    return "/"


def _runtime_check(old: SiteView, new: NewPlace) -> Check:
    part, version = new.site.model.runtime, old.runtime_version()
    program = part.launchers.get(version)
    if not new.site.host.programs.can_run:
        return Check("runtime", Verdict.CAUTION, "no program can be asked there", f"see that {part.name} {version} is")
    if program is None or not new.site.host.programs.exists(program):
        return Check(
            "runtime", Verdict.BLOCKED, f"{part.name} {version} was not found there ({program or 'no launcher named'})",
            "install it, and name its launcher under [runtime.launchers] in the new site file",
        )  # fmt: skip
    return Check("runtime", Verdict.CLEAR, f"{part.name} {version}: {program}")


def _database_checks(old: SiteView, new: NewPlace, ours: bool) -> Iterator[Check]:
    engine, place = old.database.engine, new.raw_database
    if engine == NO_ENGINE:
        return
    if place.engine != engine:
        yield Check("database", Verdict.BLOCKED, f"the new place has {place.engine}, the old one {engine}",
                    f"name a {engine} database in the new site file")  # fmt: skip
        return
    try:
        database = open_database(new.database)
        tables = 0
        if database.exists():
            with database.reading() as state:
                tables = len(state.schema.tables)
        there, here = (database.version() if database.exists() or place.on_server else ""), old.database.version()
    except (KeenHarborError, OSError) as error:
        yield Check("database", Verdict.BLOCKED, words_of(error), "see to it that the new place's database answers")
        return
    if tables and not ours:
        yield Check(
            "database", Verdict.BLOCKED, f"{place} holds {plural(tables, 'table')} already", "name an empty one"
        )
        return
    older = there and _numbers(there) < _numbers(here)
    told = f"{engine} {there or 'in a file'}; the old place has {here}"
    if older:
        yield Check("database", Verdict.CAUTION, told, "an older engine may not take what a newer one has stored")
    else:
        yield Check("database", Verdict.CLEAR, told)


def _numbers(version: str) -> list[int]:
    return [int(part) for part in version.split("-")[0].split(".")[:2] if part.isdigit()]


# -- the stages ---------------------------------------------------------------------------------------------------


def bring_over(old: SiteView, new: NewPlace, store: Store, progress: Progress, record: Record | None) -> Moving:
    """Make the new place what the old one is now, parked. Doing it again brings over what changed since."""
    token = record.token if record is not None and new.is_of(record) else new_token()
    snapshot = take_guarded(old, store, TakeOptions(comment="moving house"), progress)
    _keep(old, Record(str(new.site_file), new.told, token, snapshot.id, stamp(now())))
    with _held(new):
        moving = _put(old, new, snapshot, token, progress)
        _hold_against(old, new, snapshot, token, moving, progress)
    _keep(old, Record(str(new.site_file), new.told, token, snapshot.id, stamp(now()), moving.good))
    append_log(old.work, old.name, "move", "done" if moving.good else "failed",
               f"brought over to {new.site.told_address}, parked", snapshot.id)  # fmt: skip
    moving.by_hand = by_hand(old, new)
    return moving


def switch(old: SiteView, new: NewPlace, store: Store, progress: Progress, record: Record) -> Moving:
    """Let visitors change over. Where the new place does not come up alike, the old one is opened again, and nothing is
    lost: raises `PutBackError`."""
    live = Writable.of(old, old.place, live_database_place(old))
    began = now()
    with _held(new):
        with exclusive(old, doing="a switch of places"):
            progress.stage("visitors out of the old place")
            try:
                maintenance_on(live, record.token)
                with contextlib.suppress(KeenHarborError):
                    reload_host(old)
                moving = _moved_last(old, new, store, record, progress)
                # A text that is no token of ours: 'settle' leaves it alone.
                live.tree.write(flag_path(old), f"{MOVED} {record.token}".encode(), 0o644, durable=True)
                _keep(old, dataclasses.replace(record, snapshot=moving.snapshot, good=True, switched_at=stamp(now())))
            except BaseException as error:
                progress.stage("opening the old place again")
                reason = words_of(error) if isinstance(error, Exception) else "it was stopped"
                try:
                    maintenance_off(live)
                except (OSError, KeenHarborError) as second:
                    raise UnsettledError(
                        f"the switch failed ({reason}), and the old place could not be opened again: "
                        f"{words_of(second)}",
                        where=old.told_address, advice="keenharbor settle",
                    ) from error  # fmt: skip
                append_log(old.work, old.name, "move", "put back", reason)
                raise PutBackError(
                    f"{reason}; visitors are let into the old place again, and the new one stays parked",
                    where=old.told_address, advice="keenharbor move --to … --switch tries it again",
                ) from error  # fmt: skip
        progress.stage("visitors into the new place")
        try:
            maintenance_off(new.site)
        except (OSError, KeenHarborError) as error:
            raise UnsettledError(
                f"the switch is done, but the new place could not be opened: {words_of(error)}",
                where=new.site.told_address, advice="keenharbor move --to … --switch opens it",
            ) from error  # fmt: skip
        moving.maintenance_seconds = (now() - began).total_seconds()
    append_log(old.work, old.name, "move", "done", f"visitors are at {new.site.told_address}", moving.snapshot)
    moving.by_hand = by_hand(old, new)
    return moving


def finish_switch(new: NewPlace, record: Record) -> bool:
    """Let visitors into the new place where a run was killed before it could; whether there was need to."""
    if flag_text(new.site) != record.token:
        return False
    maintenance_off(new.site)
    return True


def _moved_last(old: SiteView, new: NewPlace, store: Store, record: Record, progress: Progress) -> Moving:
    from keenharbor.snapshot import list_snapshots, take_snapshot

    earlier = next((s for s in list_snapshots(store, old.name) if s.id == record.snapshot), None)
    options = TakeOptions(comment="moving house: the last of the old place", every_row=True)
    snapshot = take_snapshot(old, store, options, progress, earlier)
    moving = _put(old, new, snapshot, record.token, progress)
    moving.stage = "switched"
    _hold_against(old, new, snapshot, record.token, moving, progress, old_headers=pass_header(old, record.token))
    if not moving.good:
        raise KeenHarborError(f"the new place is not as the old one: {'; '.join(_named(moving))}")
    return moving


def _named(moving: Moving) -> list[str]:
    return [*moving.apart, *(f.text for f in moving.findings if f.weight == "damage")][:_MOST_NAMED]


@contextlib.contextmanager
def _held(new: NewPlace) -> Iterator[None]:
    """Be the only one at the new place."""
    refuse_unsettled(new.site)
    with new.site.host.lease("site.lock", f"the new place of '{new.site.name}'", doing="a move") as _:
        yield


def _rewriter(new: NewPlace, snapshot: Snapshot) -> Rewriter:
    """What leads from the places that the snapshot knows to the new ones."""
    database = new.raw_database if new.raw_database.engine != NO_ENGINE else None
    return moved_rewriter(snapshot, Moved(new.site.address, Path(new.site.place)), database)


def _wanted(old: SiteView, new: NewPlace, snapshot: Snapshot, store: Store) -> dict[str, Entry]:
    """The tree of the new place, with what names the old one rewritten; caches are its own affair."""
    rewriter = _rewriter(new, snapshot)
    with store.in_use(), store.writing(1, forks=False) as writer:
        entries = renamed_entries(snapshot, rewriter, writer.add)
        settings, keys = new.site.settings_path, new.site.model.database.settings
        if keys is not None and new.raw_database.on_server and (named := _database_file(new, snapshot)) is not None:
            settings = named
        entry = entries.get(settings) if settings else None
        if keys is not None and entry is not None and new.raw_database.on_server:
            changed = _pointed(new, entry, store, writer.add)
            entries[settings] = changed if changed is not None else entry
    for path, entry in entries.items():
        if entry.kind == "link" and entry.target is not None and rewriter.touches(entry.target.encode()):
            entries[path] = entry._replace(target=rewriter.text(entry.target))
        if not new.site.host.is_here or not old.host.is_here:  # who owns it there is who writes it
            entries[path] = entries[path]._replace(uid=-1, gid=-1)
    return {path: entry for path, entry in entries.items() if entry.area != "cache" or entry.kind == "folder"}


def _database_file(new: NewPlace, snapshot: Snapshot) -> str | None:
    keys = new.site.model.database.settings
    return keys.file if keys is not None and keys.file is not None and keys.file in snapshot.entries else None


def _pointed(new: NewPlace, entry: Entry, store: Store, put: object) -> Entry | None:
    """The settings file that says where the database is, saying where the new one is."""
    import tempfile

    from keenharbor.host import Here, ReadPath
    from keenharbor.site.settings import with_values

    keys = new.site.model.database.settings
    assert keys is not None and callable(put)
    data = b"".join(store.read(o) for o in entry.objects)
    with tempfile.TemporaryDirectory() as folder:  # forms of settings are read from files
        file = Path(folder) / Path(entry.path).name
        write_plain(file, data)
        at = ReadPath(Here(Path(folder)).reading(folder), file.name)
        model = new.site.model
        _, form = database_settings_file(model, ReadPath(Here(Path(folder)).reading(folder)))
        said = read_settings(at, form)
        text = with_values(at.exact_text(), values_for(keys, said, new.raw_database), form, at)
    changed = text.encode("utf-8", "surrogateescape")
    return None if changed == data else entry._replace(objects=(put(changed),), size=len(changed), stamp="")


def _put(old: SiteView, new: NewPlace, snapshot: Snapshot, token: str, progress: Progress) -> Moving:
    site = new.site
    header = site.needed(site.model.maintenance, "maintenance").header
    moving = Moving("brought over, parked", snapshot.id, site.told_address, token, header)
    progress.stage(f"writing the files at {site.place}")
    site.tree.make_root()
    maintenance_on(site, token)  # before anything of the site is there
    store = snapshot.store
    wanted = _wanted(old, new, snapshot, store)
    moving.rewritten_files = sum(
        e.objects != snapshot.entries[p].objects or e.target != snapshot.entries[p].target for p, e in wanted.items()
    )
    scan = site.scan()
    present = {p: e for p, e in scan.entries.items() if e.area not in ("cache", "logs") or p in wanted}
    kept = {**scan.entries}
    scan.entries.clear()
    scan.entries.update(present)
    read_content(site.files, scan, Hashing(), {}, None, lambda done, total: progress.advance(done, total, "byte"))
    present = dict(scan.entries)
    if not kept:
        present = {}
    if not site.host.is_here or not old.host.is_here:
        present = {p: e._replace(uid=-1, gid=-1) for p, e in present.items()}
    count = restore_tree(site.tree, wanted, present, store.read)
    moving.paths, moving.written = len(wanted), count.written
    if new.raw_database.engine != NO_ENGINE:
        progress.stage("writing the database of the new place")
        database = open_database(new.database)
        if new.raw_database.path is not None:
            folder = site.host.writing(str(new.raw_database.path.parent))
            folder.make_root()
        with database.writing() as writer:
            writer.replace(snapshot.state)
        moving.rewritten_cells = rewrite_database(database, _rewriter(new, snapshot)).cells.total()
        moving.rows = sum(t.row_count for t in snapshot.state.tables.values())
    empty_caches(site)
    try:
        reload_host(site)
    except KeenHarborError as error:  # before it was brought over the first time, nothing may be served there
        moving.apart.append(f"{error.what}: let the new place's web server serve {site.place}, then type this again")
    return moving


def _hold_against(
    old: SiteView, new: NewPlace, snapshot: Snapshot, token: str, moving: Moving, progress: Progress,
    old_headers: dict[str, str] | None = None,
) -> None:  # fmt: skip
    """The new place against the old one: files, rows, pages."""
    progress.stage("holding the new place against the old one")
    site = new.site
    wanted = {p: e for p, e in _wanted(old, new, snapshot, snapshot.store).items() if e.area not in ("logs", "cache")}
    scan = site.scan()
    read_content(site.files, scan, Hashing(), {}, None, lambda done, total: progress.advance(done, total, "byte"))
    there = {p: e for p, e in scan.entries.items() if e.area not in ("logs", "cache")}
    # What the site itself has written since it came up is no fault of the move: what is lacking or differs is.
    apart = [p for p, e in wanted.items() if p not in there or not there[p].same_content(e)]
    moving.apart += [f"file {p}" for p in apart[:_MOST_NAMED]]
    if len(apart) > _MOST_NAMED:
        moving.apart.append(f"and {len(apart) - _MOST_NAMED} more files")
    if new.raw_database.engine != NO_ENGINE:
        passing = set(old.model.volatile.tables)
        brought = RenamedState(snapshot.state, _rewriter(new, snapshot))
        with open_database(new.database).reading() as state:
            delta = row_delta(brought, state)
        moving.apart += [
            f"table {name}: {len(t.removed)} rows lacking, {len(t.changed)} changed, {len(t.added)} more"
            for name, t in delta.tables.items()
            if (t.removed or t.changed or t.added) and name not in passing
        ]
        moving.findings += group((o, None, None) for o in compare_tables(delta, old.model))
    with _seen(old, old_headers or {}) as before, _seen(site, pass_header(site, token)) as after:
        try:
            answer = after.get(site.model.look.starts[0])
        except VisitError as error:
            moving.apart.append(f"{site.told_address} does not answer: {error}; let its web server serve {site.place}")
            return
        if answer.status == 503:
            moving.apart.append(f"{site.told_address} does not let the tool through its maintenance flag")
            return
        first, second = _look(old, before, progress), _look(old, before, progress)
        third, fourth = _look(site, after, progress, second), _look(site, after, progress, second)
        noise = learn_noise([first, second]) | learn_noise([third, fourth])
        moving.findings += group((o, None, None) for o in compare_pages(second, fourth, noise))
        moving.pages = len(second.pages)


@contextlib.contextmanager
def _seen(site: SiteView, headers: dict[str, str]) -> Iterator[Visitor]:
    with Visitor(site.address, headers) as visitor:
        yield visitor


def _look(site: SiteView, visitor: Visitor, progress: Progress, also: Look | None = None) -> Look:
    return take_look(
        visitor, site.model.look, also=tuple(also.pages) if also else (), samples=_SAMPLES, served=False, learn=True,
        progress=progress,
    )  # fmt: skip


def by_hand(old: SiteView, new: NewPlace) -> list[str]:
    """What no tool can do for a person, or should not."""
    told: list[str] = []
    host = urlsplit(new.site.address).hostname or ""
    if not host.replace(".", "").isdigit() and host != "localhost":
        told.append(f"let the name {host} lead to the new machine (DNS); lower its time to live beforehand")
    if new.site.address.startswith("https:"):
        told.append(f"a certificate for {host} on the new machine")
    if new.site.told_address != old.told_address:
        told.append(f"lead visitors of {old.told_address} on to {new.site.told_address}, and tell search engines")
    if old.model.mail is not None:
        told.append(
            "mail: see that the new machine may send in the site's name (SPF, DKIM), and that its server answers"
        )
    told += [f"timer of the old machine: {line}" for line in _timers(old)]
    if old.model.runtime.packages is not None:
        told.append(f"virtual environment: {_ENVIRONMENT}")
    told += ["whatever else points to the old machine: backups, monitoring, deployments, firewalls"]
    return told


def _timers(old: SiteView) -> Sequence[str]:
    if not old.host.programs.can_run:
        return ["it cannot be asked for its timers; look for them"]
    try:
        listed = old.host.programs.ask(["crontab", "-l"], seconds=20).decode("utf-8", "replace")
    except (ProgramError, KeenHarborError, OSError):
        return []
    return [line.strip() for line in listed.splitlines() if old.place in line and not line.lstrip().startswith("#")]
