"""Carrying out a step, on a clone or (by the cutover) on live: the same code for both.

A `Workplace` is the only thing here that may be written to. New kinds of steps: a model in `plan`, a function here,
a row in `_PERFORM`.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from keenharbor.base.durable import temporary_name
from keenharbor.base.errors import KeenHarborError
from keenharbor.base.process import Ran, clean_environment, run_program
from keenharbor.base.text import plural
from keenharbor.clone.server import fill_places
from keenharbor.compare import VisitError, Visitor
from keenharbor.compare.state import settings_of
from keenharbor.database import open_database
from keenharbor.database.cells import cell_value, flat, with_part
from keenharbor.site.components import normal_name, pins_of
from keenharbor.site.edits import Installed, MergeConflict, edits_of, installed_packages, merge_three
from keenharbor.site.feed import Feed, Package
from keenharbor.site.model import SettingsTablePart
from keenharbor.site.settings import form_of, with_value
from keenharbor.site.view import SiteView
from keenharbor.tree.areas import fits
from keenharbor.tree.restore import clear_folder
from keenharbor.trial import plan as kinds


class StepFailed(Exception):
    """A step did not do what it should; ``output`` is what its program said."""

    def __init__(self, problem: str, output: str = "") -> None:
        super().__init__(problem)
        self.problem = problem
        self.output = output


@dataclass(frozen=True)
class Workplace:
    """A site that may be written to: a clone, or live during a cutover.

    ``address`` is where it answers now; ``headers`` go with requests to it; ``keep_open`` are descriptors that
    programs inherit, so that a lock outlives a killed run as long as its programs do. ``restart`` lets the host take up
    changed files; ``check`` makes scripted visits and tells what is wrong; ``ask`` shows a person what to do and returns
    when they are done (None: nobody is there); ``install`` changes the site's virtual environment (None: it must not be).
    Commands are started with ``prefix``, and see the ``variables``.
    """

    site: SiteView
    feed: Feed
    address: str
    headers: Mapping[str, str] = field(default_factory=dict)
    keep_open: Sequence[int] = ()
    restart: Callable[[], None] = lambda: None
    check: Callable[[Sequence[str]], str | None] = lambda only: None
    ask: Callable[[str], None] | None = None
    install: Callable[[kinds.DistributionsStep], Ran] | None = None
    prefix: Sequence[str] = ()
    variables: Mapping[str, str] | None = None

    def run(self, command: Sequence[str], time_limit: float, **places: str) -> Ran:
        """Run a command of the site file or plan in the site's folder with the runtime that the site selects."""
        filled = fill_places(command, {"runtime": self.site.launcher(), "root": str(self.site.root), **places})
        return run_program(
            [*self.prefix, *filled],
            folder=self.site.root,
            time_limit=time_limit,
            environment=clean_environment() if self.variables is None else self.variables,
            keep_open=self.keep_open,
        )

    def write_file(self, path: str, content: bytes) -> None:
        """Put a file in place by a rename; an existing file's mode is kept."""
        target = self.site.root / path
        target.parent.mkdir(parents=True, exist_ok=True)
        mode = target.stat().st_mode & 0o7777 if target.exists() else 0o644
        part = temporary_name(target)
        part.write_bytes(content)
        part.chmod(mode)
        part.replace(target)

    def remove_file(self, path: str) -> None:
        """Remove a file, and the folders above it that this leaves empty."""
        target = self.site.root / path
        target.unlink(missing_ok=True)
        for folder in target.parents:
            if folder == self.site.root or any(folder.iterdir()):
                break
            folder.rmdir()


@dataclass
class Outcome:
    """How a step went: ``problem`` is None when it is done; what it printed; how many tries it took; which paths it
    is known to touch; the versions it moved on."""

    problem: str | None = None
    output: str = ""
    tries: int = 1
    seconds: float = 0.0
    touches: tuple[str, ...] = ()
    versions: dict[str, str] = field(default_factory=dict)
    wiped: tuple[tuple[str, str], ...] = ()
    left_over: tuple[str, ...] = ()
    settings: tuple[str, ...] = ()
    placing: Placing | None = None


@dataclass
class Placing:
    """What a package step found at its first try and means to write: a further try goes by this, not by what a try that
    broke off has left. ``settings`` are the cells as they were before; ``done`` says that every file is in place."""

    content: dict[str, bytes]
    remove: tuple[str, ...]
    settings: dict[str, str]
    done: bool = False


def perform(step: Any, place: Workplace, sleep: Callable[[float], None] = time.sleep) -> Outcome:
    """Carry out a step, trying again as the plan says. Never raises for what the step does wrong."""
    began = time.monotonic()
    outcome = Outcome()
    outputs: list[str] = []
    for attempt in range(step.retries + 1):
        outcome.tries = attempt + 1
        outcome.problem = None
        try:
            outputs.append(_PERFORM[type(step)](step, place, outcome))
            break
        except StepFailed as failed:
            outcome.problem = failed.problem
            outputs.append(failed.output)
        except (KeenHarborError, OSError, VisitError) as error:
            outcome.problem = error.what if isinstance(error, KeenHarborError) else f"{type(error).__name__}: {error}"
        if attempt < step.retries:
            sleep(step.retry_pause)
    outcome.output = "\n".join(o.strip() for o in outputs if o.strip())
    outcome.seconds = time.monotonic() - began
    outcome.touches = (*outcome.touches, *step.expects)
    return outcome


def _ran(ran: Ran, limit: float, success: Sequence[int] = (0,), text: str | None = None) -> str:
    if ran.timed_out:
        raise StepFailed(f"'{ran.command}' was stopped after {limit:.0f} s", ran.output)
    if ran.code not in success:
        lines = ran.output.strip().splitlines()
        raise StepFailed(f"it ended with code {ran.code}" + (f": {lines[-1]}" if lines else ""), ran.output)
    if text is not None and text not in ran.output:
        raise StepFailed(f"it did not print '{text}'", ran.output)
    return ran.output


def _package(step: kinds.PackageStep, place: Workplace, outcome: Outcome) -> str:
    site = place.site
    release = place.feed.need(step.package, step.version)
    package = place.feed.package(release)
    if outcome.placing is None:
        outcome.placing = _prepare(step, place, release.kind, package, outcome)
    placing = outcome.placing
    if not placing.done:
        for path, content in placing.content.items():
            place.write_file(path, content)
        for path in placing.remove:
            place.remove_file(path)
        placing.done = True
    output = ""
    if step.migrate and site.model.commands.migrate is not None:
        owner = "core" if release.kind == "core" else step.package
        ran = place.run(site.model.commands.migrate, step.time_limit, owner=owner, name=step.package)
        output = _ran(ran, step.time_limit)
    if step.replaces is not None:
        output += _switch(place, step.package, True, step.time_limit) + _uninstall(
            place, step.replaces, outcome, step.time_limit
        )
    for name in step.keep_settings:
        output += _put_setting_back(place, name, placing.settings)
    return output


def _prepare(step: kinds.PackageStep, place: Workplace, kind: str, new: Package, outcome: Outcome) -> Placing:
    """Work out all that is to be written before anything is; raises `StepFailed` when an edit cannot be carried."""
    site, root = place.site, place.site.root
    installed = next((p for p in installed_packages(site) if p.name == step.package), None)
    if installed is None:
        part = (
            site.model.themes
            if kind == "theme" and site.model.themes
            else site.needed(site.model.extensions, "extensions")
        )
        installed = Installed(step.package, "", kind, f"{part.folder}/{step.package}")
    old_release = place.feed.find(installed.name, installed.version) if installed.version else None
    old = place.feed.package(old_release) if old_release is not None else None
    outcome.touches = tuple(installed.path(f) for p in (new, old) if p is not None for f in p.files)
    settings = _settings(site) if step.keep_settings else {}
    if installed.version == step.version:  # it is there already: only its migration is to be run
        return Placing({}, (), settings, done=True)
    if installed.version:
        outcome.versions[installed.version] = step.version
    edits = {e.path: e for e in edits_of(root, installed, old)} if old is not None else {}
    content = {installed.path(file): data for file, data in new.files.items()}
    wiped: list[tuple[str, str]] = []
    for file, data in new.files.items():
        path = installed.path(file)
        edit = edits.get(path)
        if edit is None or old is None or edit.removed:
            continue
        if step.carry_local_edits:
            content[path] = _merge(path, old.files[file], data, (root / path).read_bytes())
        elif data != (root / path).read_bytes():
            wiped.append((path, edit.diff))
    dropped = [installed.path(f) for f in (old.files if old is not None else ()) if f not in new.files]
    # A dropped file that somebody edited is somebody's work: it stays and is told of.
    remove = tuple(p for p in dropped if step.remove_dropped and p not in edits)
    outcome.wiped = tuple(wiped)
    outcome.left_over = tuple(p for p in dropped if p not in remove and (root / p).exists())
    return Placing(content, remove, settings)


def _merge(path: str, base: bytes, theirs: bytes, ours: bytes) -> bytes:
    try:
        texts = [x.decode("utf-8") for x in (base, theirs, ours)]
        return merge_three(texts[0], texts[1], texts[2]).encode("utf-8")
    except UnicodeDecodeError:
        raise StepFailed(f"the local edit of {path} cannot be carried over: it is not text") from None
    except MergeConflict as conflict:
        raise StepFailed(
            f"the local edit of {path} cannot be carried over: the release and the edit {conflict}"
        ) from None


def _settings(site: SiteView) -> dict[str, str]:
    with site.reading_database() as state:
        return settings_of(state, site.model)


def _put_setting_back(place: Workplace, wanted: str, before: Mapping[str, str]) -> str:
    """Put a setting (``name``, or a part of it, ``name.key``) back as it was in ``before``; what is new in it stays."""
    name = max((n for n in before if wanted == n or wanted.startswith(n + ".")), key=len, default=None)
    if name is None:
        raise StepFailed(f"there was no setting '{wanted}' to keep")
    inside = wanted.removeprefix(name).lstrip(".")
    after = _settings(place.site).get(name)
    if after is None:
        raise StepFailed(f"the setting '{name}' is gone, and with it where '{wanted}' could be put back")
    text = after
    for path, value in flat(cell_value(before[name])).items():
        if (not inside or path == inside or path.startswith(inside + ".")) and path in flat(cell_value(text)):
            text = with_part(text, path.split(".") if path else [], value)
    if text == after:
        return ""
    _write_setting(place, name, text)
    return f"the setting {wanted} was put back\n"


def _write_setting(place: Workplace, name: str, text: str) -> None:
    general = place.site.model.settings
    part = general.table if general is not None else None
    assert part is not None
    with open_database(place.site.database_place).writing() as writer:
        writer.update(part.table, {part.name: name}, {part.value: text})


def _switch(place: Workplace, name: str, on: bool, limit: float) -> str:
    commands = place.site.model.commands
    command = commands.switch_on if on else commands.switch_off
    if command is None:
        raise StepFailed(f"the site file has no [commands] switch_{'on' if on else 'off'}")
    return _ran(place.run(command, limit, name=name), limit)


def _uninstall(place: Workplace, name: str, outcome: Outcome, limit: float) -> str:
    installed = next((p for p in installed_packages(place.site) if p.name == name), None)
    if installed is None or installed.kind == "core":
        raise StepFailed(f"there is no extension '{name}' to remove")
    if place.site.is_distribution(name):
        raise StepFailed(f"'{name}' is a distribution: 'removes' in a step of the kind 'distributions' takes it out")
    output = _switch(place, name, False, limit)
    folder = place.site.root / installed.folder
    clear_folder(folder)
    folder.rmdir()
    outcome.touches = (*outcome.touches, installed.folder)
    return output


def _remove(step: kinds.RemoveStep, place: Workplace, outcome: Outcome) -> str:
    output = _uninstall(place, step.uninstall, outcome, step.time_limit) if step.uninstall else ""
    entries = place.site.scan().entries
    gone = [p for p in entries if fits(p, step.paths)]
    if step.paths and not gone:
        raise StepFailed("no path fits " + ", ".join(step.paths))
    for path in sorted(gone, key=lambda p: p.count("/"), reverse=True):
        target = place.site.root / path
        if entries[path].kind == "folder":
            clear_folder(target)
            target.rmdir()
        else:
            target.unlink(missing_ok=True)
    outcome.touches = (*outcome.touches, *step.paths)
    return output + "".join(f"removed {p}\n" for p in gone)


def _command(step: kinds.CommandStep, place: Workplace, outcome: Outcome) -> str:
    return _ran(place.run(step.command, step.time_limit), step.time_limit, step.success, step.text)


def _request(step: kinds.RequestStep, place: Workplace, outcome: Outcome) -> str:
    # A host that still runs the code of before would answer for it.
    place.restart()
    with Visitor(place.address, place.headers, timeout=step.time_limit) as visitor:
        answer = visitor.post(step.path, step.form) if step.form is not None else visitor.get(step.path)
    if answer.status != step.status:
        raise StepFailed(f"{step.path} answered with status {answer.status}, expected {step.status}")
    if step.text is not None and step.text not in answer.text:
        raise StepFailed(f"'{step.text}' is not on {step.path}")
    return f"{step.path}: status {answer.status}"


def _sql(step: kinds.SqlStep, place: Workplace, outcome: Outcome) -> str:
    with open_database(place.site.database_place).writing() as writer:
        return f"{writer.script(step.sql)} rows changed"


def _setting(step: kinds.SettingStep, place: Workplace, outcome: Outcome) -> str:
    model = place.site.model
    value: Any = step.value
    if step.file is not None:
        if step.settings_file is not None:
            file, form = step.settings_file, form_of(step.settings_file) or "ini"
        else:
            general = place.site.needed(model.settings, "settings")
            file, form = general.file, general.format
        path = place.site.root / file
        shown = str(value).lower() if isinstance(value, bool) else str(value)
        try:
            text = with_value(path.read_text(encoding="utf-8"), step.file, shown, form, path)
        except KeyError:
            raise StepFailed(f"the settings file {file} has no '{step.file}'") from None
        place.write_file(file, text.encode("utf-8"))
        outcome.touches = (*outcome.touches, file)
        return f"{step.file} is {shown}"
    if step.database is None or model.settings is None or model.settings.table is None:
        raise StepFailed("a setting step wants 'file' or 'database'")
    cell = _settings(place.site).get(step.database)
    if cell is None:
        raise StepFailed(f"the database has no setting '{step.database}'")
    try:
        _write_setting(place, step.database, with_part(cell, step.key.split(".") if step.key else [], value))
    except (KeyError, ValueError):
        raise StepFailed(f"the setting '{step.database}' has no '{step.key}'") from None
    place_in = f"{step.database}.{step.key}" if step.key else step.database
    outcome.settings = (place_in,)
    return f"{place_in} is {value}"


def _cell(step: kinds.CellStep, place: Workplace, outcome: Outcome) -> str:
    with place.site.reading_database() as state:
        table = state.schema.table(step.table)
        lacking = [c for c in (*step.where, step.column) if table is None or c not in table.columns]
        if table is None or lacking:
            raise StepFailed(f"the database has no {', '.join(f'{step.table}.{c}' for c in lacking)}")
        at = {c: table.columns.index(c) for c in (*step.where, step.column)}
        rows = [r for r in state.rows(step.table) if all(str(r[at[c]]) == str(v) for c, v in step.where.items())]
    if not rows:
        raise StepFailed(f"no row of {step.table} is as 'where' says")
    with open_database(place.site.database_place).writing() as writer:
        for row in rows:
            value: Any = step.value
            if step.key is not None:
                try:
                    value = with_part(str(row[at[step.column]]), step.key.split("."), step.value)
                except (KeyError, ValueError):
                    raise StepFailed(f"{step.table}.{step.column} has no '{step.key}'") from None
            keys = table.key or tuple(step.where)
            writer.update(step.table, {k: row[table.columns.index(k)] for k in keys}, {step.column: value})
    general = model_settings(place.site)
    if general is not None and general.table == step.table and general.name in step.where:
        outcome.settings = (f"{step.where[general.name]}" + (f".{step.key}" if step.key else ""),)
    return f"{step.table}.{step.column} is set in {plural(len(rows), 'row')}"


def model_settings(site: SiteView) -> SettingsTablePart | None:
    """The table in which the site keeps settings, if it has one."""
    return site.model.settings.table if site.model.settings is not None else None


def _distributions(step: kinds.DistributionsStep, place: Workplace, outcome: Outcome) -> str:
    if place.install is None or place.site.model.runtime.packages is None:
        raise StepFailed("the site has no virtual environment of its own to install into ('packages' under [runtime])")
    before = pins_of(place.site.packages_folder())
    output = _ran(place.install(step), step.time_limit)
    after = pins_of(place.site.packages_folder())
    moved = {n: (before.get(n), after.get(n)) for n in before.keys() | after.keys() if before.get(n) != after.get(n)}
    asked = {normal_name(w.partition("==")[0]) for w in step.wants}
    outcome.versions |= {
        old: new for n, (old, new) in moved.items() if n in asked and old is not None and new is not None
    }
    told = [f"{n}: {old or 'new'} → {new or 'taken out'}" for n, (old, new) in sorted(moved.items())]
    return output + "\n" + "\n".join(told)


def _wait(step: kinds.WaitStep, place: Workplace, outcome: Outcome) -> str:
    if place.ask is None:
        raise StepFailed(f"a person is wanted, and there is no terminal to ask on: {step.say}")
    place.restart()
    place.ask(step.say)
    return "a person said that it is done"


def _restart(step: kinds.RestartStep, place: Workplace, outcome: Outcome) -> str:
    place.restart()
    return "the host took up the change"


def _check(step: kinds.CheckStep, place: Workplace, outcome: Outcome) -> str:
    known = {c.name for c in place.site.model.check}
    unknown = [n for n in step.only if n not in known]
    if unknown:
        raise StepFailed(f"the site file has no check '{unknown[0]}'")
    place.restart()
    problem = place.check(step.only)
    if problem is not None:
        raise StepFailed(problem)
    return "every check is as before"


def _extension(step: kinds.ExtensionStep, place: Workplace, outcome: Outcome) -> str:
    return _switch(place, step.extension, step.on, step.time_limit)


def _runtime(step: kinds.RuntimeStep, place: Workplace, outcome: Outcome) -> str:
    place.site.launcher(step.version)
    file = place.site.model.runtime.version_file
    if file is None:
        raise StepFailed("the site file names no file that selects the runtime ('version_file' under [runtime])")
    outcome.versions[place.site.runtime_version()] = step.version
    place.write_file(file, (step.version + "\n").encode())
    outcome.touches = (*outcome.touches, file)
    return f"{place.site.model.runtime.name} {step.version} is selected"


def _purge(step: kinds.PurgeStep, place: Workplace, outcome: Outcome) -> str:
    command = place.site.model.commands.purge_cache
    output = _ran(place.run(command, step.time_limit), step.time_limit) if command is not None else ""
    for pattern in place.site.model.areas.get("cache", []):
        folder: Path = place.site.root / pattern
        if "*" not in pattern and folder.is_dir() and not os.path.islink(folder):
            clear_folder(folder)
    return output or "caches are empty"


_PERFORM: dict[type, Callable[[Any, Workplace, Outcome], str]] = {
    kinds.PackageStep: _package,
    kinds.RemoveStep: _remove,
    kinds.CommandStep: _command,
    kinds.RequestStep: _request,
    kinds.SqlStep: _sql,
    kinds.SettingStep: _setting,
    kinds.ExtensionStep: _extension,
    kinds.RuntimeStep: _runtime,
    kinds.PurgeStep: _purge,
    kinds.CellStep: _cell,
    kinds.DistributionsStep: _distributions,
    kinds.WaitStep: _wait,
    kinds.RestartStep: _restart,
    kinds.CheckStep: _check,
}
