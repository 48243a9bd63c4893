"""What is written down of a clone, and the clones that are there."""

from __future__ import annotations

import contextlib
import dataclasses
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any

from keenharbor.base.durable import (
    read_summed,
    write_summed,
)
from keenharbor.base.errors import UsageError
from keenharbor.base.text import parse_stamp
from keenharbor.database import DatabasePlace
from keenharbor.database.kinds import SQLITE
from keenharbor.database.protocol import NO_DATABASE
from keenharbor.host.programs import runs

TRIAL_PURPOSE = "trial "


@dataclass(frozen=True)
class CloneFacts:
    """What is written down of a clone.

    ``server`` is its private database server; ``own_database`` says that its database was made on a server which others
    use, and is to be dropped with it; ``database_port`` is where its code finds its database in its own network, if not
    on a socket. ``opaque`` names places that hold something of live and could not be rewritten;
    ``environment`` is its own virtual environment; ``network`` tells of its own network while it runs, ``not_blocked``
    why it has none; ``mail_port`` is where its mail goes. One that is not ``whole`` was being made when it was killed.
    Its programs are ``sealed`` in their files, but for ``open_parts``; ``groups`` are the control groups that limit
    them; it held ``bytes_held`` when it was made. ``owner`` is the run that made it, which it does not outlive unless
    it is ``kept``."""

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
    database_port: int = 0
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
        return DatabasePlace(SQLITE.name, Path(self.database))

    @property
    def made(self) -> datetime:
        return parse_stamp(self.made_at)


def write_facts(folder: Path, facts: CloneFacts) -> None:
    write_summed(folder / "clone.json", dataclasses.asdict(facts))


def list_clones(work: Path) -> list[CloneFacts]:
    """The clones in a work folder, newest first."""
    found = []
    for file in (work / "clones").glob("*/clone.json"):
        with contextlib.suppress(OSError, ValueError, TypeError):
            found.append(_read_facts(file))
    return sorted(found, key=lambda f: f.made_at, reverse=True)


def _read_facts(file: Path) -> CloneFacts:
    """What is written down of a clone. Raises OSError, ValueError, TypeError. What it names is removed with it, so that
    nothing in it counts that is not what was written."""
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


def is_running(facts: CloneFacts) -> bool:
    """Whether the clone's server runs; a process that only took over its number does not count."""
    return runs(facts.pid, facts.pid_started)
