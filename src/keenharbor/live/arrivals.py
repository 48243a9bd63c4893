"""How live was when a cutover had come to its end: what the late watch holds it against.

WORK/arrivals/TIME-ID.zst   JSON, packed with Zstandard: TIME is when live arrived, in UTC; ID the snapshot before it

The state of files and database on arrival is a snapshot (`keenharbor.live.ways`); here are the look, what is noise,
times of answers, and which errors the logs had until then."""

from __future__ import annotations

import re
import time
from collections.abc import Collection, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path

import msgspec
import zstandard

from keenharbor.base.durable import private_folder, remove_file, write_durably
from keenharbor.base.errors import DamagedError
from keenharbor.base.text import now
from keenharbor.compare import Look, Noise, VisitError, Visitor
from keenharbor.live.loglines import LogEnd, errors_in_logs
from keenharbor.site.view import SiteView
from keenharbor.trial.sentinels import stands_for_all

FOLDER = "arrivals"
TIMED_PAGES, VISITS = 8, 5
"""So many pages are timed, with so many visits each, one after another."""
_NAME = re.compile(r"(?P<at>\d{8}-\d{6})-(?P<of>[\w-]+)\.zst")
_LARGEST = 2**30


@dataclass(frozen=True)
class Arrival:
    """Live at the end of the cutover before which the snapshot ``of`` was taken: when it came there, by which trial;
    the look and its noise; by page, how long its visits took in seconds; the kinds of errors in the logs until then
    with their counts, and where each log ended. ``slowest`` are the longest medians of later looks in which nothing was
    wrong: so slow these pages are at times."""

    of: str
    trial: str
    at: datetime
    look: Look
    noise: Noise
    times: dict[str, list[float]] = field(default_factory=dict)
    errors: dict[str, int] = field(default_factory=dict)
    log_ends: dict[str, LogEnd] = field(default_factory=dict)
    slowest: dict[str, float] = field(default_factory=dict)


def times_of(site: SiteView, pages: Sequence[str], visits: int = VISITS) -> dict[str, list[float]]:
    """How long visits of some pages take, in seconds, those in a row; a page that does not answer has none."""
    found: dict[str, list[float]] = {}
    with Visitor(site.address) as visitor:
        visitor.pause = site.model.look.pause
        for path in pages:
            taken: list[float] = []
            try:
                for _ in range(visits):
                    visitor.rest()
                    began = time.perf_counter()
                    answer = visitor.get(path)
                    taken.append(time.perf_counter() - began)
                    if answer.status >= 400:
                        break
                else:
                    found[path] = taken
            except VisitError:
                continue
    return found


def note_arrival_look(site: SiteView, of: str, trial: str, look: Look, noise: Noise) -> None:
    """Save how live is now, with visitors let in again. Raises OSError."""
    pages = [p for p in stands_for_all(look, site.model.look.starts, []) if look.pages[p].loads]
    errors = errors_in_logs(site)
    seen = {path: replace(page, samples=[], served=None) for path, page in look.pages.items()}
    arrival = Arrival(
        of, trial, now(), replace(look, pages=seen), noise, times_of(site, pages[:TIMED_PAGES]), dict(errors.counts),
        errors.ends,
    )  # fmt: skip
    save_arrival_look(site.work, arrival)


def save_arrival_look(work: Path, arrival: Arrival) -> None:
    file = private_folder(work / FOLDER) / f"{arrival.at:%Y%m%d-%H%M%S}-{arrival.of}.zst"
    write_durably(file, zstandard.compress(msgspec.json.encode(arrival), 3))


def arrivals(work: Path) -> list[Path]:
    """What is saved of arrivals, the newest first."""
    return sorted((f for f in (work / FOLDER).glob("*.zst") if _NAME.fullmatch(f.name)), reverse=True)


def arrived_at(work: Path) -> datetime | None:
    """When live arrived last, where it is watched since; without reading what was seen."""
    found = arrivals(work)
    named = _NAME.fullmatch(found[0].name) if found else None
    return datetime.strptime(named["at"], "%Y%m%d-%H%M%S").replace(tzinfo=UTC) if named is not None else None


def last_arrival(work: Path, open_to: Collection[str]) -> Arrival | None:
    """What was saved of the last arrival from whose cutover live can go back to one of these snapshots; None where
    nothing was. Of others what was saved goes. Raises `DamagedError`."""
    for file in arrivals(work):
        named = _NAME.fullmatch(file.name)
        if named is None or named["of"] not in open_to:
            remove_file(file)
    found = arrivals(work)
    if not found:
        return None
    try:
        packed = found[0].read_bytes()
        return msgspec.json.decode(
            zstandard.ZstdDecompressor().decompress(packed, max_output_size=_LARGEST), type=Arrival
        )
    except (OSError, msgspec.MsgspecError, zstandard.ZstdError, ValueError) as error:
        raise DamagedError(
            f"what was seen on arrival cannot be read: {error}", where=found[0],
            advice="remove the file: this cutover is not watched any more then",
        ) from None  # fmt: skip
