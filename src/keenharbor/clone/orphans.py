"""Clones whose run was killed: their programs, databases, networks and folders go."""

from __future__ import annotations

import os
import tempfile
import time
from pathlib import Path

from keenharbor.base.durable import remove_folder
from keenharbor.base.errors import KeenHarborError
from keenharbor.clone.facts import CloneFacts, list_clones
from keenharbor.clone.making import close_clone
from keenharbor.clone.marks import end_marked
from keenharbor.clone.quarantine import FOLDER
from keenharbor.host.programs import runs
from keenharbor.site.view import SiteView

_SETTLED_SECONDS = 60
"""A folder that is younger may belong to a run that has just begun."""


def is_orphan(facts: CloneFacts) -> bool:
    """Whether nobody looks after a clone any more: the run that made it was killed, and it was not to outlive it."""
    if facts.owner is None or facts.kept:
        return False
    return not runs(facts.owner, facts.owner_started)


def remove_orphans(live: SiteView) -> list[str]:
    """Remove them; says in words what was there."""
    told = []
    for facts in list_clones(live.work):
        if is_orphan(facts):
            try:
                close_clone(live.work, facts.id, live)
                told.append(f"clone {facts.id} of {facts.purpose or 'a run'} that was killed")
            except KeenHarborError as error:
                told.append(f"clone {facts.id} could not be removed: {error.what}")
    for folder in _without_facts(live.work):
        end_marked(folder)
        remove_folder(folder)
        told.append(f"the folder of a clone that cannot be told any more: {folder.name}")
    told += _temporary_folders()
    return told


def _without_facts(work: Path) -> list[Path]:
    """Folders of clones of which nothing was written down: the first thing that is done for one was interrupted."""
    home = work / "clones"
    if not home.is_dir():
        return []
    found = [f for f in home.iterdir() if f.is_dir() and not (f / "clone.json").exists()]
    # What is written first into the folder of one is what it is: with anything else in it, it was half removed.
    return [f for f in found if _is_settled(f) or any(not inside.name.startswith(".") for inside in f.iterdir())]


def _is_settled(folder: Path) -> bool:
    return time.time() - folder.stat().st_mtime > _SETTLED_SECONDS


def _temporary_folders() -> list[str]:
    """Folders for the sockets of clones' networks that no program uses."""
    told = []
    used = _used_folders()
    for folder in Path(tempfile.gettempdir()).glob(f"{FOLDER}*"):
        try:
            is_ours = folder.is_dir() and not folder.is_symlink() and folder.stat().st_uid == os.geteuid()
            if is_ours and _is_settled(folder) and not any(str(folder) in word for word in used):
                remove_folder(folder)
                told.append(f"sockets of a network that is gone: {folder}")
        except OSError:
            continue
    return told


def _used_folders() -> set[str]:
    """What running programs name on their command lines, or hold as a socket: a folder that stands there is in use."""
    import psutil

    found: set[str] = set()
    for process in psutil.process_iter():
        try:
            found.update(process.cmdline())
        except psutil.Error:
            continue
    try:
        lines = Path("/proc/net/unix").read_text(encoding="utf-8", errors="replace").splitlines()
    except OSError:
        lines = []
    found.update(line.rpartition(" ")[2] for line in lines)
    return found
