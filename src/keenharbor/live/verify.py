"""Checking everything that the tool relies on: the store, and what stands in the work folder."""

from __future__ import annotations

from pathlib import Path

from keenharbor.base.errors import DamagedError, KeenHarborError
from keenharbor.base.progress import Progress
from keenharbor.clone.facts import damaged_clones
from keenharbor.live.journal import LAST_NAME, open_journal, read_journal
from keenharbor.site.decisions import remembered
from keenharbor.site.log import LOG_NAME, read_log
from keenharbor.site.survey import read_kept_survey
from keenharbor.site.view import JOURNAL_NAME
from keenharbor.site.whereabouts import Whereabouts
from keenharbor.snapshot.verify import Verification, verify_store
from keenharbor.store import Store
from keenharbor.trial.accepted import read_accepted
from keenharbor.trial.result import damaged_trials, list_trials
from keenharbor.trial.sums import damages_of


def verify_site(site: Whereabouts, store: Store, progress: Progress, other: Store | None = None) -> Verification:
    """Read and check the store (see `verify_store`), then the log, the journal, trials with their checkpoints, clones,
    and what was agreed to and decided. The site itself need not be there."""
    found = verify_store(store, progress, other)
    progress.stage("checking the work folder")
    found.damages += [f"{LOG_NAME}, line {n}: {problem}" for n, problem in read_log(site.work).damaged]
    if found.snapshots and not (site.work / LOG_NAME).exists():
        found.damages.append(f"{LOG_NAME}: it is missing, though snapshots were taken")
    found.damages += _journals(site)
    found.damages += _trials(site, store, progress)
    found.damages += [f"clones/{name}/clone.json: it cannot be read" for name in damaged_clones(site.work)]
    found.damages += _kept(site)
    return found


def _journals(site: Whereabouts) -> list[str]:
    damages = []
    try:
        open_journal(site.work)
    except DamagedError as error:
        damages.append(f"{JOURNAL_NAME}: {error.what}")
    try:
        read_journal(site.work / LAST_NAME)
    except DamagedError as error:
        damages.append(f"{LAST_NAME}: {error.what}")
    return damages


def _trials(site: Whereabouts, store: Store, progress: Progress) -> list[str]:
    """Results, reports, looks and checkpoints of trials, and what was agreed to of their plans."""
    damages = [f"trials/{name}/result.json: it is not what was written" for name in damaged_trials(site.work)]
    told = set(damages)
    for folder in sorted((site.work / "trials").glob("*/")):
        damages += [line for d in damages_of(folder) if (line := f"trials/{folder.name}/{d}") not in told]
        checkpoints = folder / "checkpoints"
        if (checkpoints / "store.json").exists():
            progress.stage(f"checking the checkpoints of trial {folder.name}")
            try:
                inner = verify_store(Store(checkpoints, [store]), progress)
                damages += [f"trials/{folder.name}/checkpoints: {d}" for d in inner.damages]
                damages += [f"trials/{folder.name}/checkpoints: {n} is hurt" for n in inner.hurt]
            except KeenHarborError as error:
                damages.append(f"trials/{folder.name}/checkpoints: {error.what}")
        elif checkpoints.is_dir() and (folder / "seen/before.zst").exists():  # else killed before it had any
            damages.append(
                f"trials/{folder.name}/checkpoints/store.json: it is missing; the trial cannot be gone on with"
            )
    for plan in sorted({t.plan_file for t in list_trials(site.work)}):
        try:
            read_accepted(Path(plan))
        except KeenHarborError as error:
            damages.append(f"what was accepted of {Path(plan).name}: {error.what}")
    return damages


def _kept(site: Whereabouts) -> list[str]:
    damages = []
    try:
        remembered(site.work)
    except DamagedError as error:
        damages.append(f"decisions.json: {error.what}")
    for file in sorted((site.work / "surveys").glob("*.json")):
        try:
            read_kept_survey(file)
        except KeenHarborError as error:
            damages.append(f"surveys/{file.name}: {error.what}")
    return damages
