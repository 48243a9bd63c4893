"""The core and its version; the folders that hold extensions and themes."""

from __future__ import annotations

import posixpath
import re
from collections import Counter, defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from keenharbor.host import ReadPath
from keenharbor.site.components import (
    FoundComponent,
    components_in,
    distributions,
    facts_of,
    normal_name,
)
from keenharbor.site.inference.evidence import Sureness
from keenharbor.site.inference.sources import Source, in_dependencies
from keenharbor.site.model import FolderPart
from keenharbor.site.settings import SettingsForm, form_of, key_parts
from keenharbor.tree import Entry

_VERSION = re.compile(r"v?(\d+\.\d+(?:\.\d+){0,2}(?:[-.+]?(?:alpha|beta|rc|dev|patch|p|pl)[.-]?\d*)?)", re.IGNORECASE)
_VERSION_FILE = re.compile(r"(?i)^([a-z]+[_.-])?(version|release)([_-][a-z]+)?(\.txt|\.md)?$")
_NAMED_FOR_IT = re.compile(r"(?i)(^|[_.-])(version|release)([_.-]|$)")
_IN_COMMENT = re.compile(
    r"(?im)^[ \t/*#@;!<>-]*(?:@?(?:version|release)\b[ \t:=]*)?v?(\d+\.\d+(?:\.\d+){0,2})[ \t*/>-]*$"
)
_VERSION_KEY = re.compile(r"(?i)^\$?(?:[a-z]+_)*(version|release)(_?(number|string|full|id))?$")
_OTHER_VERSION = re.compile(
    r"(?i)(min|max|req|db|schema|api|php|python|node|mysql|sql|tested|compat|old|prev|assets?|style|script|jquery|"
    r"plugin|theme|ext|http|tls|ssl|protocol|xml|html|rpc|soap|content|file|format|config|cache|client|driver|spec|"
    r"cookie|feed|rss|charset)"
)
_CORE_PLACE = re.compile(
    r"(?i)(^|/)(core|includes?|lib|libraries|system|src|app|kernel|framework|inc|engine|bootstrap)(/|$)"
)
_THEME = re.compile(r"(?i)(theme|template|skin|design|layout|appearance)")
_EXTENSION = re.compile(
    r"(?i)(extension|plugin|module|addon|add-on|mod|component|widget|package|bundle|app|feature|contrib)"
)
CALLED_AFTER = re.compile(rf"{_THEME.pattern}|{_EXTENSION.pattern.removeprefix('(?i)')}")
"""What folders of themes and extensions are called."""
_NOT_A_HOME = re.compile(
    r"(?i)(^|/)(tests?|cache|tmp|docs?|examples?|media|uploads|fixtures|locale|languages?|lang|migrations)(/|$)"
)

_LARGEST_COMMENTED = 64 * 1024
_BY_PLACE = re.compile(r"(?i)^(extensions?|plugins?|modules?|addons?|add-ons?|contrib)$")

FIELDS = {
    "name": (
        "machine_name", "machine name", "slug", "id", "identifier", "key", "name", "extension name", "plugin name",
        "theme name",
        "module name",
    ),
    "title": (
        "title", "display_name", "displayname", "label", "plugin name", "extension name", "theme name", "module name",
        "name",
        "description",
    ),
    "version": ("version", "release", "module version", "plugin version"),
    "author": (
        "author", "author.name", "authors.0.name", "authors.0", "vendor", "maintainer", "creator", "author name",
        "publisher",
    ),
    "requires_core": (
        "requires_core", "requires core", "requires at least", "core", "require_core", "requires.core", "engines.core",
        "compatibility", "min_core", "minimum core", "core_version", "requires",
    ),
    "requires_runtime": (
        "requires_runtime", "requires runtime", "requires php", "php", "require.php", "requires.php", "php_version",
        "requires_python", "engines.node", "min_php", "requires python", "requires-python", "project.requires-python",
    ),
    "tested_up_to": ("tested_up_to", "tested up to", "tested", "tested_core", "max_core"),
}  # fmt: skip
"""What fields of a component are called, the best names first; looked for at the end of a key, in small letters."""


@dataclass(frozen=True)
class Home:
    """A folder whose siblings are extensions or themes: how to read them, what was found, and why it is taken for
    one."""

    part: FolderPart
    kind: str
    components: tuple[FoundComponent, ...]
    evidence: str
    sure: Sureness

    @property
    def versions(self) -> int:
        return sum(1 for c in self.components if c.facts.get("version"))


def homes_in(root: ReadPath, entries: Mapping[str, Entry]) -> list[Home]:
    """The folders in which siblings share a file of facts or a header comment, those with most siblings first."""
    children: dict[str, set[str]] = defaultdict(set)
    shared: dict[str, Counter[str]] = defaultdict(Counter)
    for path, entry in entries.items():
        if in_dependencies(path + "/") or "/." in path:
            continue
        above, name = posixpath.split(path)
        if entry.kind == "folder":
            children[above].add(path)
            continue
        if entry.kind != "file" or not above:
            continue
        home, item = posixpath.split(above)
        spoken = _EXTENSION.search(home) or _THEME.search(home)
        told = form_of(name) is not None or (name.endswith(".css") and _THEME.search(home))
        if not home or (not told and not (spoken and 0 < entry.size < _LARGEST_FACTS)):
            continue
        pattern = name.replace(item, "{name}", 1) if name.startswith(item + ".") else name
        shared[home][pattern] += 1
    found: list[Home] = []
    for home, patterns in shared.items():
        if _NOT_A_HOME.search(home) or not children[home]:
            continue
        left = len(children[home])
        while left and (best := _best_pattern(root, home, patterns, left)) is not None:
            found.append(best)
            # What is described otherwise in the same folder is a home of its own.
            del patterns[best.part.facts]
            left -= len(best.components)
    described = {h.part.folder for h in found}
    found += [h for h in _homes_by_place(root, shared, children) if h.part.folder not in described]
    found += flat_homes(root, entries, {h.part.folder for h in found})
    found.sort(
        key=lambda h: (
            h.sure is Sureness.GUESSED,
            not (_EXTENSION.search(h.part.folder) or _THEME.search(h.part.folder)),
            -len(h.components),
            h.part.folder,
        )
    )
    return [h for h in found if not any(o is not h and h.part.folder.startswith(o.part.folder + "/") for o in found)]


def _homes_by_place(
    root: ReadPath, shared: Mapping[str, Counter[str]], children: Mapping[str, set[str]]
) -> Iterator[Home]:
    """Folders that are called after what they hold, of which most have the same file of code: nothing else describes
    what is in them."""
    for home, patterns in shared.items():
        if not _BY_PLACE.match(posixpath.basename(home)) or _NOT_A_HOME.search(home):
            continue
        siblings = len(children[home])
        pattern, count = next(((p, c) for p, c in patterns.most_common(6) if form_of(p) in ("php", "python")), ("", 0))
        if count < 2 or count < 0.6 * siblings:
            continue
        part = FolderPart(folder=home, facts=pattern, format="folder")
        components = tuple(components_in(root, part))
        told = f"{home}/: {len(components)} of its folders have {pattern}; nothing tells their versions"
        yield Home(part, "extension", components, told, Sureness.LIKELY)


_FLAT_THEMES = re.compile(r"(?i)^(themes?|skins?|styles)$")
_FLAT_SUFFIXES = {"theme": (".css", ".php"), "extension": (".php", ".py")}


def flat_homes(root: ReadPath, entries: Mapping[str, Entry], taken: Collection[str]) -> Iterator[Home]:
    """Folders called after what they hold in which each thing is a file: described by a file beside it, by a header, or
    by its place alone."""
    there: dict[str, dict[str, list[str]]] = defaultdict(lambda: defaultdict(list))
    for path, entry in entries.items():
        home, _, name = path.rpartition("/")
        last = home.rpartition("/")[2]
        by_place = _BY_PLACE.match(last) or _FLAT_THEMES.match(last)
        if entry.kind == "file" and by_place and not in_dependencies(path) and not _NOT_A_HOME.search(home):
            stem, _, suffix = name.partition(".")
            there[home][f".{suffix}"].append(stem)
    for home, by_suffix in there.items():
        kind = "theme" if _FLAT_THEMES.match(home.rpartition("/")[2]) else "extension"
        for suffix in _FLAT_SUFFIXES[kind]:
            stems = {s for s in by_suffix.get(suffix, ()) if s not in ("index", "__init__")}
            made = _flat_home(root, home, kind, suffix, stems, by_suffix) if len(stems) >= 2 else None
            if made is not None and (made.versions or home not in taken):
                yield made
                break


def _flat_home(
    root: ReadPath, home: str, kind: str, suffix: str, stems: set[str], by_suffix: Mapping[str, Sequence[str]]
) -> Home | None:
    files = f"*{suffix}"
    for beside, others in by_suffix.items():
        if beside != suffix and len(stems & set(others)) >= 0.5 * len(stems):
            first = root / home / f"{min(stems & set(others))}{beside}"
            form = form_of_facts(first)
            if form is not None:
                return _flat_described(root, home, kind, FolderPart(
                    folder=home, files=files, facts="{name}" + beside, format=form),
                        f"{{name}}{beside} beside it")  # fmt: skip
    headed = FolderPart(folder=home, files=files, format="header")
    if (made := _flat_described(root, home, kind, headed, "a header comment")) is not None:
        return made
    if kind == "extension":  # a file of code in such a folder may be anything
        return None
    part = FolderPart(folder=home, files=files, format="folder")
    components = tuple(components_in(root, part))
    told = f"{home}/: {len(components)} files {files}; nothing tells their versions"
    return Home(part, kind, components, told, Sureness.LIKELY)


def _flat_described(root: ReadPath, home: str, kind: str, probe: FolderPart, how: str) -> Home | None:
    bare = components_in(root, probe)
    told = [facts_of(root / c.facts_file, probe.format) for c in bare]
    fields = _fields(Counter(k.lower() for facts in told for k in facts), len(bare))
    if "version" not in fields:
        return None
    written = {k.lower(): k for facts in told for k in facts}
    part = probe.model_copy(update={"fields": {f: written[k] for f, k in fields.items()}})
    components = tuple(components_in(root, part))
    return Home(part, kind, components, f"{home}/: {len(components)} files {part.files}, {how}", Sureness.LIKELY)


def _best_pattern(root: ReadPath, home: str, patterns: Counter[str], siblings: int) -> Home | None:
    spoken = bool(_EXTENSION.search(home) or _THEME.search(home))
    best: tuple[float, Home] | None = None
    for pattern, count in [*patterns.most_common(12), ("*.php", siblings)]:
        if count < (1 if spoken else 2) or count < 0.5 * siblings:
            continue
        code = form_of(pattern) in ("php", "python") or "*" in pattern or pattern.endswith(".css")
        if "*" in pattern and best is not None:
            continue
        form = "header" if code else form_of(pattern) or _form_of_content(root, home, pattern)
        made = _home(root, home, pattern, form, spoken) if form is not None else None
        if made is None:
            continue
        rank = made.versions + 0.1 * len(made.part.fields)
        if best is None or rank > best[0]:
            best = (rank, made)
    return best[1] if best is not None else None


def _home(root: ReadPath, home: str, pattern: str, form: str, spoken: bool) -> Home | None:
    seen: Counter[str] = Counter()
    probe = FolderPart(folder=home, facts=pattern, format=form)  # type: ignore[arg-type]
    bare = list(components_in(root, probe))
    for item in bare:
        seen.update({k.lower() for k in facts_of(root / item.facts_file, form)})
    if not bare:
        return None
    fields = _fields(seen, len(bare))
    if "version" not in fields:
        return None
    if form == "header" and not ({"name", "title", "author"} & fields.keys()):
        return None
    # Keys are compared in small letters; the file's own writing counts when it is read.
    written = {k.lower(): k for item in bare for k in facts_of(root / item.facts_file, form)}
    part = probe.model_copy(update={"fields": {f: written[k] for f, k in fields.items()}})
    components = tuple(components_in(root, part))
    with_version = sum(1 for c in components if _VERSION.match(c.facts.get("version", "")))
    if with_version < max(1, 0.5 * len(components)):
        return None
    says_theme = any("theme name" in k for k in seen)
    kind = "theme" if _THEME.search(home.rpartition("/")[2]) or says_theme else "extension"
    sure = (
        Sureness.READ
        if spoken and len(components) > 1
        else Sureness.LIKELY
        if len(components) > 1
        else Sureness.GUESSED
    )
    has = "has" if len(components) == 1 else "have"
    what = f"a header comment in {pattern}" if form == "header" else pattern
    told = f"{len(components)} of its folders {has} {what}"
    return Home(part, kind, components, f"{home}/: {told}", sure)


_LARGEST_FACTS = 16 * 1024
_CONTENT_FORMS: tuple[SettingsForm, ...] = ("json", "xml", "ini", "yaml")


def _form_of_content(root: ReadPath, home: str, pattern: str) -> SettingsForm | None:
    """The form of files whose names promise none (``NAME.meta``), by what the first of them holds: at least two facts,
    a version among them."""
    for item in (root / home).iterdir():
        file = item / pattern.replace("{name}", item.name)
        if item.is_dir() and file.is_file():
            return form_of_facts(file)
    return None


def form_of_facts(file: ReadPath) -> SettingsForm | None:
    """The form in which a small file tells facts; None when it tells none."""
    for form in _CONTENT_FORMS:
        keys = {k.rpartition(".")[2].lower() for k in facts_of(file, form)}
        if len(keys) >= 2 and keys & set(FIELDS["version"]):
            return form
    return None


def _fields(seen: Counter[str], count: int) -> dict[str, str]:
    """The key for each field: one that most of the siblings have."""
    fields: dict[str, str] = {}
    for name, words in FIELDS.items():
        for word in words:
            fit = [k for k, n in seen.items() if n >= 0.5 * count and (k == word or k.endswith("." + word))]
            if fit:
                fields[name] = min(fit, key=len)
                break
    # What people call it stands for its name only where nothing else does.
    spoken = fields.get("name", "")
    if " " in spoken and (spoken == fields.get("title") or spoken.endswith(" name")):
        del fields["name"]
    return fields


# -- the core -------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class CoreFound:
    """The core's version and where it stands."""

    version: str
    evidence: str
    sure: Sureness
    version_file: str | None = None
    key: str | None = None
    distribution: str | None = None
    title: str = ""


def core_in(
    root: ReadPath, entries: Mapping[str, Entry], sources: Sequence[Source], homes: Sequence[Home]
) -> list[CoreFound]:
    """Places at which the core's version may be written, the most likely first."""
    found: list[tuple[float, CoreFound]] = []

    def apart(path: str) -> bool:
        return in_dependencies(path) or any(path.startswith(h.part.folder + "/") for h in homes)

    for path, entry in entries.items():
        if (
            entry.kind == "file"
            and 0 < entry.size < 200
            and _VERSION_FILE.match(posixpath.basename(path))
            and not apart(path)
        ):
            try:
                text = (root / path).read_text(encoding="utf-8")
            except (OSError, UnicodeDecodeError):
                continue
            if version := _VERSION.search(text):
                score = 5 - path.count("/") + (1 if _CORE_PLACE.search(path) else 0)
                found.append((score, CoreFound(version[1], path, Sureness.READ, path)))
    for source in sources:
        if apart(source.path):
            continue
        for setting in source.own_settings:
            last = key_parts(setting.key)[-1]
            exact = _VERSION.fullmatch(setting.value.strip())
            if not _VERSION_KEY.match(last) or exact is None or setting.kind not in ("text", "number"):
                continue
            bare = last.lstrip("$").lower()
            points = (
                3.0
                + (1.5 if _CORE_PLACE.search(source.path) else 0)
                + (1.5 if "version" in posixpath.basename(source.path).lower() else 0)
            )
            points -= 2.5 if _OTHER_VERSION.search(bare) else 0
            points -= 0.4 * source.path.count("/") + 1.0 * (len(key_parts(setting.key)) - 1)
            points += (
                1.0
                if source.path in ("composer.json", "package.json", "pyproject.toml")
                and setting.key in ("version", "project.version")
                else 0
            )
            sure = Sureness.LIKELY if points >= 3.5 else Sureness.GUESSED
            found.append((points, CoreFound(exact[1], source.evidence(setting), sure, source.path, setting.key)))
    known = {f.version_file for _, f in found}
    found += _cores_in_comments(root, [p for p in entries if p not in known and not apart(p)], entries)
    found.sort(key=lambda f: -f[0])
    return [f for _, f in found]


def _cores_in_comments(
    root: ReadPath, paths: Iterable[str], entries: Mapping[str, Entry]
) -> Iterator[tuple[float, CoreFound]]:
    """Versions that stand in a comment of a file of code which is named for that."""
    for path in paths:
        name = posixpath.basename(path)
        named = _NAMED_FOR_IT.search(name.partition(".")[0]) and form_of(name) in ("php", "python")
        if not named or entries[path].kind != "file" or not 0 < entries[path].size < _LARGEST_COMMENTED:
            continue
        version = _version_in_comments((root / path).read_text(errors="replace"))
        if version is not None:
            points = 4.0 - 0.4 * path.count("/") + (1.5 if _CORE_PLACE.search(path) else 0)
            yield points, CoreFound(version, f"{path}, a comment", Sureness.LIKELY, path)


def _version_in_comments(text: str) -> str | None:
    """A version that stands alone on a line of a comment, where no other number comes before it in the file."""
    found = _IN_COMMENT.search(text)
    first = re.search(r"\d[\w.+-]*", text)
    return found[1] if found is not None and first is not None and first[0] == found[1] else None


def core_distribution(packages: ReadPath, apps: Sequence[str]) -> CoreFound | None:
    """The installed Python distribution that brings most of the modules that are switched on, apart from what all
    others need: a framework is required by the core, the core is not required by the framework."""
    there = distributions(packages)
    by_module = {m: n for n, d in there.items() for m in d.modules}
    counts = Counter(by_module[app.partition(".")[0]] for app in apps if app.partition(".")[0] in by_module)
    if not counts:
        return None
    ranked = sorted(counts, key=lambda n: (-_on_top(n, counts, there), -counts[n], n))
    best = ranked[0]
    told = f"{counts[best]} of {len(apps)} switched-on modules are of it, and it builds on the others"
    found = there[best]
    below = distributions_requirements(there, best)
    framework = next((there[n] for n in sorted(counts, key=lambda n: (-counts[n], n)) if n in below), None)
    if framework is not None:
        told += f"; on {framework.name} {framework.version}"
    rivals = [n for n in ranked[1:] if n not in below and _on_top(n, counts, there) == _on_top(best, counts, there)]
    if rivals:
        told += f"; it could as well be {there[rivals[0]].name}: 'distribution' under [core]"
    return CoreFound(
        found.version, f"installed distribution {found.name}: {told}", Sureness.GUESSED if rivals else Sureness.LIKELY,
        distribution=found.name, title=found.name,
    )  # fmt: skip


def _on_top(name: str, counts: Counter[str], there: Mapping[str, object]) -> int:
    """How much ``name`` is what the others are made for: it brings several modules and requires others of them."""
    found = distributions_requirements(there, name)
    below = sum(1 for o in counts if o != name and o in found)
    above = sum(1 for o in counts if o != name and name in distributions_requirements(there, o))
    # The core stands between: it requires the framework, and add-ons require it.
    return min(counts[name], 3) + 3 * (below > 0) + above


def distributions_requirements(there: Mapping[str, object], name: str) -> set[str]:
    """The names that a distribution requires, in their normal form."""
    requires = getattr(there.get(name), "requires", ())
    return {normal_name(m[0]) for r in requires if "extra ==" not in r and (m := re.match(r"[A-Za-z0-9._-]+", r))}
