"""Clones stand on this machine also where live is on another: with the runtimes and packages that are here, or that are
brought over."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping
from pathlib import Path, PurePosixPath

from keenharbor.base.durable import private_folder
from keenharbor.base.errors import KeenHarborError
from keenharbor.host import Entry, FileTree, ReadFiles, ReadPath, WalkRules
from keenharbor.host.areas import AreaRules
from keenharbor.host.environment import point_to
from keenharbor.host.programs import ProgramError, ask_program, clean_environment, find_program, run_program
from keenharbor.site.model import RuntimePart
from keenharbor.site.view import SiteView
from keenharbor.store import Store
from keenharbor.tree import scan_tree
from keenharbor.tree.restore import restore_tree
from keenharbor.tree.scan import read_content

_SECONDS = 120
_VERSION = re.compile(r"\d+(?:\.\d+)+")
_ASKS = (["--version"], ["-v"])


def program_here(program: str, version: str) -> str | None:
    """The program of this machine that does what ``program`` does over there: the same path, or one of that name (also
    with its version in it); None where there is none."""
    if Path(program).is_file() and os.access(program, os.X_OK):
        return program
    name = PurePosixPath(program).name
    plain = re.sub(r"[\d.]+$", "", name) or name
    short = ".".join(version.split(".")[:2])
    for wanted in dict.fromkeys((name, f"{plain}{short}", f"{plain}{version}", plain)):
        if (found := find_program(wanted)) is not None:
            return found
    return None


def version_of(program: str) -> str:
    """The version that a program tells of itself; empty where it tells none."""
    for words in _ASKS:
        try:
            said = ask_program([program, *words], seconds=20, environment=clean_environment())
        except ProgramError:
            continue
        if (found := _VERSION.search(said.decode("utf-8", "replace"))) is not None:
            return found[0]
    return ""


def runtime_here(live: SiteView) -> RuntimePart:
    """The runtime of a clone whose live site is on another machine. What the site file names under [clone.launchers]
    goes before what is found; a version that nothing here runs keeps the launcher of over there, and is told when it is
    needed."""
    part, said = live.model.runtime, live.model.clone.launchers
    launchers = {
        version: said.get(version) or program_here(program, version) or program
        for version, program in part.launchers.items()
    }
    return part.model_copy(update={"launchers": launchers})


def differs_here(live: SiteView) -> list[str]:
    """In words, what a clone's runtime has otherwise than live's, of the version that live selects."""
    if live.host.is_here:
        return []
    wanted = live.runtime_version()
    program = runtime_here(live).launchers.get(wanted)
    if program is None or not Path(program).exists():
        name = live.model.runtime.name
        return [f"no {name} {wanted} was found here: name one under [clone.launchers] in the site file"]
    told = version_of(program)
    if told and not _fits(told, wanted):
        return [f"clones run on {live.model.runtime.name} {told} of this machine; live has {wanted}"]
    return []


def _fits(told: str, wanted: str) -> bool:
    parts = wanted.split(".")
    return told.split(".")[: len(parts)][: len(told.split("."))] == parts[: len(told.split("."))]


def environment_here(live: SiteView, store: Store) -> str:
    """Live's virtual environment, brought over: one of the same minor version of Python made here, with what is
    installed there. What came before is not sent again. Raises `KeenHarborError` where that Python is not here."""
    home = live.environment()
    assert home is not None
    there = ReadPath(live.host.reading(home))
    packages = PurePosixPath(live.packages_place()).relative_to(home)
    minor = next((p for p in packages.parts if re.fullmatch(r"python\d+\.\d+", p)), "")
    python = find_program(minor) if minor else None
    if python is None:
        raise KeenHarborError(
            f"a clone needs {minor or 'the Python of the site'} on this machine, as the site's environment has it",
            where=home, advice="install that Python here, with its module venv",
        )  # fmt: skip
    mirror = private_folder(live.work / "environment-of-live")
    if not (mirror / "bin/python").exists():
        command = [python, "-I", "-m", "venv", "--without-pip", str(mirror)]
        ran = run_program(command, folder=live.work, time_limit=_SECONDS, environment=clean_environment())
        if ran.code != 0:
            raise KeenHarborError(
                f"no virtual environment can be made: {ran.output.strip()[-200:]}", where=mirror,
                advice="install Python's own module venv (python3-venv)",
            )  # fmt: skip
    _bring(live.host.reading(f"{home}/{packages}"), mirror / str(packages), store)
    _bring_programs(there, mirror, home)
    return str(mirror)


def _bring(far: ReadFiles, target: Path, store: Store) -> None:
    rules = WalkRules(AreaRules({}), ("**/__pycache__/**",))
    own = FileTree(str(target))
    own.make_root()
    present = scan_tree(own, rules)
    with store.in_use(), store.writing(2, forks=False) as writer:
        scan, found = far.begin_walk(rules)
        read_content(far, scan, writer, {}, store.has, lambda done, total: None, found=found)
        read_content(own, present, writer, {}, store.has, lambda done, total: None)
    restore_tree(own, _nobodys(scan.entries), _nobodys(present.entries), store.read)


def _nobodys(entries: Mapping[str, Entry]) -> dict[str, Entry]:
    """Entries whose owner is whoever writes them."""
    return {path: entry._replace(uid=-1, gid=-1) for path, entry in entries.items()}


def _bring_programs(there: ReadPath, mirror: Path, home: str) -> None:
    """What installers put beside the interpreter; it names the environment's own folder."""
    own = FileTree(str(mirror))
    for file in (there / "bin").iterdir():
        if re.match(r"(python|pip|activate|Activate)", file.name) or file.is_symlink() or not file.is_file():
            continue
        own.write(f"bin/{file.name}", file.read_bytes(), 0o755)
        point_to(mirror / "bin" / file.name, home, str(mirror))
