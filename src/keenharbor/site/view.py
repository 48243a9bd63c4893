"""A site as it can be read. No method of this module writes, and no place leaks out of it that could be written to: the
live site is handed around as a `SiteView`. A site that may be changed is a `keenharbor.site.writable.Writable`."""

from __future__ import annotations

import contextlib
import copy
import posixpath
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path, PurePosixPath
from typing import TypeVar

from blake3 import blake3

from keenharbor.base.errors import KeenHarborError, UsageError
from keenharbor.database import DatabasePlace, DatabaseState, ReadDatabase, Table, read_only, table_digest
from keenharbor.database.rows import StoredState, as_known, blocks_of
from keenharbor.host import AreaRules, Endpoint, Entry, Here, Host, ReadFiles, ReadPath, Scan, WalkRules
from keenharbor.host.areas import fits
from keenharbor.host.programs import Ran
from keenharbor.site.components import (
    FoundComponent,
    components_in,
    described_in,
    distributions,
    is_true,
    words_of_cell,
)
from keenharbor.site.gates import Gate, language_of
from keenharbor.site.model import USUAL, FolderPart, RuntimePart, SiteFile, SwitchPart
from keenharbor.site.passing import Passing
from keenharbor.site.settings import form_of, read_settings, values_in
from keenharbor.tree.scan import Hashing, complete, read_content

Part = TypeVar("Part")
JOURNAL_NAME = "journal.json"
LEASE_NAME = "site.lock"


@dataclass(frozen=True)
class Component:
    """An extension or a theme as it is installed."""

    name: str
    kind: str
    version: str
    folder: str
    title: str = ""
    author: str = ""
    requires_core: str = ""
    requires_runtime: str = ""
    tested_up_to: str = ""
    on: bool | None = None
    files: tuple[str, ...] = ()

    def owns(self, path: str) -> bool:
        """Whether a file of the site is one of its own."""
        return path in self.files if self.files else path.startswith(self.folder + "/")


@dataclass(frozen=True)
class Fingerprint:
    """What a site was at one time: a digest by file and by table. Caches and logs are left out. ``marks`` are the
    engine's of the tables, and their rows where they were known."""

    files: dict[str, str]
    tables: dict[str, str]
    definitions: str
    marks: dict[str, str | None] = field(default_factory=dict, compare=False)

    def differences(self, later: Fingerprint) -> list[str]:
        """In words, what is not the same in ``later``."""
        found = []
        for path in sorted(self.files.keys() | later.files.keys()):
            if self.files.get(path) != later.files.get(path):
                found.append(f"file {path}")
        for table in sorted(self.tables.keys() | later.tables.keys()):
            if self.tables.get(table) != later.tables.get(table):
                found.append(f"table {table}")
        if self.definitions != later.definitions:
            found.append("table definitions")
        return found

    @property
    def digest(self) -> str:
        """One short text for the whole."""
        whole = blake3(repr((sorted(self.files.items()), sorted(self.tables.items()), self.definitions)).encode())
        return whole.hexdigest()[:16]


def reached(host: Host, place: DatabasePlace) -> DatabasePlace:
    """How a database of a site on ``host`` is connected from here; a file is opened where it lies."""
    if not place.on_server:
        return replace(place, through=host.sqlite_files) if place.path is not None else place
    there = host.reach(Endpoint(place.host, place.asked_port, place.socket))
    port = there.port if place.port or there.port != place.asked_port else 0
    return replace(place, host=there.host, port=port, socket=there.socket)


class SiteView:
    """One instance of a site (live or a clone), read-only."""

    def __init__(
        self, model: SiteFile, site_file: Path, root: str, database: DatabasePlace, work: Path, store: Path,
        host: Host | None = None,
    ) -> None:  # fmt: skip
        """``root`` is where its files are on the ``host`` (this machine)."""
        self.model = model
        self.site_file = site_file
        self.work = work
        self.store_folder = store
        self.host = host or Here(work)
        self.files: ReadFiles = self.host.reading(root)
        self.database: ReadDatabase = read_only(reached(self.host, database))

    def with_runtime(self, runtime: RuntimePart) -> SiteView:
        """The same site with another runtime."""
        other = copy.copy(self)
        other.model = self.model.model_copy(update={"runtime": runtime})
        return other

    @property
    def name(self) -> str:
        return self.model.site.name

    @property
    def address(self) -> str:
        """Where its host answers: what its pages' paths are put behind."""
        return self.model.site.host_address

    @property
    def told_address(self) -> str:
        """Where the site answers, as a person would type it."""
        return self.address + self.base

    @property
    def base(self) -> str:
        """The path under which all of its pages lie; empty where they have the host to themselves."""
        return self.model.site.base

    @cached_property
    def area_rules(self) -> AreaRules:
        return AreaRules({str(k): v for k, v in self.model.areas.items()})

    @property
    def place(self) -> str:
        """Where its files are, for people and for texts that name it."""
        return self.files.place

    def path(self, path: str = "") -> ReadPath:
        """A path of its tree. What leads out of the tree is not there."""
        return ReadPath(self.files, path)

    def named(self, path: str) -> ReadPath:
        """A path that the site file names (a settings file, say): of live it may be a link that leads out of the
        tree."""
        return ReadPath(self.host.reading(self.place, leads_out=True), path)

    # -- files ---------------------------------------------------------------------------------------------

    def scan(self, seen: Mapping[str, Entry] | None = None) -> Scan:
        """The site's tree, without what the site file leaves out, the maintenance flag and the database's files.

        ``seen`` are the entries of an earlier scan of this run (see `begin_scan`)."""
        return complete(*self.begin_scan(seen))

    def begin_scan(self, seen: Mapping[str, Entry] | None = None) -> tuple[Scan, Iterator[Sequence[Entry]]]:
        """The same, filled while its entries are taken."""
        files = self.model.files
        apart = [*self.flag_patterns, *self.database_files]
        empty = [*files.empty, *self.model.areas.get("cache", [])]
        saved = self.model.snapshot
        leave_out = [*files.leave_out, *(USUAL if saved.usual else ()), *apart]
        scan, found = self.files.begin_walk(WalkRules(self.area_rules, leave_out, empty, saved.largest_file, seen))

        def taken() -> Iterator[Sequence[Entry]]:
            yield from found
            scan.left_out = [p for p in scan.left_out if not fits(p, apart)]

        return scan, taken()

    @property
    def database_files(self) -> list[str]:
        """The database's own files, as far as they lie in the tree."""
        files, top = (PurePosixPath(f) for f in self.database.files), PurePosixPath(self.place)
        return [f.relative_to(top).as_posix() for f in files if top in f.parents]

    def needed(self, part: Part | None, name: str) -> Part:
        """A table of the site file that what was asked for cannot do without. Raises `UsageError` where it is not
        there."""
        if part is None:
            raise UsageError(
                f"the site file has no [{name}], which this needs", where=self.site_file,
                advice=f"add [{name}]; 'keenharbor manual site-file' says what belongs into it",
            )  # fmt: skip
        return part

    @property
    def gate(self) -> Gate | None:
        """The maintenance gate that was put into the site's own files; None where it needs none."""
        part = self.model.maintenance
        if part is None or not part.gate:
            return None
        return Gate(language_of(part.gate), tuple(part.gate), part.flag, part.header)

    @property
    def flag_patterns(self) -> list[str]:
        """What the maintenance flag consists of, as patterns of paths."""
        if self.model.maintenance is None:
            return []
        flag, gate = self.model.maintenance.flag, self.gate
        return [flag, *([gate.pass_file("*")] if gate is not None and gate.by_name else [])]

    @property
    def journal_file(self) -> Path:
        """Where an open change of live is written down; it is there while one is open."""
        return self.work / JOURNAL_NAME

    @property
    def maintenance_on(self) -> bool:
        """Whether the site keeps visitors out now."""
        part = self.model.maintenance
        return part is not None and self.files.look(part.flag) is not None

    @property
    def settings_path(self) -> str:
        """The settings file relative to the root; empty where the site file names none."""
        return self.model.settings.file if self.model.settings is not None else ""

    # -- settings ------------------------------------------------------------------------------------------

    def settings(self) -> dict[str, str]:
        """The settings file's values by ``section.key``; none where the site file names no settings file."""
        part = self.model.settings
        return read_settings(self.named(part.file), part.format) if part is not None else {}

    def settings_in(self, text: str) -> dict[str, str]:
        """As `settings`, for another text of that file."""
        part = self.model.settings
        return values_in(text, part.format, self.named(part.file)) if part is not None else {}

    # -- database ------------------------------------------------------------------------------------------

    def reading_database(self) -> contextlib.AbstractContextManager[DatabaseState]:
        """A consistent state of the database for the time of the block."""
        return self.database.reading()

    # -- what it is made of --------------------------------------------------------------------------------

    def core_version(self) -> str:
        """The core's version, from its version file."""
        part = self.model.core
        if part.distribution is not None:
            version = distributions(self.packages()).get(part.distribution.lower())
            if version is None:
                raise UsageError(f"'{part.distribution}' is not installed", where=self.packages_place())
            return version.version
        file = self.named(str(part.version_file))
        try:
            text = file.read_text(encoding="utf-8") if file.is_file() else ""
        except (OSError, UnicodeDecodeError):
            text = ""
        if part.key is not None and text:
            text = values_in(text, form_of(file.name) or "ini", file).get(part.key, "")
        found = re.search(r"\d[\w.+-]*", text)
        if found is None:
            raise UsageError(
                "the core's version cannot be read", where=file,
                advice=f"name the file that tells it: 'version_file' under [core] in {self.site_file.name}",
            )  # fmt: skip
        return found[0]

    def packages_place(self) -> str:
        """Where the runtime's packages are on the host. Raises `UsageError` where the site file does not say."""
        if self.model.runtime.packages is None:
            raise UsageError("site file, 'runtime.packages': this key is missing", where=self.site_file)
        return posixpath.normpath(posixpath.join(self.place, self.model.runtime.packages))

    def packages(self) -> ReadPath:
        """The same, to be read."""
        return self._packages_at(self.packages_place())

    def _packages_at(self, folder: str) -> ReadPath:
        place = posixpath.normpath(posixpath.join(self.place, folder))
        return ReadPath(self.host.reading(place, leads_out=True))

    def environment(self) -> str | None:
        """The folder of the virtual environment whose packages are the site's; None where it has none."""
        return self.host.environments.around(self.packages_place()) if self.model.runtime.packages is not None else None

    def wheelhouse(self) -> str | None:
        """The folder from which packages are installed without a network, if the site file names one."""
        named = self.model.runtime.wheelhouse
        return str(self.site_file.absolute().parent / named) if named is not None else None

    def runtime_version(self) -> str:
        """The runtime's version that the site selects."""
        part = self.model.runtime
        if part.version_file is None:
            if part.version is None:
                raise UsageError(
                    "the site file does not say which version of the runtime the site has", where=self.site_file,
                    advice="name it: 'version' under [runtime]",
                )  # fmt: skip
            return part.version
        file = self.named(part.version_file)
        if not file.is_file():
            raise UsageError("the file that selects the runtime is not there", where=file)
        return file.read_text(encoding="utf-8").strip()

    def told_versions(self) -> tuple[str, str]:
        """Core and runtime for people: ``unknown`` where a broken site, or a broken line, does not say."""
        found = []
        for ask in (self.core_version, self.runtime_version):
            try:
                found.append(ask())
            except (KeenHarborError, OSError):
                found.append("unknown")
        return found[0], found[1]

    def launcher(self, version: str | None = None) -> str:
        """The program that runs the site's code. Raises `UsageError` when that version is not installed."""
        wanted = version or self.runtime_version()
        part = self.model.runtime
        program = part.launchers.get(wanted)
        if program is None or not self.host.programs.exists(program):
            known = ", ".join(sorted(part.launchers)) or "none"
            raise UsageError(
                f"{part.name} {wanted} is not installed here (the site file knows: {known})",
                where=program or self.site_file,
                advice="name its launcher under [runtime.launchers] in the site file",
            )
        return program

    def ask(self, command: Sequence[str], seconds: float = 120) -> Ran:
        """Run a command of the site file that only reads, with the runtime that the site selects."""
        places = {"runtime": self.launcher(), "root": self.place}
        filled = [re.sub(r"\{(runtime|root)\}", lambda m: places[m[1]], word) for word in command]
        return self.host.programs.run(filled, folder=self.place, time_limit=seconds,
                                      environment=self.host.programs.variables())  # fmt: skip

    def components(self) -> list[Component]:
        """Extensions, then themes, by name."""
        found: list[Component] = []
        for part, kind in ((self.model.extensions, "extension"), (self.model.themes, "theme")):
            if part is not None:
                found += self._in_folder(part, kind)
        return found

    def is_distribution(self, name: str) -> bool:
        """Whether an extension is an installed distribution, whose files stand among those of others."""
        parts = (self.model.extensions, self.model.themes)
        places = [place for part in parts if part is not None for place in part.places]
        return any(
            place.format == "distributions"
            and name in {c.name for c in described_in(self.path(), place, self._packages_at)}
            for place in places
        )

    def _in_folder(self, part: FolderPart, kind: str) -> Iterator[Component]:
        states = self._switched(part.switch) if part.switch is not None else None
        for found in components_in(self.path(), part, self._packages_at):
            said = {k: v for k, v in found.facts.items() if k in Component.__dataclass_fields__ and k != "name"}
            on = None if states is None else self._is_on(part, states, found)
            said.setdefault("version", "")
            yield Component(name=found.name, kind=kind, folder=found.folder, on=on, files=found.files, **said)

    def orphans(self) -> list[str]:
        """Names that are switched on or off in the database and stand in no folder."""
        part = self.model.extensions
        if part is None or part.switch is None or part.switch.setting is not None or part.switch.row is not None:
            return []
        known = {name for c in self.components() for name in (c.name, c.folder.rpartition("/")[2])}
        return sorted(self._switched(part.switch).keys() - known)

    def _is_on(self, part: FolderPart, states: dict[str, bool], found: FoundComponent) -> bool | None:
        for name in found.known_as:
            if name in states:
                return states[name]
        # A table has a row for each; a list names only those that are on.
        return None if part.switch is not None and part.switch.setting is None and part.switch.row is None else False

    def _switched(self, switch: SwitchPart) -> dict[str, bool]:
        if switch.setting is not None:
            below, whole = switch.setting + ".", switch.setting
            if switch.file is not None:
                values = read_settings(self.named(switch.file), switch.format or form_of(switch.file) or "ini")
            else:
                values = self.settings()
            if whole in values:
                return dict.fromkeys(words_of_cell(values[whole]), True)
            return {
                (value if key[len(below) :].isdigit() else key[len(below) :]): key[len(below) :].isdigit()
                or is_true(value)
                for key, value in values.items()
                if key.startswith(below)
            }
        if not self.database.exists():
            return {}
        with self.reading_database() as state:
            table = state.schema.table(str(switch.table))
            if table is None or switch.name not in table.columns or switch.on not in table.columns:
                return {}
            at_name, at_on = table.columns.index(switch.name), table.columns.index(switch.on)
            if switch.row is not None:
                cells = [row[at_on] for row in state.rows(table.name) if str(row[at_name]) == switch.row]
                return {name: True for cell in cells for name in words_of_cell(cell)}
            return {str(row[at_name]): is_true(row[at_on]) for row in state.rows(table.name)}

    # -- proof ---------------------------------------------------------------------------------------------

    def _digest(self, state: DatabaseState, table: Table) -> str:
        """A digest of a table; of what stands still in it where the site file says that not all does."""
        passing = Passing(self.model.volatile)
        if not passing.parts_of(table.name):
            return table_digest(state.blocks(table.name))
        return table_digest(blocks_of(table, passing.standing(table, state.rows(table.name))))

    def fingerprint(self, since: Fingerprint | None = None, known: StoredState | None = None) -> Fingerprint:
        """Digests of every file (but caches and logs) and of every table, read now. A table that the engine says was
        not written ``since`` is not read again, and one that was not since it was ``known`` is read from there."""
        scan = self.scan()
        for path in [p for p, e in scan.entries.items() if e.area in ("cache", "logs")]:
            del scan.entries[path]
        read_content(self.files, scan, Hashing(), {}, None, lambda done, total: None)
        files: dict[str, str] = {}
        for path, entry in scan.entries.items():
            digest = blake3(f"{entry.kind} {entry.mode:o} {entry.target}".encode("utf-8", "surrogateescape"))
            if entry.kind == "file":
                digest.update(f"{entry.mtime_ns} {' '.join(entry.objects)}".encode())
            files[path] = digest.hexdigest()
        with self.reading_database() as state:
            definitions = repr(sorted(state.schema.definitions().items()))
            alike = since is not None and since.definitions == definitions
            tables: dict[str, str] = {}
            for table in state.schema.tables:
                mark = since.marks.get(table.name) if since is not None and alike else None
                if since is not None and mark is not None and state.mark(table.name) == mark:
                    tables[table.name] = since.tables[table.name]
                else:
                    tables[table.name] = self._digest(as_known(state, table.name, known), table)
            marks = {t.name: state.mark(t.name) for t in state.schema.tables}
        return Fingerprint(files, tables, definitions, marks)
