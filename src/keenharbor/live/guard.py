"""The one guard that surrounds every change of live: cutover, rollback, restore.

Who changes live gets a `Change` for the time of a block, and nothing else makes a live site that can be written to.
Whatever happens in the block, live ends in one of these ways, and the error says which:

where it stopped                          live                                       the error, its exit code
before maintenance could be on            untouched                                  as it was raised (2, 3)
before anything was changed               maintenance off, looked at                 `PutBackError` (4)
while changing                            the safety snapshot put back, looked at    `PutBackError` (4)
after the change was done                 as after the change                        `UnsettledError` (5)
when any of that failed, or was stopped   half-way; the journal says how far         `UnsettledError` (5)

A killed run gets no error; `settle` reads the journal. What is written into the log never changes an outcome: that it
could not be written is told beside it (`Change.remarks`)."""

from __future__ import annotations

import contextlib
import errno
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import NoReturn

from keenharbor.base.durable import Reserve
from keenharbor.base.errors import KeenHarborError, PutBackError, UnsettledError, words_of
from keenharbor.base.progress import Progress
from keenharbor.base.text import size
from keenharbor.compare import Visitor
from keenharbor.compare.markup import read_markup
from keenharbor.compare.visitor import VisitError
from keenharbor.database.diff import Carried
from keenharbor.live.flag import (
    flag_path,
    maintenance_off,
    maintenance_on,
    pass_header,
    refuse_without_reload,
    reload_host,
)
from keenharbor.live.journal import (
    ChangeKind,
    Journal,
    JournalFacts,
    Phase,
    begin_journal,
    close_journal,
    enter_phase,
    exclusive,
    new_token,
    steps_have_ended,
)
from keenharbor.live.putting import put_back
from keenharbor.live.ways import note_arrival
from keenharbor.site.load import live_database_place
from keenharbor.site.log import append_log
from keenharbor.site.view import SiteView
from keenharbor.site.writable import Writable
from keenharbor.snapshot import Snapshot, TakeOptions, take_snapshot
from keenharbor.snapshot.estimate import estimate
from keenharbor.snapshot.model import Reason
from keenharbor.store import Store

COMMANDS: dict[ChangeKind, str] = {
    "cutover": "cutover",
    "rollback": "rollback",
    "restore": "snapshot restore",
    "rollback of a step": "rollback of a step",
}
"""How each change is called in the log."""
_WORK_RESERVE = 1 << 20
_MARGIN = 8 << 20
_LOST_PROGRAM_SECONDS = 3


@dataclass
class Change:
    """A change of live that is under way, within the guard's block."""

    site: SiteView
    live: Writable
    store: Store
    journal: Journal
    lease: int
    progress: Progress
    reserve: Reserve
    safety: Snapshot | None = None
    maintenance_began: float | None = None
    maintenance_seconds: float = 0.0
    remarks: list[str] = field(default_factory=list)
    spent: dict[str, float] = field(default_factory=dict)

    @contextlib.contextmanager
    def spending(self, what: str) -> Iterator[None]:
        """Count the time of a block, in seconds, as part of the maintenance."""
        began = time.monotonic()
        try:
            yield
        finally:
            self.spent[what] = self.spent.get(what, 0.0) + time.monotonic() - began

    @property
    def token(self) -> str:
        """What lets a request through maintenance."""
        return self.journal.token

    @property
    def command(self) -> str:
        return COMMANDS[self.journal.kind]

    def enter(self, phase: Phase, safety: str | None = None) -> None:
        """Note in the journal that ``phase`` begins."""
        try:
            self.journal = enter_phase(self.site, self.journal, phase, safety)
        except OSError:
            if not self.reserve.give_back():
                raise
            self.journal = enter_phase(self.site, self.journal, phase, safety)

    def save_again(self, comment: str) -> Snapshot:
        """A further safety snapshot, between two steps; going back still leads to the first."""
        assert self.safety is not None
        options = TakeOptions(comment=comment, reason="before a step", every_row=True)
        return take_snapshot(self.site, self.store, options, self.progress, self.safety)

    def save_arrival(self, carried: Sequence[Carried]) -> Snapshot | None:
        """The state at the end of a cutover, before visitors are let in: what is done from here on is theirs. That it
        could not be saved is a remark: the way back then goes by the tables of visitors alone."""
        assert self.safety is not None
        options = TakeOptions(comment="the state at the end of the cutover", reason="after a cutover", every_row=True)
        try:
            arrival = take_snapshot(self.site, self.store, options, self.progress, self.safety)
            note_arrival(arrival, self.safety, carried, self.journal.trial)
        except (OSError, KeenHarborError) as error:
            told = words_of(error)
            self.remarks.append(
                f"the state on arrival could not be saved ({told}): a rollback will carry over new rows "
                f"of visitors' tables alone"
            )
            self.progress.note(self.remarks[-1])
            return None
        return arrival

    def log(self, outcome: str, detail: str, subject: str = "") -> None:
        """Note an outcome; that it cannot be written is a remark, not another outcome."""
        try:
            append_log(self.site.work, self.site.name, self.command, outcome, detail, subject)
        except (OSError, KeenHarborError) as error:
            told = words_of(error)
            self.remarks.append(
                f"the log could not be written ({told}): '{outcome}' of this {self.command} is not in it"
            )
            self.progress.note(self.remarks[-1])


@contextlib.contextmanager
def changing_live(
    site: SiteView, store: Store, kind: ChangeKind, progress: Progress, since: Snapshot | None, why: str,
    facts: JournalFacts, *, advice: str | None = None, before: Callable[[Change], None] | None = None,
) -> Iterator[Change]:  # fmt: skip
    """Guard a change of live. When the block is entered, visitors are locked out, and the safety snapshot (``why`` is
    its comment; only what changed ``since`` is read) is taken; ``before`` it live is looked at, since visits may write.
    The block calls `Change.enter` with ``changing`` before
    it changes anything, and with ``done`` when all is as it should be; then visitors are let in, and the block's end is
    the change's.

    Raises what the head of this module tells; ``advice`` says what to do after a change that was put back.
    """
    flag_path(site)
    refuse_without_reload(site)
    with exclusive(site, doing=f"a {kind}") as lease:
        live = Writable.of(site, site.place, live_database_place(site))
        with _reserved(site, store, since) as reserve:
            change = _begun(site, live, store, kind, lease, progress, reserve, facts)
            try:
                reserve.give_back(store.folder)
                _lock_out(change, since, why, before)
                yield change
                _let_in(change)
            except BaseException as error:
                reserve.give_back()
                _end(change, error, advice)


@contextlib.contextmanager
def _reserved(site: SiteView, store: Store, since: Snapshot | None) -> Iterator[Reserve]:
    """Room for journal and log, and for the safety snapshot, before visitors are locked out. Raises `KeenHarborError`
    where there is too little: nothing was begun then."""
    wanted = estimate(site, TakeOptions(every_row=True), since).most_added + _MARGIN
    reserve = Reserve([(site.work, _WORK_RESERVE), (store.folder, wanted)])
    try:
        reserve.take()
    except OSError as error:
        reserve.give_back()
        if error.errno not in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
            raise
        raise KeenHarborError(
            f"too little space for the safety snapshot and the journal: {size(wanted + _WORK_RESERVE)} are wanted",
            where=store.folder, advice="free some space ('keenharbor snapshot thin --preview'), then type the command "
                "again",
        ) from None  # fmt: skip
    try:
        yield reserve
    finally:
        reserve.give_back()


def _begun(
    site: SiteView, live: Writable, store: Store, kind: ChangeKind, lease: int, progress: Progress, reserve: Reserve,
    facts: JournalFacts,
) -> Change:  # fmt: skip
    """The journal is written; an error leaves none behind, so that nothing was begun."""
    try:
        journal = begin_journal(site, kind, new_token(), facts)
    except BaseException:
        close_journal(site)  # the rename may have come through, and only what follows it not
        raise
    return Change(site, live, store, journal, lease, progress, reserve)


def _lock_out(
    change: Change, since: Snapshot | None, why: str, before: Callable[[Change], None] | None
) -> None:  # fmt: skip
    """Visitors out, and the safety snapshot taken.

    The host is reloaded, so that a request which came in just before does not write after the safety snapshot. That of
    a broken site may not do it, which must not keep it from going back.
    """
    change.progress.stage("maintenance on")
    change.maintenance_began = time.monotonic()
    maintenance_on(change.live, change.token)
    with contextlib.suppress(KeenHarborError):
        reload_host(change.site)
    if change.journal.kind == "cutover":  # a broken site that is to go back may do what it likes
        _must_be_out(change)
    if before is not None:
        before(change)
    change.progress.stage("taking a safety snapshot")
    options = TakeOptions(comment=why, reason=_REASONS[change.journal.kind], every_row=True)
    with change.spending("safety snapshot"):
        change.safety = take_snapshot(change.site, change.store, options, change.progress, since)


def _must_be_out(change: Change) -> None:
    """Raise `KeenHarborError` unless the flag that stands now keeps visitors out, and lets the tool through."""
    start, seen = change.site.model.look.starts[0], []
    for headers in ({}, pass_header(change.site, change.token)):
        with Visitor(change.site.address, headers) as visitor:
            try:
                answer = visitor.get(start)
            except VisitError as error:
                seen.append((0, str(error)))
                continue
            seen.append((answer.status, read_markup(answer.text, visitor.address, start).title))
    out, through = seen
    if out == through and (0 < out[0] < 400 or out[0] == 503):
        what = "the site goes on answering" if out[0] < 400 else "the tool is not let through"
        raise KeenHarborError(
            f"{what} while the maintenance flag stands", where=change.site.address,
            advice="correct [maintenance] in the site file; 'keenharbor init --maintenance' brings a gate that works",
        )  # fmt: skip


_REASONS: dict[ChangeKind, Reason] = {
    "cutover": "before a cutover", "rollback": "before a rollback", "restore": "before a restore",
    "rollback of a step": "before a rollback",
}  # fmt: skip


def _let_in(change: Change) -> None:
    """The block is through: visitors in, and the journal put away."""
    if change.journal.phase != "done":
        raise AssertionError("a change of live came to its end without being done")
    change.progress.stage("maintenance off")
    maintenance_off(change.live)
    change.maintenance_seconds = time.monotonic() - (change.maintenance_began or 0.0)
    _sweep(change.live)
    close_journal(change.site)


def _sweep(live: Writable) -> None:
    """What a write that broke off has left on live, while a later try of its step went well."""
    with contextlib.suppress(OSError):
        for path in live.tree.leftovers():
            live.tree.remove(path)


def _end(change: Change, error: BaseException, advice: str | None) -> NoReturn:
    """Every way out of a change that did not come through."""
    reason = (error.what if isinstance(error, KeenHarborError) else str(error)) or _name_of(error)
    phase, command, safety = change.journal.phase, change.command, change.safety
    if phase == "done":
        change.log("interrupted", f"it is done, but its end was not: {reason}", _subject(change))
        raise UnsettledError(
            f"the {command} is done, but its end was interrupted: {reason}", where=change.site.place,
            advice="keenharbor settle",
        ) from error  # fmt: skip
    try:
        if phase == "changing":
            assert safety is not None
            # That it was done may stand on disk already, and only what came behind it failed: killed from here on it is
            # not.
            change.enter("changing")
            # A program that a step had just begun to start may be known to nobody; it holds the lock of the steps.
            with contextlib.suppress(KeenHarborError):
                steps_have_ended(change.site, _LOST_PROGRAM_SECONDS)
            change.progress.stage(f"putting everything back from snapshot {safety.id}")
            put_back(change.live, safety)
            told = "everything was put back"
        else:
            change.progress.stage("maintenance off")
            maintenance_off(change.live)
            told = "nothing was changed, and visitors are let in again"
        close_journal(change.site)
    except BaseException as second:
        words = (second.what if isinstance(second, KeenHarborError) else str(second)) or _name_of(second)
        change.log("interrupted", f"{reason}; putting back: {words}", _subject(change))
        raise UnsettledError(
            f"the {command} failed ({reason}), and putting back was interrupted: {words}", where=change.site.place,
            advice="keenharbor settle",
        ) from error  # fmt: skip
    own, details = (error.advice, error.details) if isinstance(error, KeenHarborError) else (None, ())
    change.log("put back", "; ".join([reason, *details]), _subject(change))
    beside = "".join(f"; {r}" for r in change.remarks)
    raise PutBackError(
        f"{reason}; {told}{beside}", where=change.site.address, advice=own or advice,
        details=details,
    ) from error  # fmt: skip


def _name_of(error: BaseException) -> str:
    return "it was stopped" if isinstance(error, KeyboardInterrupt) else type(error).__name__


def _subject(change: Change) -> str:
    return change.safety.id if change.safety is not None else ""


def reserve_files(work: Path) -> list[Path]:
    """What a killed change has left of the room that it had reserved."""
    return sorted(work.glob(f"{Reserve.NAME}*"))
