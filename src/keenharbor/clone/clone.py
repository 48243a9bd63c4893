"""Making, isolating, listing and dropping clones.

WORK/clones/ID/clone.json    what it is; written first, so that a killed run leaves a clone that can be closed
WORK/clones/ID/site/         its files
WORK/clones/ID/database/     its database, unless the database lies within the site's folder; or its database server
WORK/clones/ID/server.log    what its server said
"""

from __future__ import annotations

import contextlib
import dataclasses
import os
import sys
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path, PurePosixPath
from types import TracebackType
from typing import Any
from urllib.parse import urlsplit

from keenharbor.base.durable import (
    PRIVATE_FOLDER,
    free_bytes,
    private_folder,
    read_summed,
    remove_folder,
    write_durably,
    write_plain,
    write_summed,
)
from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.base.text import now, parse_stamp, size, stamp
from keenharbor.clone.environment import environment_of
from keenharbor.clone.marks import end_marked, mark_of
from keenharbor.clone.quarantine import HolderFacts, Quarantine, not_permitted
from keenharbor.clone.sealed import has_own_tmp, limits_of, live_secrets, sealing_for
from keenharbor.clone.server import Server, free_port, port_is_taken
from keenharbor.database import DatabasePlace, open_database
from keenharbor.database.private_server import PrivateServer
from keenharbor.database.protocol import NO_DATABASE, NO_ENGINE
from keenharbor.database.rewrite import HostMove, Rewriter, places_left, rewrite_database
from keenharbor.host.environment import make_environment, within
from keenharbor.host.programs import clean_environment, end_program, runs, started_at
from keenharbor.host.sealing import ControlGroups, DiskWatch, Limits, Sealing, parts_here, remove_groups
from keenharbor.site.load import database_place, database_settings_file, read_password
from keenharbor.site.model import RuntimePart
from keenharbor.site.settings import read_settings, values_in, with_value
from keenharbor.site.view import SiteView
from keenharbor.site.writable import Writable, fill_places
from keenharbor.snapshot import Snapshot, restore_state
from keenharbor.snapshot.moved import address_forms, rewrite_files
from keenharbor.snapshot.take import new_id
from keenharbor.tree import Entry, restore_tree

TRIAL_PURPOSE = "trial "


@dataclass(frozen=True)
class CloneFacts:
    """What is written down of a clone.

    ``server`` is its private database server; ``own_database`` says that its database was made on a server which others use,
    and is to be dropped with it. ``opaque`` names places that hold something of live and could not be rewritten;
    ``environment`` is its own virtual environment; ``network`` tells of its own network while it runs, ``not_blocked`` why it
    has none; ``mail_port`` is where its mail goes. One that is not ``whole`` was being made when it was killed. Its programs
    are ``sealed`` in their files, but for ``open_parts``; ``groups`` are the control groups that limit them; it held
    ``bytes_held`` when it was made. ``owner`` is the run that made it, which it does not outlive unless it is ``kept``."""

    id: str
    site: str
    site_file: str
    snapshot: str
    made_at: str
    purpose: str
    port: int
    root: str
    database: str
    pid: int | None = None
    pid_started: float | None = None
    rewritten_files: dict[str, int] = field(default_factory=dict)
    rewritten_cells: dict[str, int] = field(default_factory=dict)
    opaque: list[str] = field(default_factory=list)
    server: dict[str, Any] | None = None
    own_database: bool = False
    environment: str | None = None
    mail_port: int = 0
    network: dict[str, Any] | None = None
    not_blocked: str = ""
    switched_off: list[str] = field(default_factory=list)
    whole: bool = True
    sealed: bool = False
    open_parts: list[str] = field(default_factory=list)
    groups: list[str] = field(default_factory=list)
    bytes_held: int = 0
    owner: int | None = None
    owner_started: float | None = None
    kept: bool = False

    @property
    def place(self) -> DatabasePlace:
        """Where its database is. ``database`` is a file, or the URL of one on a server."""
        if "://" in self.database or self.database == NO_DATABASE:
            return DatabasePlace.from_url(self.database)
        return DatabasePlace("sqlite", Path(self.database))

    @property
    def made(self) -> datetime:
        return parse_stamp(self.made_at)


class Clone:
    """A clone in its folder, with a server that can be started, stopped and started again."""

    def __init__(self, folder: Path, live: SiteView, facts: CloneFacts) -> None:
        self.folder = folder
        self.live = live
        self.facts = facts
        self.site = Writable.of(live, facts.root, _with_password(facts, live), _own_runtime(facts, live))
        self._server: Server | None = None
        self._quarantine: Quarantine | None = None
        self.served_port = facts.port

    def serve_at(self, port: int) -> None:
        """Let its server answer at another port than its address says: something else stands there."""
        self.served_port = port

    @property
    def prefix(self) -> tuple[str, ...]:
        """What a command is started with, to run sealed off, in the clone's own network where it has one."""
        return self._sealing().prefix() if self.facts.sealed else ()

    def _sealing(self, *, to_outside: bool = False) -> Sealing:
        place = self.site.database_place
        sockets = (str(Path(place.socket).parent),) if place.socket else ()
        own = (self.facts.environment,) if self.facts.environment else ()
        files = (str(self.folder / "database"),) if place.path is not None else ()
        ports = {"bind": [self.served_port], "connect": [self.served_port, self.facts.mail_port, place.asked_port]}
        holder = self._quarantine.holder if self._quarantine is not None and not to_outside else None
        return sealing_for(
            self.folder, self.live, self.site.place, more_writable=(*own, *files), sockets=sockets,
            limits=self.limits, groups=tuple(self.facts.groups),
            ports=ports if not to_outside else {"bind": [], "connect": []}, holder=holder,
        )  # fmt: skip

    @property
    def installer_prefix(self) -> tuple[str, ...]:
        """The same for what installs packages: where no wheelhouse is named it fetches them, from wherever it is told to."""
        if self.live.wheelhouse() is not None or not self.facts.sealed:
            return self.prefix
        return dataclasses.replace(self._sealing(to_outside=True), ports=None).prefix("seal-installer.json")

    @property
    def limits(self) -> Limits:
        """How much its programs may take."""
        return limits_of(self.live, self.facts.bytes_held)

    def watched(self) -> DiskWatch:
        """A block in which its programs are ended when they add more to the disk than they may."""
        own = [self.site.place, str(self.folder / "tmp"), str(self.folder / "outbox"), str(self.folder / "database")]
        return DiskWatch(own, self.limits.disk, lambda: self.end_programs(at_once=True))

    def end_programs(self, *, at_once: bool = False) -> None:
        """End all that runs of it, what steps have left running too; with ``at_once`` they are not asked, and its network
        and its database server go on."""
        network = int((self.facts.network or {}).get("network", 0))
        spare: list[int] = []
        if at_once:
            spare += [(self.facts.server or {}).get("pid") or 0, *(self.facts.network or {}).get("pids", ())]
        end_marked(self.folder, network, self.facts.groups, at_once=at_once, spare=spare)

    @property
    def variables(self) -> dict[str, str]:
        """What the clone's programs get to see of the environment: a program for sending mail that keeps it stands first."""
        told = clean_environment() | mark_of(self.folder)
        told["PATH"] = f"{self.folder / 'programs'}{os.pathsep}{told.get('PATH', os.defpath)}"
        told["PHP_INI_SCAN_DIR"] = f"{os.pathsep}{self.folder / 'programs'}"
        if self.facts.sealed:
            own = "/tmp" if has_own_tmp(self.live) else str(self.folder / "tmp")
            told |= {"HOME": own, "TMPDIR": own}
        return told

    @property
    def outbox(self) -> Path:
        """Where mail is kept that was given to a program for sending it."""
        return self.folder / "outbox"

    @property
    def id(self) -> str:
        return self.facts.id

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.facts.port}"

    @property
    def server_log(self) -> Path:
        return self.folder / "server.log"

    def start(self) -> None:
        """Serve the clone with the runtime that its files select, and its database if it has a server of its own."""
        self._start_database()
        self._close_off()
        serve = self.site.needed(self.site.model.serve, "serve")
        command = fill_places(
            serve.command,
            {"runtime": self.site.launcher(), "root": self.site.place, "port": str(self.served_port)},
        )
        server = Server(
            command, self.site.place, self.served_port,
            ready_path=serve.ready_path, start_seconds=serve.start_seconds, log=self.server_log,
            prefix=self.prefix, variables=self.variables,
        )  # fmt: skip
        server.start()
        self._server = server
        if server.process is not None:
            self._note(pid=server.process.pid, pid_started=server.process.started)

    def _close_off(self) -> None:
        """Seal the clone's programs off, as far as the system allows it, and give them a network of their own; note what is
        open."""
        if self._quarantine is not None:
            if self._quarantine.stands:
                return
            self._quarantine.end()
            self._quarantine = None
        parts = parts_here()
        groups = ControlGroups(f"keenharbor-{self.id}", self.limits).folders
        self._note(sealed=parts.root or parts.landlock > 0, open_parts=parts.what_is_open(), groups=groups)
        place = self.site.database_place
        reason = (
            "its database is on a server that is reached over the network"
            if place.on_server and not place.socket
            else ""
        )
        reason = reason or not_permitted()
        if not reason:
            if port_is_taken(self.served_port):
                raise KeenHarborError(
                    f"port {self.served_port} is taken by another program",
                    where=self.address,
                    advice="name another port, or none",
                )
            self._quarantine = Quarantine(
                self.served_port, self.facts.mail_port or free_port(), mark_of(self.folder),
                lambda facts: self._note(network=dataclasses.asdict(facts)),
            )  # fmt: skip
        told = dataclasses.asdict(self._quarantine.facts) if self._quarantine is not None else None
        self._note(network=told, not_blocked=reason)

    def _start_database(self) -> None:
        if self.facts.server is not None and not (server := PrivateServer(**self.facts.server)).running:
            server.start()
            self._note(server=server.as_json())

    def stop(self) -> None:
        """End its web server, and its network; its database stays."""
        self._stop_server()
        if self._quarantine is not None:
            self._quarantine.end()
            self._quarantine = None
            self._note(network=None)

    def _stop_server(self) -> None:
        if self._server is not None:
            self._server.stop()
            self._server = None
            self._note(pid=None, pid_started=None)

    def restart(self) -> None:
        """Let the server take up changed files. Raises `KeenHarborError` when it does not start."""
        self._stop_server()
        self.start()

    def _note(self, **changes: Any) -> None:
        self.facts = dataclasses.replace(self.facts, **changes)
        _write_facts(self.folder, self.facts)

    def keep(self) -> None:
        """Let it outlive the run that made it."""
        self._note(kept=True)

    def drop(self) -> None:
        """End its processes, what steps have left running too, and remove every trace of it."""
        self.stop()
        self.end_programs()
        _drop_database(self.facts, self.live)
        remove_groups(self.facts.groups)
        remove_folder(self.folder)

    def __enter__(self) -> Clone:
        self.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()


def _own_runtime(facts: CloneFacts, live: SiteView) -> RuntimePart | None:
    """The runtime with the clone's own virtual environment in place of live's."""
    home = environment_of(live)
    if facts.environment is None or home is None:
        return None
    part, own = live.model.runtime, Path(facts.environment)
    launchers = {v: str(own / inside) if (inside := within(home, Path(p))) else p for v, p in part.launchers.items()}
    packages = own / live.packages_folder().resolve().relative_to(home)
    relative = os.path.relpath(packages, facts.root)
    return part.model_copy(update={"launchers": launchers, "packages": relative})


def make_clone(
    live: SiteView,
    snapshot: Snapshot,
    purpose: str,
    *,
    mail_port: int,
    port: int | None = None,
    folder: Path | None = None,
    environment: bool = False,
    was_at: str | None = None,
) -> Clone:
    """Restore ``snapshot`` into a new clone and cut every tie to live; the server is not started.

    Mail settings point to ``mail_port`` on loopback. With ``environment`` it gets a virtual environment of its own where the site
    has one: what installs into it must not install into live's. ``was_at`` is the address
    of the clone that a checkpoint was taken of. Raises `KeenHarborError` when there is too little space or
    when something of live is left that the clone's code could use.
    """
    identity = new_id(now())
    home = folder or live.work / "clones"
    private_folder(home)
    needed = 2 * snapshot.file_bytes + 64 * 1024 * 1024
    free = free_bytes(home)
    if free < needed:
        raise KeenHarborError(
            f"too little space for a clone: {size(free)} free, {size(needed)} wanted", where=home,
            advice="free some space, or set 'work' under [site] to another disk",
        )  # fmt: skip
    place = private_folder(home / identity)
    root = place / "site"
    source = environment_of(live) if environment else None
    if source is not None and within(source, Path(live.launcher())) is None:
        source = None  # its programs would go on running in live's
    facts = CloneFacts(
        identity, live.name, str(live.site_file), snapshot.id, stamp(now()), purpose, port or free_port(),
        str(root), NO_DATABASE, environment=str(place / "environment") if source else None, mail_port=mail_port,
        whole=False, bytes_held=snapshot.file_bytes, owner=os.getpid(), owner_started=started_at(os.getpid()),
    )  # fmt: skip
    _write_facts(place, facts)  # before anything is started: whatever is killed from here on can be found and removed
    database, server = _new_database(
        live, identity, place, root,
        lambda made: _write_facts(place, dataclasses.replace(facts, server=made.as_json())),
    )  # fmt: skip
    facts = dataclasses.replace(
        facts, database=str(database.path or database.url), server=server.as_json() if server else None,
        own_database=server is None and database.on_server,
    )  # fmt: skip
    _write_facts(place, facts)
    clone = Clone(place, live, facts)
    try:
        if source is not None:
            make_environment(source, place / "environment")
            clone.site = Writable.of(live, str(root), _with_password(facts, live), _own_runtime(facts, live))
        rewriter = _rewriter(clone, snapshot, was_at)
        touched: set[str] = set()

        def watch(entry: Entry, piece: bytes) -> None:
            # A place may be cut in two where a large file is.
            if len(entry.objects) > 1 or rewriter.may_touch(piece):
                touched.add(entry.path)

        restore_tree(clone.site.tree, snapshot.entries, {}, snapshot.store.read, watch=watch)
        # Of a hard link only the first path is written; links are no content.
        concerned = [
            e for e in snapshot.entries.values() if e.path in touched or e.same_as in touched or e.kind == "link"
        ]
        if database.path is not None:
            private_folder(database.path.parent)
        restore_state(snapshot.state, open_database(clone.site.database_place))
        _cut_ties(clone, rewriter, concerned, mail_port)
        _put_programs(clone)
        _switch_off(clone)
        clone._note(whole=True)
    except BaseException:
        clone.drop()
        raise
    return clone


def _write_facts(folder: Path, facts: CloneFacts) -> None:
    write_summed(folder / "clone.json", dataclasses.asdict(facts))


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
        base = _scratch_place(live)
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


def _scratch_place(live: SiteView) -> DatabasePlace:
    said = live.model.database
    return DatabasePlace.from_url(said.scratch_url or "", read_password(live.site_file.parent, said.password_file))


def _with_password(facts: CloneFacts, live: SiteView) -> DatabasePlace:
    if not facts.own_database:
        return facts.place
    return dataclasses.replace(facts.place, password=_scratch_place(live).password)


def _drop_database(facts: CloneFacts, live: SiteView | None) -> None:
    if facts.server is not None:
        PrivateServer(**facts.server).remove()
    elif facts.own_database and live is not None:
        open_database(_with_password(facts, live)).drop()


def live_places(live: SiteView, snapshot: Snapshot | None = None) -> list[str]:
    """Everything by which the live site could be reached: address, host, folder, database."""
    addresses = {live.address} | ({str(snapshot.manifest["address"])} if snapshot else set())
    roots = {live.place, str(live.site_file.parent / live.model.site.root)}
    roots |= {str(snapshot.manifest["root"])} if snapshot else set()
    places = [*addresses, *(urlsplit(a).netloc for a in addresses), *roots, *live.database.marks]
    return sorted(set(places), key=len, reverse=True)


def _rewriter(clone: Clone, snapshot: Snapshot, was_at: str | None) -> Rewriter:
    live, root = clone.live, clone.site.place
    table: dict[str, str] = {}
    if was_at is not None and was_at != clone.address:
        table |= address_forms(was_at, clone.address)
    own = clone.site.database_place.marks
    table |= {mark: (own or (mark,))[0] for mark in snapshot.database_place.marks}
    for place in live_places(live, snapshot):
        if place.startswith("http"):
            table |= address_forms(place, clone.address)
        elif place in live.database.marks:
            table[place] = (clone.site.database_place.marks or (place,))[0]
        elif place.startswith("/"):
            table[place] = root
    return Rewriter(table)


def _cut_ties(clone: Clone, rewriter: Rewriter, concerned: Sequence[Entry], mail_port: int) -> None:
    files, left = rewrite_files(clone.site.tree, concerned, rewriter)
    opaque = [f"file {path}" for path in left]
    _point_settings(clone)
    database = open_database(clone.site.database_place)
    cells = rewrite_database(database, rewriter, HostMove.between(clone.live.address, clone.address))
    opaque += [f"cell {place}" for place in places_left(database, rewriter)]
    mail = clone.site.model.mail
    if mail is not None:
        part = clone.site.needed(clone.site.model.settings, "settings")
        settings_file = clone.site.named(part.file)
        text = settings_file.read_text()
        try:
            for key, value in ((mail.host, "127.0.0.1"), (mail.port, str(mail_port))):
                text = with_value(text, key, value, part.format, settings_file)
        except KeyError as missing:
            raise KeenHarborError(
                f"mail cannot be caught: the setting {missing} is not in the site's settings file", where=settings_file,
                advice="correct [mail] in the site file",
            ) from None  # fmt: skip
        clone.site.write_setting_text(part.file, text)
    clone._note(rewritten_files=dict(files), rewritten_cells=dict(cells), opaque=opaque)


def _switch_off(clone: Clone) -> None:
    """Switch off the extensions that would disturb a copy. Raises `KeenHarborError` when that cannot be done."""
    wanted = clone.site.model.clone.switch_off
    command = clone.site.model.commands.switch_off
    names = [c.name for c in clone.site.components() if c.name in wanted and c.on] if wanted else []
    if not names:
        return
    if command is None:
        raise KeenHarborError(
            f"'{names[0]}' is to be off in clones, and the site file does not say how: 'switch_off' under [commands]",
            where=clone.site.site_file,
        )
    # The clone's code runs here for the first time: already in a network of its own.
    clone._close_off()
    try:
        for name in names:
            ran = clone.site.run(command, 120, prefix=clone.prefix, variables=clone.variables, name=name)
            if ran.code != 0:
                raise KeenHarborError(
                    f"'{name}' cannot be switched off in the clone: {ran.output.strip()[-200:]}", where=ran.command
                )
    finally:
        clone.stop()
    clone._note(switched_off=names)


_SENDMAIL = """#!{python} -IS
import os, sys, time
data = sys.stdin.buffer.read()
name = f"{{time.time_ns()}}-{{os.getpid()}}"
with open(os.path.join({outbox!r}, "." + name), "wb") as file:
    file.write(data)
os.rename(os.path.join({outbox!r}, "." + name), os.path.join({outbox!r}, name + ".eml"))
"""


def _put_programs(clone: Clone) -> None:
    """A program for sending mail that keeps it, under the name by which such programs are looked for; for PHP in a settings
    file, too."""
    programs = private_folder(clone.folder / "programs")
    private_folder(clone.outbox)
    program, sessions = programs / "sendmail", private_folder(clone.folder / "tmp" / "sessions")
    write_durably(program, _SENDMAIL.format(python=sys.executable, outbox=str(clone.outbox)).encode(), PRIVATE_FOLDER)
    php = f'sendmail_path = "{program} -t -i"\nsession.save_path = "{sessions}"\n'
    write_plain(programs / "mail.ini", php.encode())


def _names_its_port(place: DatabasePlace) -> bool:
    return place.engine == "postgres" and place.socket.rpartition(".")[2].isdigit()


def _host_for(place: DatabasePlace, now: str, has_socket: bool) -> str:
    """What the setting for the host is to hold: where it is the only place for a socket, that of PostgreSQL's folder, or
    ``localhost:/PATH`` (the path alone where a path stands there now)."""
    if not place.socket or has_socket:
        return place.host
    if place.engine == "postgres":
        return str(Path(place.socket).parent)
    return place.socket if now.startswith("/") else f"localhost:{place.socket}"


def _point_settings(clone: Clone) -> None:
    """Let the clone's settings name its own database, and see that they do. One in a file has been rewritten as a path.

    Raises `KeenHarborError` where they cannot: the clone's code would work on live.
    """
    keys, place = clone.site.model.database.settings, clone.site.database_place
    if not place.on_server:
        return
    file, form = database_settings_file(clone.site.model, clone.site.named(""))
    if keys is not None:
        text = file.read_text()
        said = values_in(text, form, file)
        wanted = {
            keys.url: place.url, keys.host: _host_for(place, said.get(keys.host or "", ""), keys.socket in said),
            keys.port: str(place.port or "") or (place.socket.rpartition(".")[2] if _names_its_port(place) else ""),
            keys.socket: place.socket,
            keys.name: place.name, keys.user: place.user, keys.password: place.password,
        }  # fmt: skip
        for key, value in wanted.items():
            if key is not None and key in said:
                text = with_value(text, key, value, form, file)
        clone.site.write_setting_text(file.path, text)
        now = database_place(clone.site.model, clone.site.site_file.parent, clone.site.named(""))
        if now.is_same_as(place):
            return
    missing = (
        ""
        if keys is None or not place.socket or (keys.socket and keys.socket in read_settings(file, form))
        else ": a socket"
    )
    raise KeenHarborError(
        f"the clone's settings cannot be made to name its own database{missing}", where=file,
        advice="name the keys that say where the database is under [database.settings], and add those that the site's "
        "settings lack, empty",
    )  # fmt: skip


# -- clones that are there ------------------------------------------------------------------------------------


def list_clones(work: Path) -> list[CloneFacts]:
    """The clones in a work folder, newest first."""
    found = []
    for file in (work / "clones").glob("*/clone.json"):
        with contextlib.suppress(OSError, ValueError, TypeError):
            found.append(_read_facts(file))
    return sorted(found, key=lambda f: f.made_at, reverse=True)


def _read_facts(file: Path) -> CloneFacts:
    """What is written down of a clone. Raises OSError, ValueError, TypeError. What it names is removed with it, so that nothing
    in it counts that is not what was written."""
    facts = CloneFacts(**read_summed(file.read_bytes()))
    if facts.id != file.parent.name:
        raise ValueError("it is that of another clone")
    return facts


def damaged_clones(work: Path) -> list[str]:
    """Names of the folders whose clone cannot be told any more."""
    damaged = []
    for file in sorted((work / "clones").glob("*/clone.json")):
        try:
            _read_facts(file)
        except (OSError, ValueError, TypeError):
            damaged.append(file.parent.name)
    return damaged


def find_clone(work: Path, wanted: str) -> CloneFacts:
    """The clone by id or the beginning of one."""
    fit = [f for f in list_clones(work) if f.id.startswith(wanted)]
    if len(fit) != 1:
        raise UsageError(
            f"there is no clone '{wanted}'" if not fit else f"several clones begin with '{wanted}'",
            where=work / "clones",
            advice="'keenharbor clone list' shows them",
        )
    return fit[0]


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
    _drop_database(facts, live)
    remove_folder(folder)
    remove_groups(facts.groups)
    made_for = facts.purpose.removeprefix(TRIAL_PURPOSE)
    trial = work / "trials" / made_for
    begun = not (trial / "result.json").exists() and not (trial / "seen/1.zst").exists()
    if made_for != facts.purpose and made_for and begun:
        remove_folder(trial)  # what a killed trial had begun; with a step done it can be gone on with
    return facts


def is_running(facts: CloneFacts) -> bool:
    """Whether the clone's server runs; a process that only took over its number does not count."""
    return runs(facts.pid, facts.pid_started)


def _end_processes(folder: Path, facts: CloneFacts) -> None:
    if facts.network is not None:
        told = facts.network
        HolderFacts(tuple(told["pids"]), tuple(told["started"]), str(told["folder"]), int(told.get("network", 0))).end()
    if facts.pid is not None:
        end_program(facts.pid, facts.pid_started)
    # What was killed before it could write down what it had started.
    end_marked(folder, int((facts.network or {}).get("network", 0)), facts.groups)
