"""The journal of a change to live: written before each phase, removed when all is settled.

phase      what may have happened to live           how it is settled
begun      maintenance switched on                  maintenance off: live is as before
changing   anything                                 cutover: the safety snapshot is put back, live is as before;
                                                    rollback, restore: carried on, live is as after
done       the change stands, all checks passed     maintenance off: live is as after
"""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Iterator
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any, Literal

from keenharbor.base.durable import sync_folder, write_json
from keenharbor.base.errors import DamagedError, UnsettledError
from keenharbor.base.locks import held
from keenharbor.base.text import now, stamp
from keenharbor.site.view import JOURNAL_NAME, SiteView

STEPS_LOCK = "steps.lock"
ChangeKind = Literal["cutover", "rollback", "restore"]
Phase = Literal["begun", "changing", "done"]


@dataclass(frozen=True)
class Journal:
    """An open change. ``safety`` is the snapshot of live before it; ``target`` the one that a rollback or a restore goes back to,
    ``chosen`` what of it is given back."""

    kind: ChangeKind
    site: str
    started_at: str
    phase: Phase
    token: str
    safety: str | None = None
    target: str | None = None
    trial: str | None = None
    chosen: dict[str, Any] | None = None

    @property
    def told(self) -> str:
        return f"a {self.kind} of {self.site}, begun {self.started_at}"


def begin_journal(site: SiteView, kind: ChangeKind, token: str, **facts: Any) -> Journal:
    """Write the journal of a change that is about to begin."""
    journal = Journal(kind, site.name, stamp(now()), "begun", token, **facts)
    write_json(site.journal_file, asdict(journal))
    return journal


def enter_phase(site: SiteView, journal: Journal, phase: Phase, safety: str | None = None) -> Journal:
    """Note that the change enters ``phase``, before anything of it is done. That it is done is noted when all that was written,
    by whatever program, is on disk: behind a power cut, too, the change is either carried on or there."""
    if phase == "done":
        os.sync()
    journal = replace(journal, phase=phase, safety=safety or journal.safety)
    write_json(site.journal_file, asdict(journal))
    return journal


def close_journal(site: SiteView) -> None:
    """The change is settled."""
    (site.journal_file).unlink(missing_ok=True)
    sync_folder(site.work)


def open_journal(work: Path) -> Journal | None:
    """The journal of a change that was interrupted; None when all is settled."""
    file = work / JOURNAL_NAME
    try:
        return Journal(**json.loads(file.read_bytes()))
    except FileNotFoundError:
        return None
    except (ValueError, TypeError) as error:
        raise DamagedError(f"the journal cannot be read: {error}", where=file) from error


def refuse_unsettled(site: SiteView) -> None:
    """Raise `UnsettledError` when an earlier change was interrupted."""
    journal = open_journal(site.work)
    if journal is not None:
        raise UnsettledError(f"{journal.told}, was interrupted", where=site.journal_file, advice="keenharbor settle")


@contextlib.contextmanager
def steps_lock(site: SiteView) -> Iterator[int]:
    """Held for the steps of a change; the programs that they start inherit the descriptor that is yielded.

    So `steps_have_ended` can tell when the last program of a killed run is through. The file is made anew each time: a
    server that an earlier step left running holds the earlier one and stands in nobody's way.
    """
    path = site.work / STEPS_LOCK
    path.unlink(missing_ok=True)
    with held(path, "the steps of a change") as descriptor:
        yield descriptor


def steps_have_ended(site: SiteView, wait_seconds: float) -> None:
    """Wait for the programs of an interrupted run. Raises `KeenHarborError` when they still run after that time."""
    with held(site.work / STEPS_LOCK, "a program that the interrupted run had started", wait_seconds):
        pass


@contextlib.contextmanager
def exclusive(site: SiteView, wait_seconds: float = 0) -> Iterator[int]:
    """Be the only run that works on the live site; yields the lock's descriptor.

    Raises `UnsettledError` when an earlier change was interrupted.
    """
    with held(site.work / "site.lock", f"the site '{site.name}'", wait_seconds) as descriptor:
        refuse_unsettled(site)
        yield descriptor
