"""The language runtime, its version, where its packages are, and how the site is started for a clone."""

from __future__ import annotations

import posixpath
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from keenharbor.base.text import plural
from keenharbor.host import AnyPath
from keenharbor.host.programs import ProgramError, Programs
from keenharbor.site.inference.evidence import Sureness
from keenharbor.site.inference.ground import Ground
from keenharbor.site.inference.sources import Source, in_dependencies
from keenharbor.tree import Entry

_LANGUAGES = {
    ".php": "php",
    ".phtml": "php",
    ".py": "python",
    ".js": "node",
    ".mjs": "node",
    ".cjs": "node",
    ".ts": "node",
    ".rb": "ruby",
}
_VERSION = re.compile(r"\d+(?:\.\d+){0,2}")
_ASKS = {
    "php": ("composer.json", "require.php"),
    "python": ("pyproject.toml", "project.requires-python"),
    "node": ("package.json", "engines.node"),
}
_SELECTS = {
    ".python-version": "python", ".nvmrc": "node", ".node-version": "node", ".php-version": "php",
    ".ruby-version": "ruby",
    "runtime.txt": "python",
}  # fmt: skip
_SAYS_VERSION = {
    "php": ["php", "-n", "-r", "echo PHP_VERSION;"],
    "python": ["python3", "-c", "import platform; print(platform.python_version())"],
    "node": ["node", "--version"],
}  # fmt: skip
_IN_SERVER_CONFIG = (
    ("php", re.compile(r"php[-/]?(\d\.\d)[-./]?(?:fpm|cgi)?|fpm/php(\d\.\d)|/php(\d\.\d)/", re.IGNORECASE)),
    ("python", re.compile(r"python-home[= ](\S+)|python(\d\.\d+)|lib/python(\d\.\d+)")),
    ("node", re.compile(r"node[/-]v?(\d+(?:\.\d+)*)")),
)  # fmt: skip


@dataclass(frozen=True)
class RuntimeFound:
    """The runtime's name and version with where each comes from; ``packages`` and ``program`` for those that have
    them."""

    name: str
    name_evidence: str
    version: str | None
    version_evidence: str
    sure: Sureness
    version_file: str | None = None
    packages: str | None = None
    program: str | None = None


def runtime_in(
    ground: Ground, entries: Mapping[str, Entry], sources: Sequence[Source], server_configs: Sequence[Path] = ()
) -> RuntimeFound | None:
    """What the site runs on; None when there is no code in it."""
    counts: Counter[str] = Counter()
    for path, entry in entries.items():
        language = _LANGUAGES.get(posixpath.splitext(path)[1].lower())
        if language is not None and entry.kind == "file" and not in_dependencies(path):
            # A site's scripts for the browser are JavaScript too; on a server it comes with a package file.
            if language == "node" and "package.json" not in entries:
                continue
            counts[language] += 1
    if not counts:
        return None
    name = max(counts, key=lambda n: (counts[n] * (0.2 if n == "node" else 1), n))
    told = f"{plural(counts[name], 'file')} of it in that language"
    environment = _environment(ground, entries) if name == "python" else None
    packages, program = (environment.packages, environment.program) if environment is not None else (None, None)
    asked = _asked(name, sources)
    selected = next((f for f, language in _SELECTS.items() if language == name and f in entries), None)
    if selected is not None and (version := _VERSION.search(_text(ground.root / selected))):
        found = RuntimeFound(name, told, version[0], selected, Sureness.READ, selected, packages, program)
        if environment is None or environment.version is None:
            return found
        # What is installed counts, whatever is selected for the next time.
        return replace(found, version=environment.version, version_evidence=environment.evidence)
    if environment is not None and environment.version is not None:
        return RuntimeFound(
            name, told, environment.version, environment.evidence, Sureness.READ, None, packages, program
        )
    for server_config in server_configs:
        for language, pattern in _IN_SERVER_CONFIG:
            said = pattern.search(_text(server_config)) if language == name else None
            numbers = next((g for g in said.groups() if g and _VERSION.fullmatch(g)), None) if said else None
            if numbers:
                return RuntimeFound(name, told, numbers, str(server_config), Sureness.LIKELY, None, packages, program)
    installed = _said_program(name, sources, ground) or _installed(name, ground.host.programs)
    if installed is not None:
        evidence = f"{installed[0]} is installed here" + (f"; the code asks for {asked}" if asked else "")
        return RuntimeFound(
            name, told, installed[1], evidence, Sureness.GUESSED, None, packages, program or installed[0]
        )
    if asked and (version := _VERSION.search(asked)):
        return RuntimeFound(
            name,
            told,
            version[0],
            f"the least that the code asks for ({asked})",
            Sureness.GUESSED,
            None,
            packages,
            program,
        )
    return RuntimeFound(name, told, None, "", Sureness.MISSING, None, packages, program)


def _text(file: AnyPath) -> str:
    try:
        return file.read_text(encoding="utf-8", errors="replace")[:200_000]
    except OSError:
        return ""


def _asked(name: str, sources: Sequence[Source]) -> str:
    """What the code says that it needs."""
    file, key = _ASKS.get(name, ("", ""))
    for source in sources:
        if source.path == file and (setting := source.of(key)) is not None:
            return setting.value
    return ""


@dataclass(frozen=True)
class _Environment:
    """A virtual environment: its folder of packages from the site's root, its interpreter, the version that it says it
    has."""

    packages: str
    program: str | None
    version: str | None
    evidence: str


def _environment(ground: Ground, entries: Mapping[str, Entry]) -> _Environment | None:
    """The virtual environment of a site: in its tree, or where a scan leaves it out."""
    in_tree = [ground.absolute(path) for path in sorted(entries) if posixpath.basename(path) == "pyvenv.cfg"]
    for config in (*in_tree, *(f"{e}/pyvenv.cfg" for e in environments_beside(ground))):
        home = posixpath.dirname(config)
        packages = next(iter(ground.anywhere(home).glob("lib/python*/site-packages")), None)
        if packages is None:
            continue
        program = ground.anywhere(f"{home}/bin/python")
        said = re.search(r"(?m)^version(?:_info)? = (\d+\.\d+(?:\.\d+)?)", _text(ground.anywhere(config)))
        version = said or re.search(r"python(\d\.\d+)", packages.parent.name)
        folder = posixpath.relpath(str(packages), ground.place)
        told = posixpath.relpath(config, ground.place) if said else folder
        return _Environment(
            folder, str(program) if program.exists() else None, version[1] if version else None,
            told if config in in_tree else config,
        )  # fmt: skip
    return None


def environments_beside(ground: Ground) -> list[str]:
    """Virtual environments in the site's folder or beside it: what is left out of snapshots is not in a scan."""
    return [
        ground.absolute(f"{base}/{name}")
        for base in (".", "..")
        for name in (".venv", "venv", "env", ".env", "virtualenv")
        if ground.anywhere(f"{base}/{name}/pyvenv.cfg").is_file()
    ]


def _said_program(name: str, sources: Sequence[Source], ground: Ground) -> tuple[str, str] | None:
    """The runtime's program as the site's own settings name it, and its version. One within the site's tree is not run:
    whoever may write there could put anything in its place."""
    for source in sources:
        for setting in source.own_settings if source.is_own else ():
            speaks = re.search(rf"(?i){name}.*(exec|bin|path|cli|program)|(exec|bin|cli)\w*{name}", setting.key)
            program = posixpath.normpath(setting.value)
            if speaks and program.startswith("/") and not program.startswith(f"{ground.place}/"):
                found = _asked_for_version(name, setting.value, ground.host.programs)
                if found is not None:
                    return found
    return None


def _installed(name: str, programs: Programs) -> tuple[str, str] | None:
    """The runtime that is installed on the site's machine: its program and version."""
    words = _SAYS_VERSION.get(name, [name])
    program = programs.place_of(words[0])
    return _asked_for_version(name, program, programs) if program is not None else None


def _asked_for_version(name: str, program: str, programs: Programs) -> tuple[str, str] | None:
    """The program with the version that it says it has; None where it says none."""
    words = _SAYS_VERSION.get(name, [name])
    if len(words) == 1 or programs.place_of(program) is None:
        return None
    try:
        said = programs.ask([program, *words[1:]], seconds=10).decode("utf-8", "replace")
    except ProgramError:
        return None
    version = _VERSION.search(said)
    return (program, version[0]) if version else None


def migrate_command(name: str, entries: Mapping[str, Entry]) -> list[str] | None:
    """How the database follows the code, where a standard way is evident."""
    path = next((p for p in ("manage.py", "src/manage.py") if p in entries), None)
    return ["{runtime}", path, "migrate", "--noinput"] if name == "python" and path is not None else None


@dataclass(frozen=True)
class ServeCommand:
    """How a clone is started: the words, why, and how sure that is."""

    command: list[str]
    why: str
    sure: Sureness = Sureness.LIKELY
    folder: str = ""


def serve_command(name: str, entries: Mapping[str, Entry], under_a_path: bool = False) -> ServeCommand | None:
    """The same where a standard way is evident. A site whose address has a path must answer ``under_a_path``."""
    if name == "php":
        for folder in ("public", "web", "htdocs", "www", "public_html", "docroot", ""):
            front = f"{folder}/index.php" if folder else "index.php"
            if front in entries:
                command = ["{runtime}", "-S", "127.0.0.1:{port}"]
                if under_a_path:
                    why = f"{front}; PHP's own server, under the path of the address"
                    return ServeCommand([*command, "-t", "{top}"], why, folder=folder)
                return ServeCommand([*command, *(["-t", folder] if folder else [])], f"{front}; PHP's own server")
    if name == "python":
        for path in ("manage.py", "src/manage.py"):
            if path in entries:
                command = ["{runtime}", path, "runserver", "--noreload", "127.0.0.1:{port}"]
                return ServeCommand(command, f"{path} is there")
    usual = {
        "python": (("wsgi.py", "app.py", "main.py", "server.py"), ["--port", "{port}"]),
        "node": (("server.js", "index.js", "app.js", "main.js"), []),
    }
    paths, options = usual.get(name, ((), []))
    for path in paths:
        if path in entries:
            return ServeCommand(["{runtime}", path, *options], f"guessed: {path} may serve it", Sureness.GUESSED)
    return None
