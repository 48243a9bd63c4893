"""Making, isolating, listing and dropping clones.

WORK/clones/ID/clone.json    what it is; written first, so that a killed run leaves a clone that can be closed
WORK/clones/ID/site/         its files
WORK/clones/ID/database/     its database, unless the database lies within the site's folder; or its database server
WORK/clones/ID/server.log    what its server said
"""

from __future__ import annotations

import dataclasses
import os
from pathlib import Path
from types import TracebackType
from typing import Any

from keenharbor.base.durable import (
    link_to,
    remove_folder,
)
from keenharbor.base.errors import KeenHarborError
from keenharbor.clone.elsewhere import runtime_here
from keenharbor.clone.facts import CloneFacts, write_facts
from keenharbor.clone.marks import end_marked, mark_of, memory_of_marked
from keenharbor.clone.quarantine import Quarantine, not_permitted, start_relay
from keenharbor.clone.sealed import has_own_tmp, limits_of, sealing_for
from keenharbor.clone.server import Server, free_port
from keenharbor.database import DatabasePlace, open_database
from keenharbor.database.private_server import PrivateServer
from keenharbor.host import Here
from keenharbor.host.ports import port_is_taken
from keenharbor.host.programs import Running, clean_environment
from keenharbor.host.sealing import ControlGroups, Limits, LimitWatch, Sealing, parts_here, remove_groups
from keenharbor.site.load import read_password
from keenharbor.site.model import RuntimePart
from keenharbor.site.view import SiteView
from keenharbor.site.writable import Writable, fill_places
from keenharbor.snapshot import Snapshot


class Clone:
    """A clone in its folder, with a server that can be started, stopped and started again."""

    def __init__(self, folder: Path, live: SiteView, facts: CloneFacts) -> None:
        self.folder = folder
        self.live = live
        self.facts = facts
        self.site = site_of(live, facts)
        self._server: Server | None = None
        self._quarantine: Quarantine | None = None
        self._passage: Running | None = None
        self.served_port = facts.port
        self.begun_from: Snapshot | None = None
        """What it was made of, as its database holds it: what is not written until the first checkpoint need not be
        read for that."""

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
        ports = {
            "bind": [self.served_port],
            "connect": [
                self.served_port,
                self.facts.mail_port,
                place.asked_port,
                *filter(None, [self.facts.database_port]),
            ],
        }
        holder = self._quarantine.holder if self._quarantine is not None and not to_outside else None
        return sealing_for(
            self.folder, self.live, self.site.place, more_writable=(*own, *files), sockets=sockets,
            limits=self.limits, groups=tuple(self.facts.groups),
            ports=ports if not to_outside else {"bind": [], "connect": []}, holder=holder,
            own_socket=place.socket if self.facts.own_database else "",
        )  # fmt: skip

    @property
    def installer_prefix(self) -> tuple[str, ...]:
        """The same for what installs packages: where no wheelhouse is named it fetches them, from wherever it is told
        to."""
        if self.live.wheelhouse() is not None or not self.facts.sealed:
            return self.prefix
        return dataclasses.replace(self._sealing(to_outside=True), ports=None).prefix("seal-installer.spec")

    @property
    def limits(self) -> Limits:
        """How much its programs may take."""
        return limits_of(self.live, self.facts.bytes_held)

    def watched(self) -> LimitWatch:
        """A block in which its programs are ended when they add more to the disk than they may, or hold more memory."""
        own = [self.site.place, str(self.folder / "tmp"), str(self.folder / "outbox"), str(self.folder / "database")]
        return LimitWatch(
            own, self.limits, lambda: self.end_programs(at_once=True), lambda: memory_of_marked(self.folder)
        )

    def end_programs(self, *, at_once: bool = False) -> None:
        """End all that runs of it, what steps have left running too; with ``at_once`` they are not asked, and its
        network and its database server go on."""
        network = int((self.facts.network or {}).get("network", 0))
        spare: list[int] = []
        if at_once:
            spare += [(self.facts.server or {}).get("pid") or 0, *(self.facts.network or {}).get("pids", ())]
        end_marked(self.folder, network, self.facts.groups, at_once=at_once, spare=spare)

    @property
    def variables(self) -> dict[str, str]:
        """What the clone's programs get to see of the environment: a program for sending mail that keeps it stands
        first."""
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
            {
                "runtime": self.site.launcher(),
                "root": self.site.place,
                "port": str(self.served_port),
                "top": self._top(serve.folder),
            },
        )
        server = Server(
            command, self.site.place, self.served_port,
            ready_path=serve.ready_path, start_seconds=serve.start_seconds, log=self.server_log,
            prefix=self.prefix, variables=self.variables,
        )  # fmt: skip
        server.start()
        self._server = server
        if server.process is not None:
            self.note(pid=server.process.pid, pid_started=server.process.started)

    def _top(self, folder: str | None) -> str:
        """The folder that a web server has at the top: what it serves of the site, or where the site lies under a path
        one in which that stands there."""
        served = Path(self.site.place, folder or "")
        if not self.site.base:
            return str(served)
        top = self.folder / "programs" / "top"
        link_to(top / self.site.base[1:], served)
        return str(top)

    def be_ready_for_programs(self) -> None:
        """Its database and its network without its pages: for a program that is to run by itself."""
        self._stop_server()
        self._start_database()
        self._close_off()

    def _close_off(self) -> None:
        """Seal the clone's programs off, as far as the system allows it, and give them a network of their own; note
        what is open."""
        if self._quarantine is not None:
            if self._quarantine.stands:
                return
            self._quarantine.end()
            self._quarantine = None
        parts = parts_here()
        groups = ControlGroups(f"keenharbor-{self.id}", self.limits).folders
        self.note(
            sealed=parts.root or parts.landlock > 0, open_parts=[*parts.what_is_open(), *self._shared()], groups=groups
        )
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
                lambda facts: self.note(network=dataclasses.asdict(facts)), self._database_passage(),
            )  # fmt: skip
        elif self.facts.database_port and self._passage is None:
            if port_is_taken(self.facts.database_port):
                raise KeenHarborError(
                    f"port {self.facts.database_port}, on which the clone's code looks for its database, is taken by "
                    "another program",
                    where=self.address, advice=f"keenharbor clone close {self.id}, then make another",
                )  # fmt: skip
            self._passage = start_relay((), self._database_passage(), clean_environment() | mark_of(self.folder))
        told = dataclasses.asdict(self._quarantine.facts) if self._quarantine is not None else None
        self.note(network=told, not_blocked=reason)

    def _shared(self) -> list[str]:
        """That its database is on a server which others use, where it is."""
        if not self.facts.own_database:
            return []
        return ["its database is on a server that others use, 'scratch_url', with all that its user may do there"]

    def take_database_port(self, port: int = 0) -> None:
        """Let the clone's code find its database on a port of loopback, too: on ``port``, where its settings have no
        place for another one and it has a network of its own."""
        if port and not_permitted():
            raise KeenHarborError(
                f"the clone's settings have no port, and port {port} may be taken: {not_permitted()}",
                advice="name the key for it, 'port' under [database.settings], and add it to the site's settings, "
                "empty",
            )
        self.note(database_port=port or free_port())

    @property
    def place_for_code(self) -> DatabasePlace:
        """Where the clone's own code finds its database."""
        place = self.site.database_place
        if not self.facts.database_port:
            return place
        return dataclasses.replace(place, host="127.0.0.1", port=self.facts.database_port, socket="")

    def _database_passage(self) -> list[str]:
        """The way from that port to the socket of its server, for `relay`."""
        port = self.facts.database_port
        return [f"tcp:{port}=unix:{self.site.database_place.socket}"] if port else []

    def _start_database(self) -> None:
        if self.facts.server is not None and not (server := PrivateServer(**self.facts.server)).running:
            server.start()
            self.note(server=server.as_json())

    def stop(self) -> None:
        """End its web server, and its network; its database stays."""
        self._stop_server()
        if self._passage is not None:
            self._passage.stop()
            self._passage = None
        if self._quarantine is not None:
            self._quarantine.end()
            self._quarantine = None
            self.note(network=None)

    def _stop_server(self) -> None:
        if self._server is not None:
            self._server.stop()
            self._server = None
            self.note(pid=None, pid_started=None)

    def restart(self) -> None:
        """Let the server take up changed files. Raises `KeenHarborError` when it does not start."""
        self._stop_server()
        self.start()

    def note(self, **changes: Any) -> None:
        """Write down what changed of it."""
        self.facts = dataclasses.replace(self.facts, **changes)
        write_facts(self.folder, self.facts)

    def keep(self) -> None:
        """Let it outlive the run that made it."""
        self.note(kept=True)

    def drop(self) -> None:
        """End its processes, what steps have left running too, and remove every trace of it."""
        self.stop()
        self.end_programs()
        drop_database(self.facts, self.live)
        remove_groups(self.facts.groups)
        remove_folder(self.folder)

    def __enter__(self) -> Clone:
        self.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()


def site_of(live: SiteView, facts: CloneFacts) -> Writable:
    """The clone's site, which stands on this machine wherever live's is."""
    return Writable.of(live, facts.root, with_password(facts, live), own_runtime(facts, live), Here(live.work))


def own_runtime(facts: CloneFacts, live: SiteView) -> RuntimePart | None:
    """The runtime with the clone's own virtual environment in place of live's, and of this machine where live is on
    another; None where it is live's own."""
    home = live.environment()
    if facts.environment is None or home is None:
        return None if live.host.is_here else runtime_here(live)
    part, own, inside = live.model.runtime, facts.environment, live.host.environments.inside
    launchers = {v: f"{own}/{within}" if (within := inside(home, p)) else p for v, p in part.launchers.items()}
    packages = f"{own}/{inside(home, live.packages_place())}"
    return part.model_copy(update={"launchers": launchers, "packages": os.path.relpath(packages, facts.root)})


def scratch_place(live: SiteView) -> DatabasePlace:
    said = live.model.database
    return DatabasePlace.from_url(said.scratch_url or "", read_password(live.site_file.parent, said.password_file))


def with_password(facts: CloneFacts, live: SiteView) -> DatabasePlace:
    if not facts.own_database:
        return facts.place
    return dataclasses.replace(facts.place, password=scratch_place(live).password)


def drop_database(facts: CloneFacts, live: SiteView | None) -> None:
    if facts.server is not None:
        PrivateServer(**facts.server).remove()
    elif facts.own_database and live is not None:
        open_database(with_password(facts, live)).drop()
