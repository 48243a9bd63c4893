"""Putting together what was worked out of a site."""

from __future__ import annotations

import dataclasses
import re
import shlex
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from keenharbor.base.errors import UsageError
from keenharbor.base.progress import Progress, Silent
from keenharbor.database import DatabasePlace, DatabaseState, open_database
from keenharbor.host import ReadPath, WalkRules
from keenharbor.site.components import FoundComponent, components_in, distributions
from keenharbor.site.connections import host_of_address
from keenharbor.site.inference.address import (
    AddressFound,
    Visit,
    address_in_cells,
    address_in_settings,
    visit_nothing,
)
from keenharbor.site.inference.areas import areas_in
from keenharbor.site.inference.contents import AddressPlaces, TableKind, is_packed_text, look_through
from keenharbor.site.inference.databases import (
    Opener,
    Tried,
    count_tables,
    database_candidates,
    try_candidates,
)
from keenharbor.site.inference.evidence import Entry, Sureness
from keenharbor.site.inference.ground import Ground
from keenharbor.site.inference.packages import (
    CoreFound,
    Home,
    core_distribution,
    core_in,
    distributions_requirements,
    homes_in,
)
from keenharbor.site.inference.runtime import (
    RuntimeFound,
    ServeCommand,
    migrate_command,
    runtime_in,
    serve_command,
)
from keenharbor.site.inference.sources import Group, Source, groups_of, in_dependencies, settings_sources
from keenharbor.site.inference.switches import (
    SwitchFound,
    active_theme_in_database,
    active_theme_in_settings,
    orphans,
    switch_in_database,
    switch_in_settings,
)
from keenharbor.site.model import USUAL, DescribedFolder, FolderPart, SwitchPart, split_address
from keenharbor.site.passing import passing_names
from keenharbor.site.settings import Setting, key_parts
from keenharbor.tree import AreaRules, scan_tree
from keenharbor.tree import Entry as TreeEntry

_MAIL = re.compile(r"(?i)(mail|smtp|email)")
_TIMER = re.compile(r"(?i)(^|[._-])(cron|schedul|timer)")
_TITLE = re.compile(r"(?i)(^|[._$-])(site_?|blog_?)?(name|title)$")

_AS_YOU_SAID = "as you said"


@dataclass(frozen=True)
class Given:
    """What the maintainer has said: beside the name and files of web servers, what could not be found."""

    name: str | None = None
    address: str | None = None
    server_configs: tuple[Path, ...] = ()
    core_version_file: str | None = None
    runtime_version: str | None = None
    serve: str | None = None
    migrate: str | None = None


@dataclass
class Inferred:
    """All that was found. ``tried`` holds every way to a database that was looked at."""

    root: Path
    runtime: RuntimeFound | None
    database: Tried | None
    tried: tuple[Tried, ...]
    core: CoreFound | None
    extensions: Home | None
    themes: Home | None
    other_homes: tuple[Home, ...]
    switch: SwitchFound | None
    address: AddressFound | None
    places: AddressPlaces | None
    tables: tuple[TableKind, ...]
    settings_source: Source | None
    settings_table: tuple[str, str, str] | None
    areas: dict[str, list[str]]
    areas_why: dict[str, str]
    mail: tuple[Source, Mapping[str, Setting]] | None
    timers: tuple[str, ...]
    serve: ServeCommand | None
    title: tuple[str, str] | None
    opaque_settings: tuple[str, ...] = field(default=())
    migrate: list[str] | None = None
    passing_settings: tuple[str, ...] = ()
    active_theme: SwitchFound | None = None
    builds_schema: bool = False
    far: str = ""
    """Its address, of one on another machine."""


def infer_site(
    ground: Ground, given: Given, opener: Opener = count_tables, progress: Progress | None = None,
    visit: Visit = visit_nothing,
) -> Inferred:  # fmt: skip
    """Look at the site on ``ground`` and work out what it is made of. Reads only; databases are opened for reading.
    ``visit`` says whether a site answers at an address of this machine; nothing else is visited. Raises `UsageError`
    when there is no folder."""
    progress = progress or Silent()
    root = ground.root
    if not root.is_dir():
        raise UsageError("the site's folder is not there", where=ground.place)
    progress.stage("looking at the files")
    entries = scan_tree(ground.host.reading(ground.place), WalkRules(AreaRules({}), USUAL)).entries
    progress.stage("reading settings")
    sources = settings_sources(root, entries)
    runtime = runtime_in(ground, entries, sources, given.server_configs)
    homes = homes_in(root, entries)
    progress.stage("trying databases")
    tried = try_candidates(database_candidates(ground, entries, sources), lambda place: opener(ground.reached(place)))
    best = tried[0] if tried else None
    address = address_in_settings(sources, best.candidate.source if best else None, given.address, visit)
    components = [c for h in homes for c in h.components]
    themes = [c for h in homes if h.kind == "theme" for c in h.components]
    data = _DatabaseFacts(
        address, switch_in_settings(sources, components) if components else None,
        active_theme_in_settings(sources, themes),
    )  # fmt: skip
    if best is not None and best.answered:
        progress.stage("looking through the database")
        place = ground.reached(best.candidate.place)
        data = _database_facts(place, data, components, themes, given.address is not None, visit)
    core = _core(ground, entries, sources, homes, runtime)
    if core is None and given.core_version_file is not None:
        core = _core_said(ground, given.core_version_file)
    runtime, serve = _served(runtime, entries, given, data.address)
    homes, switch = _python_packages(ground, sources, homes, data.switch, runtime, core)
    settings_source = _settings_source(sources, data.address, best)
    said_by = (settings_source, best.candidate.source if best else None, switch.source if switch else None)
    settings_files = [s.path for s in said_by if s is not None]
    areas, why = areas_in(
        entries, homes, settings_files, [core.version_file] if core and core.version_file else [], sources
    )
    chosen = _chosen(homes, switch)
    taken = {
        f for h in chosen.values() if h is not None for place in h.part.places for f in (place.folder, *place.also)
    }
    return Inferred(
        Path(ground.place), runtime, best, tuple(tried), core, chosen["extension"], chosen["theme"],
        tuple(h for h in homes if h.part.folder not in taken), switch, data.address, data.places, data.kinds,
        settings_source, data.table, areas, why,
        _mail(sources, settings_source), tuple(_timers(sources, entries)), serve,
        _title(sources, settings_source),
        tuple(f"{s.path}, {x.key}" for s in sources for x in s.settings if len(x.value) >= 60
            and is_packed_text(x.value)),
        _command_said(given.migrate) if given.migrate else migrate_command(runtime.name, entries) if runtime else None,
        data.passing, data.theme,
        # The common Python way makes the definitions by the same steps from nothing; another command was only said.
        runtime is not None and not given.migrate and migrate_command(runtime.name, entries) is not None,
        ground.far,
    )  # fmt: skip


def _served(
    runtime: RuntimeFound | None, entries: Mapping[str, TreeEntry], given: Given, address: AddressFound | None
) -> tuple[RuntimeFound | None, ServeCommand | None]:
    """The runtime with the version that was said where none was found, and how a clone is started on it."""
    if runtime is not None and runtime.version is None and given.runtime_version is not None:
        runtime = dataclasses.replace(
            runtime, version=given.runtime_version, version_evidence=_AS_YOU_SAID, sure=Sureness.READ
        )
    under_a_path = address is not None and bool(split_address(address.address)[1])
    serve = serve_command(runtime.name, entries, under_a_path) if runtime else None
    if serve is None and given.serve is not None:
        serve = ServeCommand(_command_said(given.serve), _AS_YOU_SAID, Sureness.READ)
    return runtime, serve


@dataclass(frozen=True)
class _DatabaseFacts:
    """What the database tells; of the first three what settings tell until it was asked. ``table`` are the settings in
    it and their columns of names and values, ``passing`` patterns for those that pass."""

    address: AddressFound | None
    switch: SwitchFound | None
    theme: SwitchFound | None
    kinds: tuple[TableKind, ...] = ()
    places: AddressPlaces | None = None
    table: tuple[str, str, str] | None = None
    passing: tuple[str, ...] = ()


def _database_facts(
    place: DatabasePlace, said: _DatabaseFacts, components: Sequence[FoundComponent], themes: Sequence[FoundComponent],
    named: bool,
    visit: Visit,
) -> _DatabaseFacts:  # fmt: skip
    """What the database tells beyond what was ``said``; ``named`` says that a person gave the address."""
    found, switch, theme = said.address, said.switch, said.theme
    host = host_of_address(found.address) if found is not None else None
    with open_database(place).reading() as state:
        kinds, places = look_through(state, host)
        if not named:
            found = address_in_cells(places, [k.table for k in kinds if k.kind == "settings"], found, visit)
        if found is not None and host_of_address(found.address) != host:
            _, places = look_through(state, host_of_address(found.address))
        if switch is None and components:
            switch = switch_in_database(state, components)
        table = _settings_table(kinds, {t.name: t.columns for t in state.schema.tables})
        passing = tuple(passing_names(_values_in(state, table))) if table is not None else ()
        if theme is None and table is not None:
            theme = active_theme_in_database(state, table, themes)
    return _DatabaseFacts(found, switch, theme, tuple(kinds), places, table, passing)


def _values_in(state: DatabaseState, place: tuple[str, str, str]) -> dict[str, str]:
    """The settings of a table by name; those that are no text are left out."""
    table = state.schema.table(place[0])
    assert table is not None
    name, value = table.columns.index(place[1]), table.columns.index(place[2])
    return {str(r[name]): str(r[value]) for r in state.rows(place[0]) if isinstance(r[value], str | int | float)}


def _settings_table(kinds: Sequence[TableKind], columns: Mapping[str, Sequence[str]]) -> tuple[str, str, str] | None:
    """Of the tables of settings that with most rows: its name, and its columns of names and values."""
    for kind in sorted((k for k in kinds if k.kind == "settings"), key=lambda k: -k.rows):
        if (named := name_and_value(columns[kind.table])) is not None:
            return kind.table, *named
    return None


def name_and_value(columns: Sequence[str]) -> tuple[str, str] | None:
    """Which columns of a table of settings hold the name and the value; None where that is not plain."""
    names = [c for c in columns if re.search(r"(?i)(name|key|code|path|variable|setting|id)$", c)]
    values = [c for c in columns if re.search(r"(?i)(value|val|data|content)$", c)]
    if not names or not values:
        return None
    return min(names, key=lambda c: (bool(re.search(r"(?i)id$", c)), columns.index(c))), values[0]


def _core(
    ground: Ground, entries: Mapping[str, TreeEntry], sources: Sequence[Source], homes: Sequence[Home],
    runtime: RuntimeFound | None,
) -> CoreFound | None:  # fmt: skip
    if runtime is not None and runtime.packages is not None:
        apps, _ = _switched_on_modules(ground, sources, runtime)
        found = core_distribution(ground.anywhere(runtime.packages), apps) if apps else None
        if found is not None:
            return found
    return next(iter(core_in(ground.root, entries, sources, homes)), None)


def _command_said(words: str) -> list[str]:
    try:
        return shlex.split(words)
    except ValueError as error:
        raise UsageError(f"this is no command: {error}", where=words) from None


def _core_said(ground: Ground, path: str) -> CoreFound:
    """The core's version from the file that somebody named. Raises `UsageError` when it tells none."""
    file = ReadPath(ground.host.reading(ground.place), path)
    try:
        inside = file.is_file()
        version = re.search(r"\d[\w.+-]*", file.read_text(encoding="utf-8", errors="replace")[:10_000])
    except OSError:
        inside, version = False, None
    if not inside or version is None:
        raise UsageError(
            "this file tells no version",
            where=ground.absolute(path),
            advice="name one of the site's files, from its folder on",
        )
    return CoreFound(version[0], f"{path}, as you said", Sureness.READ, path)


def _switched_on_modules(
    ground: Ground, sources: Sequence[Source], runtime: RuntimeFound
) -> tuple[list[str], tuple[Source, str] | None]:
    """The list of a settings file of which most entries are modules of installed distributions."""
    modules = {m for d in distributions(ground.anywhere(str(runtime.packages))).values() for m in d.modules}
    best: tuple[list[str], tuple[Source, str] | None] = ([], None)
    for source in sources:
        lists: dict[str, list[str]] = {}
        for setting in source.settings:
            *above, last = key_parts(setting.key)
            if above and last.isdigit() and setting.value.partition(".")[0] in modules:
                lists.setdefault(".".join(above), []).append(setting.value)
        for key, values in lists.items():
            plain = [v for v in values if "middleware" not in v.lower() and "backends" not in v.lower()]
            if len(plain) >= 2 and len(plain) > len(best[0]):
                best = (plain, (source, key))
    return best


def _python_packages(
    ground: Ground, sources: Sequence[Source], homes: list[Home], switch: SwitchFound | None,
    runtime: RuntimeFound | None, core: CoreFound | None,
) -> tuple[list[Home], SwitchFound | None]:  # fmt: skip
    """Distributions that are switched on, that the core does not require, and that are not the core, are its
    extensions."""
    if runtime is None or runtime.packages is None or core is None or core.distribution is None:
        return homes, switch
    apps, listed = _switched_on_modules(ground, sources, runtime)
    there = distributions(ground.anywhere(runtime.packages))
    own = {core.distribution.lower()}
    grown = True
    while grown:
        more = {r for n in own for r in distributions_requirements(there, n)} - own
        own |= more
        grown = bool(more)
    tops = {a.partition(".")[0] for a in apps} | set(apps)
    names = sorted(n for n, d in there.items() if n not in own and tops & set(d.modules))
    if not names or listed is None:
        return homes, switch
    part = FolderPart(folder=runtime.packages, format="distributions", only=names, switch=SwitchPart(setting=listed[1]))
    components = tuple(components_in(ground.root, part, ground.anywhere))
    told = (
        f"{len(names)} installed distributions are switched on in {listed[0].path}, beside the core and what it "
        f"requires"
    )
    found = SwitchFound(
        SwitchPart(setting=listed[1]), frozenset(apps), f"{listed[0].path}, {listed[1]}", Sureness.READ, listed[0]
    )
    return [Home(part, "extension", components, told, Sureness.READ), *homes], found


def _chosen(homes: Sequence[Home], switch: SwitchFound | None) -> dict[str, Home | None]:
    """The home of extensions and that of themes, each with those alike and those described otherwise."""
    by_kind = {kind: [h for h in homes if h.kind == kind] for kind in ("extension", "theme")}
    return {kind: _with_others(_with_alike(_main(found, switch), found), found) for kind, found in by_kind.items()}


def _main(homes: Sequence[Home], switch: SwitchFound | None) -> Home | None:
    """The home whose components what is switched on speaks of; else the one that has most."""
    on = switch.on if switch is not None else frozenset()
    return max(
        homes, key=lambda h: (sum(1 for c in h.components if on & set(c.known_as)), len(h.components)), default=None
    )


def _with_alike(main: Home | None, homes: Sequence[Home]) -> Home | None:
    """A home with those of the same kind that are made alike: their things are described by the same file and
    fields."""
    if main is None:
        return None
    alike = [
        h for h in homes
        if h is not main
        and (h.part.facts, h.part.format, h.part.fields) == (main.part.facts, main.part.format, main.part.fields)
    ]  # fmt: skip
    if not alike:
        return main
    folders = [h.part.folder for h in alike]
    part = main.part.model_copy(update={"also": folders})
    components = tuple(c for h in (main, *alike) for c in h.components)
    return dataclasses.replace(
        main, part=part, components=components, evidence=f"{main.evidence}; alike: {', '.join(folders)}"
    )


def _with_others(main: Home | None, homes: Sequence[Home]) -> Home | None:
    """A home with those of the same kind whose things are described otherwise, as far as they are surely homes."""
    if main is None:
        return None
    folders = (main.part.folder, *main.part.also)
    left = [
        h for h in homes
        if not (h.part.folder in folders and h.part.facts == main.part.facts)
        and (h.sure is Sureness.READ or (h.part.folder in folders and h.sure is not Sureness.GUESSED))
    ]  # fmt: skip
    others: list[Home] = []
    while left:
        alike = _with_alike(left[0], left)
        assert alike is not None
        others.append(alike)
        left = [h for h in left if h.part.folder not in (alike.part.folder, *alike.part.also)]
    if not others:
        return main
    described = [
        DescribedFolder(**h.part.model_dump(exclude={"others", "switch"}, exclude_defaults=True)) for h in others
    ]
    return dataclasses.replace(
        main,
        part=main.part.model_copy(update={"others": described}),
        components=tuple(c for h in (main, *others) for c in h.components),
        evidence="; described otherwise: ".join(h.evidence for h in (main, *others)),
    )


def _settings_source(sources: Sequence[Source], address: AddressFound | None, database: Tried | None) -> Source | None:
    if address is not None and address.source is not None:
        return address.source
    if database is not None and database.candidate.source is not None:
        return database.candidate.source
    return next((s for s in sources if s.score > 0 and s.is_own), None)


def _mail(sources: Sequence[Source], settings: Source | None) -> tuple[Source, Mapping[str, Setting]] | None:
    best: tuple[float, Source, Group] | None = None
    for source in sources:
        for group in groups_of(source):
            # A class that speaks to a mail server names one, too: where no port stands beside it only settings count.
            told = "port" in group.members or source is settings
            if _MAIL.search(group.name) and "host" in group.members and told:
                score = source.score + (3 if source is settings else 0) + ("port" in group.members)
                if best is None or score > best[0]:
                    best = (score, source, group)
    return (best[1], best[2].members) if best is not None else None


_TIMED_FILE = re.compile(r"(?i)^([a-z]+[_-])?(cron(jobs?|tab)?|daemon|scheduler|worker)\d*\.(php|py|sh)$")


def _timers(sources: Sequence[Source], entries: Mapping[str, TreeEntry]) -> list[str]:
    """Settings that speak of timed work, and files that are called after it, near the top of the tree."""
    said = [s.evidence(x) for s in sources if s.score > 0 for x in s.settings if _TIMER.search(x.key)]
    files = [
        f"{p}: its name" for p, e in entries.items()
        if e.kind == "file" and p.count("/") < 3 and not in_dependencies(p)
        and _TIMED_FILE.match(p.rpartition("/")[2])
    ]  # fmt: skip
    return [*files, *said][:10]


def _title(sources: Sequence[Source], settings: Source | None) -> tuple[str, str] | None:
    own = [s for s in sources if s.is_own and s is not settings][:10]
    for source in [*([settings] if settings is not None else []), *own]:
        for setting in source.own_settings:
            speaks = _TITLE.search(setting.key) and re.search(r"(?i)(site|blog|title|general)", setting.key)
            if speaks and 1 < len(setting.value) <= 80 and not re.search(r"[\\/]|^\d+$", setting.value):
                return setting.value, source.evidence(setting)
    return None


def unfound(found: Inferred) -> list[tuple[str, str]]:
    """What only a person can say: the question, and the field of `Given` that takes the answer."""
    return [
        *([("The site's address cannot be found. What is it", "address")] if found.address is None else []),
        *([("No file was found that tells the core's version. Which one does", "core_version_file")]
          if found.core is None else []),
        *([(f"The version of {found.runtime.name} cannot be found. Which one runs the site", "runtime_version")]
          if found.runtime is not None and found.runtime.version is None else []),
        *([("How is the site started, for a clone, on a {port}", "serve")]
          if found.runtime is not None and found.serve is None else []),
    ]  # fmt: skip


Add = Callable[[str, str, Sureness, str], None]


def entries_of(found: Inferred) -> list[Entry]:
    """What was found, entry by entry, for people; nothing secret is in it."""
    told: list[Entry] = []

    def add(key: str, value: str, sure: Sureness, evidence: str) -> None:
        told.append(Entry(key, value, sure, evidence))

    if found.address is not None:
        add("site.address", found.address.address, found.address.sure, found.address.evidence)
    else:
        add("site.address", "", Sureness.MISSING, "name it with --address")
    _tell_database(found, add)
    _tell_core_and_runtime(found, add)
    _tell_homes(found, add)
    for area, paths in found.areas.items():
        listed = ", ".join(paths[:4]) + (" …" if len(paths) > 4 else "")
        add(f"areas.{area}", listed, Sureness.LIKELY, found.areas_why[paths[0]])
    _tell_contents(found, add)
    if found.serve is not None:
        add("serve", " ".join(found.serve.command), found.serve.sure, found.serve.why)
    else:
        add("serve", "", Sureness.MISSING, "clones need it: name the command under [serve]")
    keeps_out = "a cutover needs it: 'keenharbor init --maintenance' brings one, or name yours under [maintenance]"
    add("maintenance", "", Sureness.MISSING, keeps_out)
    return told


def _tell_core_and_runtime(found: Inferred, add: Add) -> None:
    if found.core is not None:
        name = f"{found.core.title} " if found.core.title else ""
        add("core", name + found.core.version, found.core.sure, found.core.evidence)
    else:
        add("core", "", Sureness.MISSING, "no file tells a version: name one under [core]")
    if found.runtime is None:
        add("runtime", "", Sureness.MISSING, "there is no code in the site")
        return
    add("runtime", found.runtime.name, Sureness.READ, found.runtime.name_evidence)
    if found.runtime.version is not None:
        add("runtime.version", found.runtime.version, found.runtime.sure, found.runtime.version_evidence)
    else:
        add("runtime.version", "", Sureness.MISSING, "name it: 'version' under [runtime]")


def _tell_homes(found: Inferred, add: Add) -> None:
    """Extensions, themes, and which of them are on."""
    for key, home in (("extensions", found.extensions), ("themes", found.themes)):
        if home is None:
            add(key, "", Sureness.MISSING, "no folder has siblings that share a file of facts or a header comment")
            continue
        listed = ", ".join(f"{c.name} {c.facts.get('version', '')}".strip() for c in home.components[:4])
        more = f" and {len(home.components) - 4} more" if len(home.components) > 4 else ""
        add(key, f"{home.part.folder}: {listed}{more}", home.sure, home.evidence)
    for home in found.other_homes:
        add("", f"also {home.kind}s: {home.part.folder} ({len(home.components)})", home.sure, home.evidence)
    theme = found.active_theme
    if theme is not None:
        add("themes.switch", f"on: {', '.join(theme.on)}", theme.sure, theme.evidence)
    switch = found.switch
    if switch is None:
        if found.extensions is not None:
            add("extensions.switch", "", Sureness.MISSING, "nothing was found that says which are on")
        return
    homes = [h for h in (found.extensions, found.themes) if h is not None]
    known = sorted({c.name for h in homes for c in h.components if switch.on & set(c.known_as)})
    on = ", ".join(known[:6]) or "none"
    add("extensions.switch", f"on: {on}" + (" …" if len(known) > 6 else ""), switch.sure, switch.evidence)
    if orphaned := list(orphans(homes, switch)):
        text = f"in the database, but in no folder: {', '.join(orphaned[:6])}"
        add("", text, Sureness.READ, switch.evidence)


def _tell_database(found: Inferred, add: Add) -> None:
    best = found.database
    if best is None:
        add("database", "none", Sureness.LIKELY, "no settings speak of a database, and no file of the tree is one")
        return
    candidate = best.candidate
    if best.answered:
        add("database", str(candidate.place), Sureness.READ, f"{candidate.evidence}; {best.told}")
    else:
        add("database", str(candidate.place), Sureness.GUESSED, f"{candidate.evidence}; but: {best.told}")
    for other in found.tried[1:]:
        if other.answered and other.candidate.place.url != candidate.place.url:
            add(
                "",
                f"another database: {other.candidate.place}",
                Sureness.READ,
                f"{other.candidate.evidence}; {other.told}",
            )


def _tell_contents(found: Inferred, add: Add) -> None:
    for kind, key in (("visitors", "visitor_data"), ("settings", "settings.table")):
        tables = [t for t in found.tables if t.kind == kind]
        if tables:
            names = ", ".join(t.table for t in tables[:6]) + (" …" if len(tables) > 6 else "")
            add(key, names, Sureness.LIKELY, f"{tables[0].table}: {tables[0].why}")
    passing = [t for t in found.tables if t.kind in ("sessions", "cache", "logs")]
    if passing:
        add("volatile", ", ".join(t.table for t in passing[:6]) + (" …" if len(passing) > 6 else ""), Sureness.LIKELY,
            f"{passing[0].table}: {passing[0].why}")  # fmt: skip
    if found.passing_settings and found.settings_table is not None:
        add("volatile", f"rows of {found.settings_table[0]}: {', '.join(found.passing_settings[:6])}", Sureness.LIKELY,
            "their names say that they pass, and they hold a moment")  # fmt: skip
    if found.places is not None and found.places.cells:
        count = sum(found.places.cells.values())
        where = ", ".join(f"{p} ({n})" for p, n in sorted(found.places.cells.items(), key=lambda c: -c[1])[:4])
        add("", f"the address stands in {count} cells", Sureness.READ, where)
    if found.places is not None and found.places.opaque:
        where = ", ".join(f"{p} ({n})" for p, n in sorted(found.places.opaque.items())[:4])
        add("", "cells that cannot be searched", Sureness.READ, f"packed or encoded data: {where}")
    if found.opaque_settings:
        add(
            "",
            "settings that cannot be searched",
            Sureness.READ,
            "packed and encoded: " + ", ".join(found.opaque_settings[:4]),
        )
    if found.address is not None and found.address.also:
        add("", "the address stands also in", Sureness.READ, ", ".join(found.address.also[:4]))
    if found.mail is not None:
        source, members = found.mail
        add(
            "mail",
            ", ".join(m.key for r, m in members.items() if r in ("host", "port")),
            Sureness.LIKELY,
            source.evidence(members["host"]),
        )
    if found.timers:
        add("", "timers", Sureness.READ, ", ".join(found.timers[:4]))
