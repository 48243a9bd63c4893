"""How the tool reaches a site: the line to its machine, what the machine offers, and what each stage will use."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from dataclasses import dataclass, field

from keenharbor.base.errors import KeenHarborError, words_of
from keenharbor.host.far.line import Line
from keenharbor.host.far.sent import program
from keenharbor.host.far.there import There
from keenharbor.site.load import database_if_said, host_of, load_site_file
from keenharbor.site.view import JOURNAL_NAME, SiteView
from keenharbor.site.whereabouts import Whereabouts

_ASKED = 7
_FIRST_BYTES = 128 * 1024
_MOST_BYTES = 8 * 1024 * 1024
_ENOUGH_SECONDS = 0.3


@dataclass(frozen=True)
class StageWay:
    """What a stage uses; ``good`` is false where it cannot be done, and ``how`` says what would help then."""

    stage: str
    how: str
    good: bool = True


@dataclass
class Reached:
    """What was found on the way to a site. Rates are bytes a second, 0 where they were not measured."""

    site: str
    place: str
    is_here: bool
    machine: str = ""
    system: str = ""
    user: str = ""
    python: str = ""
    helper_bytes: int = 0
    lacking: str = ""
    connect_seconds: float = 0.0
    round_trip_seconds: float = 0.0
    rate_from: float = 0.0
    rate_to: float = 0.0
    clock_seconds: float = 0.0
    """How far its clock is ahead of this one."""
    programs: dict[str, str] = field(default_factory=dict)
    database: str = ""
    database_problem: str = ""
    database_served: bool = False
    """Whether it is on a server."""
    root_problem: str = ""
    open_change: bool = False
    stages: list[StageWay] = field(default_factory=list)

    @property
    def good(self) -> bool:
        return not self.root_problem and all(s.good for s in self.stages)


def reach(at: Whereabouts, clone_problems: Callable[[SiteView], list[str]]) -> Reached:
    """Find it out; ``clone_problems`` says what clones of the site would have otherwise here. Raises `UsageError` for a
    site file that cannot be read, `LineError` where the machine cannot be reached."""
    model = load_site_file(at.site_file)
    began = time.monotonic()
    host, root = host_of(at, model)
    found = Reached(at.name, at.far or root, host.is_here)
    if isinstance(host, There):
        _by_line(host, began, found)
    else:
        found.machine = host.told
        found.user = str(os.geteuid())
    try:
        files = host.reading(root)
        facts = files.look("")
        if facts is None or facts.kind != "folder":
            found.root_problem = "the site's folder is not there"
    except OSError as error:
        found.root_problem = words_of(error)
    found.open_change = host.noted(JOURNAL_NAME) is not None
    helped = not isinstance(host, There) or host.by_helper
    _database(at, found)
    _stages(found, helped)
    if not found.root_problem and not found.database_problem:
        from keenharbor.site.load import open_site

        problems = clone_problems(open_site(at.site_file))
        here = "on this machine"
        found.stages.append(StageWay("clones", f"{here}; {problems[0]}" if problems else here, not problems))
    return found


def _by_line(host: There, began: float, found: Reached) -> None:
    line = host.line
    found.machine = host.told
    if not host.by_helper:
        host.facts()
        found.connect_seconds = time.monotonic() - began
        found.lacking = host.lacking or "the site file says 'files_only' under [line]"
        return
    found.connect_seconds = time.monotonic() - began
    asked = time.time()
    facts = line.lane().ask("hello")
    found.system, found.user = str(facts.get("system", "")), str(facts.get("user", ""))
    found.python, found.helper_bytes = str(facts.get("python", "")), len(program())
    programs = facts.get("programs")
    if isinstance(programs, dict):
        found.programs = {str(name): str(place) for name, place in programs.items()}
    found.round_trip_seconds = min(_timed(line, 0, 0) for _ in range(_ASKED))
    told = facts.get("time")
    if isinstance(told, float):
        found.clock_seconds = told - asked - found.round_trip_seconds / 2
    found.rate_from = _rate(line, found.round_trip_seconds, 0, 1)
    found.rate_to = _rate(line, found.round_trip_seconds, 1, 0)


def _timed(line: Line, there: int, back: int) -> float:
    body = os.urandom(there)
    began = time.monotonic()
    line.lane().ask("echo", back, body=body)
    return time.monotonic() - began


def _rate(line: Line, round_trip: float, there: int, back: int) -> float:
    """Bytes a second of what gets no smaller on its way, by as many as take long enough to tell."""
    count = _FIRST_BYTES
    while True:
        seconds = _timed(line, there * count, back * count)
        if seconds > _ENOUGH_SECONDS or count >= _MOST_BYTES:
            return count / max(1e-6, seconds - round_trip)
        count *= 4


def _database(at: Whereabouts, found: Reached) -> None:
    try:
        place = database_if_said(at)
        found.database, found.database_served = str(place), place.on_server
        if place.path is None and not place.on_server:
            found.database = "none"
            return
        from keenharbor.database import open_database

        database = open_database(place)
        if not database.exists():
            found.database_problem = "it is not there"
        else:
            found.database = f"{place.engine} {database.version()}"
    except (KeenHarborError, OSError) as error:
        found.database_problem = words_of(error)


def _stages(found: Reached, helped: bool) -> None:
    far = not found.is_here
    walk = "walked and hashed there; what is new travels, packed" if helped else "by file transfer (SFTP), one by one"
    by = {
        "survey, snapshot": walk if far else "read where they lie",
        "restore, rollback of files": ("written there" if helped else "by file transfer (SFTP)") if far else "in place",
    }
    found.stages += [StageWay(stage, how) for stage, how in by.items()]
    if found.database_problem:
        found.stages.append(StageWay("database", found.database_problem, False))
    elif found.database != "none":
        served = found.database_served
        how = "a socket here that leads to its server" if served else "opened there; statements go over the line"
        found.stages.append(StageWay("database", how if far else "reached directly"))
    runs = "run there; they end when the line does" if far else "run here"
    without = "no programs are run by file transfer alone: a shell and a Python from 3.9 on are wanted there"
    found.stages.append(StageWay("steps, reload, maintenance", runs if helped else without, helped))
    found.stages.append(StageWay("pages", "visited from this machine"))
