"""The journal of a change to live: written before each phase, put away when all is settled.

phase      what may have happened to live           how it is settled begun      maintenance switched on
maintenance off: live is as before changing   anything                                 cutover, rollback of a step: the
safety snapshot is put back, live is as before; rollback, restore: carried on, live is as after done       the change
stands, all checks passed     maintenance off: live is as after

A change that came to its end leaves its journal as ``last-change.json``: what is known of it does not hang on the log
alone."""

from __future__ import annotations

import contextlib
import os
import secrets
import socket
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, ValidationError

from keenharbor.base.durable import read_summed, sync_folder, write_summed
from keenharbor.base.errors import DamagedError, UnsettledError
from keenharbor.base.text import now, stamp, visible
from keenharbor.host.lease import held
from keenharbor.site.view import JOURNAL_NAME, LEASE_NAME, SiteView

LAST_NAME = "last-change.json"
STEPS_LOCK = "steps.lock"
ChangeKind = Literal["cutover", "rollback", "restore", "rollback of a step"]
Phase = Literal["begun", "changing", "done"]
TOKEN_BYTES = 12


class Journal(BaseModel):
    """An open change. ``safety`` is the snapshot of live before it; ``target`` the one that a rollback or a restore
    goes back to, ``chosen`` what of it is given back, ``prefer`` which side wins where both
    changed the same, ``without`` the tables and columns whose changes do not come along."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    kind: ChangeKind
    site: str
    started_at: str
    phase: Phase
    token: str
    safety: str | None = None
    target: str | None = None
    trial: str | None = None
    chosen: dict[str, object] | None = None
    prefer: Literal["theirs", "ours"] | None = None
    without: tuple[str, ...] = ()
    computer: str = ""
    """On which it was begun: another may meet it where the site is on a machine of its own."""

    @property
    def told(self) -> str:
        return f"a {self.kind} of {self.site}, begun {self.started_at}"


@dataclass(frozen=True)
class JournalFacts:
    """What a change is about; see `Journal`."""

    target: str | None = None
    trial: str | None = None
    chosen: dict[str, object] | None = None
    prefer: Literal["theirs", "ours"] | None = None
    without: tuple[str, ...] = ()


def new_token() -> str:
    """What lets a request through maintenance."""
    return secrets.token_hex(TOKEN_BYTES)


def is_token(text: str) -> bool:
    """Whether a flag's content is one that the tool wrote."""
    return len(text) == 2 * TOKEN_BYTES and all(c in "0123456789abcdef" for c in text)


def begin_journal(site: SiteView, kind: ChangeKind, token: str, facts: JournalFacts | None = None) -> Journal:
    """Write the journal of a change that is about to begin."""
    journal = Journal(
        kind=kind, site=site.name, started_at=stamp(now()), phase="begun", token=token, computer=socket.gethostname(),
        **vars(facts or JournalFacts()),
    )  # fmt: skip
    _write(site, journal)
    return journal


def enter_phase(site: SiteView, journal: Journal, phase: Phase, safety: str | None = None) -> Journal:
    """Note that the change enters ``phase``, before anything of it is done. That it is done is noted when all that was
    written, by whatever program, is on disk: behind a power cut, too, the change is either carried on or there."""
    if phase == "done":
        os.sync()
    journal = journal.model_copy(update={"phase": phase, "safety": safety or journal.safety})
    _write(site, journal)
    return journal


def _write(site: SiteView, journal: Journal) -> None:
    write_summed(site.journal_file, journal.model_dump(mode="json"))
    site.host.note(JOURNAL_NAME, site.journal_file.read_bytes())


def close_journal(site: SiteView) -> None:
    """The change is settled. Its journal is put away by one rename; where there is none, nothing is done."""
    site.host.note(JOURNAL_NAME, None)
    with contextlib.suppress(FileNotFoundError):
        site.journal_file.replace(site.work / LAST_NAME)
        sync_folder(site.work)


def open_journal(work: Path) -> Journal | None:
    """The journal of a change that was interrupted; None when all is settled. Raises `DamagedError` when there is one
    that cannot be read."""
    return read_journal(work / JOURNAL_NAME)


def last_change(work: Path) -> Journal | None:
    """The journal of the change that ended last; None where there was none, or where it cannot be read."""
    try:
        return read_journal(work / LAST_NAME)
    except DamagedError:
        return None


def read_journal(file: Path) -> Journal | None:
    """The journal in a file; None where there is none. Raises `DamagedError`."""
    try:
        return Journal.model_validate(read_summed(file.read_bytes()))
    except (FileNotFoundError, NotADirectoryError):
        return None
    except ValidationError as error:
        problem = error.errors()[0]["msg"]
    except (OSError, ValueError) as error:
        problem = getattr(error, "strerror", None) or str(error)
    raise DamagedError(f"the journal cannot be read: {problem}", where=file, advice="keenharbor settle")


def put_aside(site: SiteView) -> Path:
    """Move a journal that cannot be read out of the way; returns where it is."""
    place = site.work / f"journal.damaged-{now():%Y%m%d-%H%M%S}-{secrets.token_hex(2)}"
    site.journal_file.replace(place)
    sync_folder(site.work)
    return place


def journal_there(site: SiteView) -> Journal | None:
    """The journal of an interrupted change that is kept with the site's machine, where that is another one. Raises
    `DamagedError`."""
    content = site.host.noted(JOURNAL_NAME)
    if content is None:
        return None
    try:
        return Journal.model_validate(read_summed(content))
    except ValueError as error:
        raise DamagedError(f"the journal over there cannot be read: {error}", where=site.host.told) from None


def refuse_unsettled(site: SiteView) -> None:
    """Raise `UnsettledError` when an earlier change was interrupted, of this computer or of another."""
    try:
        journal = open_journal(site.work)
        elsewhere = journal_there(site) if journal is None else None
    except DamagedError as damaged:
        raise UnsettledError(damaged.what, where=damaged.where, advice="keenharbor settle") from None
    if elsewhere is not None:
        raise UnsettledError(
            f"{elsewhere.told}, was interrupted on the computer '{visible(elsewhere.computer)}'", where=site.host.told,
            advice="keenharbor settle, on that computer; here only if this store has snapshot "
            f"{visible(elsewhere.safety or '(none was taken yet)')}",
        )  # fmt: skip
    if journal is not None:
        raise UnsettledError(f"{journal.told}, was interrupted", where=site.journal_file, advice="keenharbor settle")


@contextlib.contextmanager
def steps_lock(site: SiteView) -> Iterator[int]:
    """Held for the steps of a change; the programs that they start inherit the descriptor that is yielded.

    So `steps_have_ended` can tell when the last program of a killed run is through. The file is made anew each time: a
    server that an earlier step left running holds the earlier one and stands in nobody's way.
    """
    with site.host.lease(STEPS_LOCK, "the steps of a change", anew=True) as descriptor:
        yield descriptor


def steps_have_ended(site: SiteView, wait_seconds: float) -> None:
    """Wait for the programs of an interrupted run. Raises `KeenHarborError` when they still run after that time."""
    with site.host.lease(STEPS_LOCK, "a program that the interrupted run had started", wait_seconds):
        pass


@contextlib.contextmanager
def exclusive(site: SiteView, wait_seconds: float = 0, doing: str = "a change") -> Iterator[int]:
    """Be the only run that works on the live site; yields the lease's descriptor.

    Raises `UnsettledError` when an earlier change was interrupted, `HeldError` when one is under way.
    """
    with the_lease(site, wait_seconds, doing) as descriptor:
        refuse_unsettled(site)
        yield descriptor


@contextlib.contextmanager
def the_lease(site: SiteView, wait_seconds: float, doing: str) -> Iterator[int]:
    """What `exclusive` holds: here, and on the site's machine where that is another."""
    what, told = f"the site '{site.name}'", f"{doing} of {site.name}"
    with contextlib.ExitStack() as stack:
        descriptor = stack.enter_context(held(site.work / LEASE_NAME, what, wait_seconds, doing=told))
        if not site.host.is_here:
            stack.enter_context(site.host.lease(LEASE_NAME, what, wait_seconds, doing=told))
        yield descriptor


def refuse_running(site: SiteView) -> None:
    """Raise `HeldError` when a change is under way, `UnsettledError` when one was interrupted: before long work is
    begun."""
    if site.work.exists():
        with exclusive(site):
            pass
