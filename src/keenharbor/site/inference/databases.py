"""Where the site's database is, from how its settings say it, and whether it is there."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path, PurePosixPath

from keenharbor.base.errors import KeenHarborError
from keenharbor.database import DatabasePlace, open_database
from keenharbor.database.kinds import KINDS, SQLITE, engine_of, kind_of
from keenharbor.host import ReadPath
from keenharbor.site.connections import place_of_text, server_place, split_host
from keenharbor.site.inference.ground import Ground
from keenharbor.site.inference.sources import Group, Source, calls_of, groups_of
from keenharbor.site.settings import Setting
from keenharbor.tree import Entry

_DATABASE_WORD = re.compile(r"(?i)(db|database|sql|maria|postgres|pg_?|connection|datasource|default)")
_NO_DATABASE = re.compile(
    r"(?i)(mail|smtp|ftp|redis|cache|memcache|queue|amqp|ldap|imap|search|elastic|proxy|session|oauth|api|s3|broker)"
)
_OPENS = re.compile(r"(?i)(mysqli?|pdo|pg_|connect|database|\bdb|sqlite|sql)")
_MOST_TRIED = 12


@dataclass(frozen=True)
class Candidate:
    """One way of reaching a database: the ``place``, the file and the keys that say it, and how much speaks for it."""

    place: DatabasePlace
    source: Source | None
    keys: dict[str, str] = field(default_factory=dict)
    setting: Setting | None = None
    score: float = 0.0
    engine_said: bool = True

    @property
    def evidence(self) -> str:
        if self.source is None or self.setting is None:
            return f"a file with the mark of SQLite: {self.place.path}"
        others = [k for r, k in self.keys.items() if k != self.setting.key and r not in ("path_pattern",)]
        more = f" ({', '.join(others[:4])})" if others else ""
        return self.source.evidence(self.setting) + more


@dataclass(frozen=True)
class Tried:
    """A candidate and what came of opening it for reading."""

    candidate: Candidate
    answered: bool
    tables: int
    told: str


def sqlite_files(root: ReadPath, entries: Mapping[str, Entry]) -> list[str]:
    """The files of the tree that are SQLite databases, the largest first."""
    found = []
    for path, entry in entries.items():
        if entry.kind == "file" and entry.size >= 512 and entry.size % 512 == 0:
            try:
                with (root / path).open_binary() as file:
                    if file.read(16) == SQLITE.magic:
                        found.append((entry.size, path))
            except OSError:
                continue
    return [p for _, p in sorted(found, reverse=True)]


def database_candidates(ground: Ground, entries: Mapping[str, Entry], sources: Sequence[Source]) -> list[Candidate]:
    """Every way to a database that the settings speak of, the most likely first; then SQLite files that nobody speaks
    of."""
    files = sqlite_files(ground.root, entries)
    found: list[Candidate] = []
    for source in sources:
        if source.example:
            continue
        found += _in_texts(ground, source)
        for group in groups_of(source):
            found += _in_group(ground, source, group, files)
        found += _in_calls(ground, source)
    known = {c.place.path.resolve() for c in found if c.place.path is not None}
    found += [
        Candidate(DatabasePlace(SQLITE.name, ground.file(f)), None, score=-1.0)
        for f in files
        if ground.file(f).resolve() not in known
    ]
    best: dict[str, Candidate] = {}
    for candidate in sorted(found, key=lambda c: -c.score):
        best.setdefault(f"{candidate.place.url} {candidate.place.password}", candidate)
    return list(best.values())


def _in_texts(ground: Ground, source: Source) -> Iterator[Candidate]:
    """Connection URLs and data source names."""
    for setting in source.settings:
        text = setting.value
        if len(text) > 2000 or ":" not in text or not re.match(r"[A-Za-z][\w+.-]*:", text):
            continue
        place = place_of_text(text, Path(ground.place)) or place_of_text(text, ground.file("", _folder(source)))
        if place is None:
            continue
        keys = {"url": setting.key}
        if not place.user and place.on_server:
            beside = _beside(source, setting)
            keys |= {role: s.key for role, s in beside.items()}
            place = replace(
                place, user=beside["user"].value if "user" in beside else "",
                password=place.password or (beside["password"].value if "password" in beside else ""),
            )  # fmt: skip
        yield Candidate(place, source, keys, setting, source.score + 3)


def _beside(source: Source, setting: Setting) -> dict[str, Setting]:
    """User and password that stand beside a data source name: in its group, or as the next arguments of its call."""
    for group in groups_of(source):
        if setting in group.members.values():
            return {r: group.members[r] for r in ("user", "password") if r in group.members}
    for _, arguments in calls_of(source):
        if arguments.get(0) == setting:
            return {r: arguments[n] for r, n in (("user", 1), ("password", 2)) if n in arguments}
    return {}


def _in_group(ground: Ground, source: Source, group: Group, files: Sequence[str]) -> Iterator[Candidate]:
    said = {role: s.value.strip() for role, s in group.members.items()}
    engine = engine_of(said["engine"]) if said.get("engine") else None
    if (
        "engine" in said
        and said["engine"]
        and engine is None
        and not re.fullmatch(r"(?i)(pdo|odbc|native|innodb|local)", said["engine"])
    ):
        return
    if engine is None and _NO_DATABASE.search(group.name):
        return
    keys = {role: s.key for role, s in group.members.items() if role != "url"}
    score = source.score + (1.5 if _DATABASE_WORD.search(group.name) else 0) + (1.5 if engine else 0)
    named = said.get("name") or ""
    in_file = engine is not None and kind_of(engine).is_file
    if in_file or (engine is None and not said.get("user") and (said.get("path") or named)):
        yield from _as_file(ground, source, group, files, score, keys, sure=in_file)
        if in_file:
            return
    if not named or len(named) > 64 or re.search(r"[\s/\\:]", named) or named.isdigit():
        return
    if not (said.get("user") or said.get("socket") or said.get("host")) or not ({"user", "password"} & said.keys()):
        return
    host, port, socket = split_host(said.get("host", ""))
    port, socket = said.get("port") or port, said.get("socket") or socket
    number = int(port) if port.isdigit() else 0
    engines = [engine] if engine else _engines_by(number, socket, source)
    for nth, one in enumerate(engines):
        place = server_place(one, host, port, socket, named, said.get("user", ""), said.get("password", ""))
        yield Candidate(
            place, source, keys, group.members["name"], score + 0.5 * len(said) - nth, engine_said=engine is not None
        )


def _engines_by(port: int, socket: str, source: Source) -> list[str]:
    servers = [k for k in KINDS.values() if k.on_server]
    by_sign = [k.name for k in servers if port == k.port or any(w in socket for w in k.socket_words)]
    # Nothing says it: which is tried first is decided by what is usual for the language.
    in_order = [k.name for k in servers]
    return by_sign[:1] or (in_order[::-1] if source.form == "python" else in_order)


def _as_file(
    ground: Ground, source: Source, group: Group, files: Sequence[str], score: float, keys: dict[str, str], *,
    sure: bool,
) -> Iterator[Candidate]:  # fmt: skip
    """A SQLite file, by a path or by a bare name that stands for a file somewhere in the tree."""
    for role in ("path", "name"):
        setting = group.members.get(role)
        text = setting.value.strip() if setting is not None else ""
        if setting is None or not text or "\n" in text or len(text) > 500:
            continue
        own = {"engine": keys["engine"]} if "engine" in keys else {}
        for base in ("", _folder(source)):
            if _is_sqlite(ground.anywhere(text, base)):
                here = {"path_pattern": f"{base}/{{}}"} if base else {}
                place = DatabasePlace(SQLITE.name, ground.file(text, base))
                yield Candidate(place, source, {**own, "path": setting.key, **here}, setting, score + 3)
                return
        if "/" not in text:
            for file in files:
                name = PurePosixPath(file).name
                if name == text or re.fullmatch(re.escape(text) + r"\.(db|sqlite3?|s3db|db3)", name):
                    pattern = file[: len(file) - len(name)] + name.replace(text, "{}", 1)
                    keys_here = {**own, "path": setting.key, "path_pattern": pattern}
                    yield Candidate(
                        DatabasePlace(SQLITE.name, ground.file(file)), source, keys_here, setting, score + 2
                    )
                    return
        if sure:
            yield Candidate(
                DatabasePlace(SQLITE.name, ground.file(text)), source, {**own, "path": setting.key}, setting, score
            )
            return


def _folder(source: Source) -> str:
    """The folder of a settings file, from the site's on."""
    return posixpath.dirname(source.path)


def _is_sqlite(path: ReadPath) -> bool:
    try:
        with path.open_binary() as file:
            return file.read(16) == SQLITE.magic
    except (OSError, ValueError):
        return False


def _in_calls(ground: Ground, source: Source) -> Iterator[Candidate]:
    """Host, user, password and name as the arguments of a call, in the order that is usual."""
    for called, given in calls_of(source):
        if not _OPENS.search(called) or not {0, 1, 2, 3} <= given.keys():
            continue
        host_text, user, password, name = (given[n].value for n in range(4))
        if (
            not re.fullmatch(r"[\w.$-]{1,64}", name)
            or not user
            or " " in host_text
            or place_of_text(host_text, Path(ground.place)) is not None
        ):
            continue
        host, port, socket = split_host(host_text)
        keys = {role: given[n].key for n, role in enumerate(("host", "user", "password", "name"))}
        if 4 in given and given[4].value.isdigit():
            port, keys["port"] = given[4].value, given[4].key
        engine = engine_of(called)
        engines = [engine] if engine else _engines_by(int(port) if port.isdigit() else 0, socket, source)
        for nth, one in enumerate(engines):
            place = server_place(one, host, port, socket, name, user, password)
            yield Candidate(place, source, keys, given[3], source.score + 2 - nth, engine_said=engine is not None)


Opener = Callable[[DatabasePlace], int]
"""Opens a database for reading and says how many tables it has. Raises `KeenHarborError` when it cannot."""


def count_tables(place: DatabasePlace) -> int:
    """Open the database for reading. A file that is not there is not made."""
    database = open_database(place)
    if not database.exists():
        raise KeenHarborError("it is not there", where=str(place))
    with database.reading() as state:
        return len(state.schema.tables)


def try_candidates(candidates: Sequence[Candidate], opener: Opener = count_tables) -> list[Tried]:
    """Each candidate with what came of it; those that answer stand first, by tables, then by what speaks for them."""
    tried: list[Tried] = []
    for candidate in candidates[:_MOST_TRIED]:
        try:
            tables = opener(candidate.place)
            tried.append(Tried(candidate, True, tables, f"it answers, with {tables} tables"))
        except KeenHarborError as error:
            tried.append(Tried(candidate, False, 0, error.what))
    return sorted(tried, key=lambda t: (not t.answered, t.tables == 0, -t.candidate.score))
