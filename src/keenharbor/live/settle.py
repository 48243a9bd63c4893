"""Settling an interrupted change, the same way each time it is tried; and what killed runs have left lying about."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass, field

from keenharbor.base.durable import take_away
from keenharbor.base.errors import DamagedError, KeenHarborError, UnsettledError, UsageError
from keenharbor.base.progress import Progress
from keenharbor.base.text import now, plural
from keenharbor.clone.orphans import remove_orphans
from keenharbor.live.arrivals import FOLDER as ARRIVALS
from keenharbor.live.flag import MOVED, flag_text, maintenance_off, reload_host
from keenharbor.live.guard import reserve_files
from keenharbor.live.journal import (
    Journal,
    close_journal,
    is_token,
    journal_there,
    last_change,
    open_journal,
    put_aside,
    steps_have_ended,
    the_lease,
)
from keenharbor.live.putting import put_back
from keenharbor.live.restore import Chosen, put_back_chosen
from keenharbor.live.rollback import Wishes, go_back, ways_to
from keenharbor.live.undone import STATES_OF_A_STEP
from keenharbor.site.load import live_database_place
from keenharbor.site.log import append_log
from keenharbor.site.view import SiteView
from keenharbor.site.writable import Writable
from keenharbor.snapshot import Snapshot, list_snapshots
from keenharbor.snapshot.manifest import read_snapshot
from keenharbor.snapshot.model import Reason
from keenharbor.store import Store

WAIT_SECONDS = 60
"""So long the programs that a killed run had started are waited for."""
SAFETY_REASONS: tuple[Reason, ...] = ("before a cutover", "before a rollback", "before a restore")


@dataclass(frozen=True)
class Settled:
    """What was settled, and whether live is now as ``before`` or as ``after`` the change; the ``kind`` is empty where
    nothing of live was open. ``cleared`` names what killed runs had left elsewhere and was removed, ``remarks`` what
    else is to be known."""

    kind: str
    started_at: str
    live_is: str
    detail: str
    cleared: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()


@dataclass
class _Settling:
    site: SiteView
    live: Writable
    progress: Progress
    cleared: list[str] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)

    @property
    def store(self) -> Store:
        return Store(self.site.store_folder)

    def log(self, detail: str, subject: str = "") -> None:
        """``subject`` is the snapshot that a way back led to."""
        try:
            append_log(self.site.work, self.site.name, "settle", "settled", detail, subject)
        except OSError as error:
            self.remarks.append(f"the log could not be written: {error.strerror}")


def settle(site: SiteView, progress: Progress) -> Settled | None:
    """Bring live to the state before or after the interrupted change, let visitors in, and remove what killed runs have
    left; None when there is nothing to settle. Raises `UnsettledError` when it could not be brought to its end."""
    with the_lease(site, WAIT_SECONDS, "settling"):
        work = _Settling(site, Writable.of(site, site.place, live_database_place(site)), progress)
        with _said_as_unsettled(site):
            journal = _settle_live(work)
            if journal is None:
                journal = _settle_flag(work)
            _clear(work)
        if journal is None and not work.cleared and not work.remarks:
            return None
        told = journal or Settled("", "", "before", "live was not touched")
        return Settled(
            told.kind, told.started_at, told.live_is, told.detail, tuple(work.cleared), (*told.remarks, *work.remarks)
        )


@contextlib.contextmanager
def _said_as_unsettled(site: SiteView) -> Iterator[None]:
    """What goes wrong here leaves something half-way."""
    try:
        yield
    except (UsageError, UnsettledError):
        raise
    except (KeenHarborError, OSError, KeyboardInterrupt) as error:
        words = error.what if isinstance(error, KeenHarborError) else str(error) or "it was stopped"
        advice = error.advice if isinstance(error, KeenHarborError) and error.advice else "keenharbor settle goes on"
        raise UnsettledError(f"settling did not come to its end: {words}", where=site.place, advice=advice) from error


def _settle_live(work: _Settling) -> Settled | None:
    """By the journal, or without it where it cannot be read."""
    site = work.site
    try:
        journal = open_journal(site.work) or journal_there(site)
    except DamagedError as damaged:
        return _without_journal(work, damaged)
    if journal is None:
        return None
    if journal.site != site.name:
        raise UsageError(
            f"what was interrupted here is {journal.told}, not of '{site.name}'", where=site.work,
            advice="type 'keenharbor settle' with that site's file",
        )  # fmt: skip
    steps_have_ended(site, WAIT_SECONDS)
    live_is, detail = _finish(work, journal)
    close_journal(site)
    work.log(
        f"{journal.told}: {detail}", str(journal.target) if (journal.kind, live_is) == ("rollback", "after") else ""
    )
    return Settled(journal.kind, journal.started_at, live_is, detail)


def _without_journal(work: _Settling, damaged: DamagedError) -> Settled:
    """The journal cannot be read: whether anything of live was changed, the flag and the safety snapshots tell."""
    site = work.site
    steps_have_ended(site, WAIT_SECONDS)
    open_change = is_token(flag_text(site) or "")
    safety = _newest_safety(work) if open_change else None
    if safety is not None:
        work.progress.stage(f"putting back snapshot {safety.id}")
        put_back(work.live, safety)
        live_is, detail = "before", f"snapshot {safety.id}, taken for it, was put back; live is as before it"
    elif open_change:
        maintenance_off(work.live)
        live_is, detail = "before", "it had not changed anything; live is as before"
    else:
        live_is, detail = "before", "visitors were not locked out: it had not begun, or had come to its end"
    place = put_aside(site)
    detail += f". {damaged.what[0].upper()}{damaged.what[1:]}; it is kept as {place.name}"
    work.log(f"a change whose journal was damaged: {detail}")
    return Settled("change", "", live_is, detail)


def _newest_safety(work: _Settling) -> Snapshot | None:
    """The safety snapshot of the change that is open: the newest, if it is none of a change that came to its end."""
    if not (work.site.store_folder / "store.json").exists():
        return None
    known = list_snapshots(work.store, work.site.name)
    last = last_change(work.site.work)
    newest = next((s for s in known if s.reason in (*SAFETY_REASONS, "before a step")), None)
    # Between two steps further ones are taken; live goes back to the first of a change.
    while newest is not None and newest.reason == "before a step":
        known = known[known.index(newest) + 1 :]
        newest = next((s for s in known if s.reason in (*SAFETY_REASONS, "before a step")), None)
    ended = last.safety if last is not None else None
    return newest if newest is not None and newest.id != ended else None


def _finish(work: _Settling, journal: Journal) -> tuple[str, str]:
    if journal.phase == "begun":
        maintenance_off(work.live)
        return "before", "it had not changed anything; live is as before"
    if journal.phase == "done":
        reload_host(work.site)
        maintenance_off(work.live)
        return "after", "it had done its work; live is as after it"
    if journal.safety is None:
        raise DamagedError("the journal names no safety snapshot", where=work.site.journal_file)
    safety = read_snapshot(work.store, journal.safety)
    if journal.kind in ("cutover", "rollback of a step"):
        return _back_to(work, safety)
    target = read_snapshot(work.store, str(journal.target))
    try:
        if journal.kind == "restore":
            work.progress.stage(f"going on with giving back snapshot {target.id}")
            put_back_chosen(work.live, target, Chosen.from_json(journal.chosen or {}), safety.id)
            detail = f"what was chosen of snapshot {target.id} is on live"
        else:
            work.progress.stage(f"going on with the way back to snapshot {target.id}")
            way = ways_to(work.site, work.store, target)[-1]
            merged = go_back(work.live, way, safety, Wishes(journal.prefer, journal.without))
            merged.rows.save_aside(work.site.work / f"not-carried-{now():%Y%m%d-%H%M%S}.jsonl")
            detail = f"live is as snapshot {target.id}, with {plural(merged.rows.rows, 'row')} carried over"
    except DamagedError as error:
        work.progress.note(f"that cannot be done ({error.what}); putting back snapshot {safety.id}")
        return _back_to(work, safety)
    maintenance_off(work.live)
    return "after", detail


def _back_to(work: _Settling, safety: Snapshot) -> tuple[str, str]:
    work.progress.stage(f"putting back snapshot {safety.id}")
    put_back(work.live, safety)
    return "before", f"snapshot {safety.id} was put back; live is as before it"


def _settle_flag(work: _Settling) -> Settled | None:
    """A flag of ours that stands though no change is open. One that somebody else put there is theirs."""
    text = flag_text(work.site)
    if text is None:
        return None
    if text.startswith(MOVED):
        work.remarks.append(
            "the site has moved away from here, and visitors stay locked out ('keenharbor log' says where)"
        )
        return None
    if not is_token(text):
        work.remarks.append(
            "visitors are locked out by a maintenance flag that was put there by somebody else: it stays"
        )
        return None
    maintenance_off(work.live)
    work.log("a maintenance flag without a journal was removed; visitors are let in again")
    return Settled("maintenance", "", "before", "a flag without a journal was removed; live is as it was")


def _clear(work: _Settling) -> None:
    """What killed runs have left: unfinished packs, reserved room, half-written files on live, orphaned clones."""
    site = work.site
    if (site.store_folder / "store.json").exists():
        with work.store.in_use():
            work.store.collect_staging()
    for folder in {site.work, site.store_folder}:
        for file in reserve_files(folder):
            file.unlink(missing_ok=True)
            work.cleared.append(f"room that was reserved: {file.name}")
    for file in (*site.work.glob(".*.part*"), *site.work.glob(f"{ARRIVALS}/.*.part*")):
        file.unlink(missing_ok=True)
    for folder in site.work.glob(f"{STATES_OF_A_STEP}*"):
        take_away(folder)
    left = work.live.tree.leftovers()
    for path in left:
        work.live.tree.remove(path)
    if left:
        work.cleared.append(f"{plural(len(left), 'half-written file')} on live: {', '.join(left[:3])}")
    work.cleared += remove_orphans(site)
    if work.cleared:
        work.log("removed what killed runs had left: " + "; ".join(work.cleared)[:500])
