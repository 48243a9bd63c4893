"""A site as it can be read. No method of this module writes: the live site is handed around as a `SiteView`."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from blake3 import blake3

from keenharbor.base.errors import UsageError
from keenharbor.database import DatabasePlace, DatabaseState, open_database, table_digest
from keenharbor.site.model import USUAL, FolderPart, SiteFile
from keenharbor.site.settingsfile import read_ini, read_settings
from keenharbor.tree import AreaRules, Entry, Scan, scan_tree
from keenharbor.tree.scan import pieces


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


@dataclass(frozen=True)
class Fingerprint:
    """What a site was at one time: a digest by file and by table. Caches and logs are left out."""

    files: dict[str, str]
    tables: dict[str, str]
    definitions: str

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


class SiteView:
    """One instance of a site (live or a clone), read-only."""

    def __init__(
        self, model: SiteFile, site_file: Path, root: Path, database: DatabasePlace, work: Path, store: Path
    ) -> None:
        self.model = model
        self.site_file = site_file
        self.root = root
        self.database_place = database
        self.work = work
        self.store_folder = store

    def at(self, root: Path, database: DatabasePlace) -> SiteView:
        """The same site as it stands elsewhere."""
        return SiteView(self.model, self.site_file, root, database, self.work, self.store_folder)

    @property
    def name(self) -> str:
        return self.model.site.name

    @property
    def address(self) -> str:
        return self.model.site.address

    @cached_property
    def area_rules(self) -> AreaRules:
        return AreaRules({str(k): v for k, v in self.model.areas.items()})

    # -- files ---------------------------------------------------------------------------------------------

    def scan(self, seen: Mapping[str, Entry] | None = None) -> Scan:
        """The site's tree, without what the site file leaves out, the maintenance flag and the database's files.

        ``seen`` are the entries of an earlier scan of this run (see `scan_tree`)."""
        files = self.model.files
        own = [f for f in open_database(self.database_place).files() if self.root in f.parents]
        apart = {self.model.maintenance.flag, *(f.relative_to(self.root).as_posix() for f in own)}
        empty = [*files.empty, *self.model.areas.get("cache", [])]
        saved = self.model.snapshot
        leave_out = [*files.leave_out, *(USUAL if saved.usual else ()), *apart]
        scan = scan_tree(self.root, self.area_rules, leave_out, empty, saved.largest_file, seen)
        scan.left_out = [p for p in scan.left_out if p not in apart]
        return scan

    # -- settings ------------------------------------------------------------------------------------------

    def settings(self) -> dict[str, str]:
        """The settings file's values by ``section.key``."""
        return read_settings(self.root / self.model.settings.file)

    # -- database ------------------------------------------------------------------------------------------

    def reading_database(self) -> contextlib.AbstractContextManager[DatabaseState]:
        """A consistent state of the database for the time of the block."""
        return open_database(self.database_place).reading()

    # -- what it is made of --------------------------------------------------------------------------------

    def core_version(self) -> str:
        """The core's version, from its version file."""
        file = self.root / self.model.core.version_file
        found = re.search(r"\d[\w.+-]*", file.read_text(encoding="utf-8")) if file.is_file() else None
        if found is None:
            raise UsageError("the core's version cannot be read", where=file)
        return found[0]

    def runtime_version(self) -> str:
        """The runtime's version that the site selects."""
        file = self.root / self.model.runtime.version_file
        if not file.is_file():
            raise UsageError("the file that selects the runtime is not there", where=file)
        return file.read_text(encoding="utf-8").strip()

    def told_versions(self) -> tuple[str, str]:
        """Core and runtime for people: ``unknown`` where a broken site does not say."""
        found = []
        for ask in (self.core_version, self.runtime_version):
            try:
                found.append(ask())
            except (UsageError, OSError):
                found.append("unknown")
        return found[0], found[1]

    def launcher(self, version: str | None = None) -> str:
        """The program that runs the site's code. Raises `UsageError` when that version is not installed."""
        wanted = version or self.runtime_version()
        part = self.model.runtime
        program = part.launchers.get(wanted)
        if program is None or not Path(program).exists():
            known = ", ".join(sorted(part.launchers)) or "none"
            raise UsageError(
                f"{part.name} {wanted} is not installed here (the site file knows: {known})",
                where=program or self.site_file,
                advice="name its launcher under [runtime.launchers] in the site file",
            )
        return program

    def components(self) -> list[Component]:
        """Extensions, then themes, by name."""
        found = list(self._in_folder(self.model.extensions, "extension"))
        if self.model.themes is not None:
            found += self._in_folder(self.model.themes, "theme")
        return found

    def _in_folder(self, part: FolderPart, kind: str) -> Iterator[Component]:
        folder = self.root / part.folder
        states = self._switched() if part.switch else {}
        for item in sorted(folder.iterdir()) if folder.is_dir() else ():
            facts_file = item / part.facts
            if not facts_file.is_file():
                continue
            facts = read_ini(facts_file.read_text(encoding="utf-8"), facts_file)
            said = {field: facts.get(key, "") for field, key in part.fields.items()}
            name = said.pop("name", "") or item.name
            yield Component(
                name=name, kind=kind, folder=f"{part.folder}/{item.name}", on=states.get(name) if part.switch else None,
                **{k: v for k, v in said.items() if k in Component.__dataclass_fields__},
            )  # fmt: skip

    def _switched(self) -> dict[str, bool]:
        switch = self.model.extensions.switch
        if switch is None or not open_database(self.database_place).exists():
            return {}
        with self.reading_database() as state:
            table = state.schema.table(switch.table)
            if table is None:
                return {}
            at_name, at_on = table.columns.index(switch.name), table.columns.index(switch.on)
            return {str(row[at_name]): bool(row[at_on]) for row in state.rows(switch.table)}

    # -- proof ---------------------------------------------------------------------------------------------

    def fingerprint(self) -> Fingerprint:
        """Digests of every file (but caches and logs) and of every table, read now."""
        files: dict[str, str] = {}
        for path, entry in self.scan().entries.items():
            if entry.area in ("cache", "logs"):
                continue
            digest = blake3(f"{entry.kind} {entry.mode:o} {entry.target}".encode("utf-8", "surrogateescape"))
            if entry.kind == "file":
                digest.update(str(entry.mtime_ns).encode())
                for piece in pieces(self.root / path):
                    digest.update(piece)
            files[path] = digest.hexdigest()
        with self.reading_database() as state:
            tables = {t.name: table_digest(state.blocks(t.name)) for t in state.schema.tables}
            definitions = repr(sorted(state.schema.definitions().items()))
        return Fingerprint(files, tables, definitions)
