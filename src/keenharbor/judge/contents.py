"""What stands in the way of an upgrade in the database itself: engine, rights, old kinds of tables, rows that name what
is not there, changes of the definitions that are still pending."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator

from keenharbor.base.errors import UsageError
from keenharbor.base.text import plural
from keenharbor.database import DatabaseState, Schema, Table
from keenharbor.database.kinds import NO_ENGINE, SCHEMES
from keenharbor.site.checks import Check, Verdict
from keenharbor.site.feed import Release, allows
from keenharbor.site.view import SiteView

MOST_ROWS = 500_000
"""Of larger tables it is not asked whether their rows name what is there: it would hold up the answer."""
_VERSION = re.compile(r"\d+(?:\.\d+)*")
_NAME = r'["`\[]?(\w+)["`\]]?'
_REFERENCE = re.compile(
    rf"FOREIGN KEY\s*\(\s*{_NAME}\s*\)\s*REFERENCES\s+{_NAME}\s*(?:\(\s*{_NAME}\s*\))?", re.IGNORECASE
)
_INLINE = re.compile(
    rf"[(,]\s*{_NAME}\s+[^,()]*?(?:\([^()]*\)[^,()]*?)?\bREFERENCES\s+{_NAME}\s*(?:\(\s*{_NAME}\s*\))?", re.IGNORECASE
)


def database_checks(site: SiteView, release: Release, target: str, wanted: str | None = None) -> list[Check]:
    """Whether the target runs on the site's database engine and version (or on those ``wanted``), and whether its user
    may do what a snapshot needs."""
    database = site.database
    if database.engine == NO_ENGINE or not database.exists():
        return []
    now_engine = database.engine
    found = _VERSION.search(database.version())
    now_version = found[0] if found else "0"
    engine, version = _wanted(wanted, now_engine, now_version)
    checks = []
    if engine != now_engine:
        reason = f"the site is on {now_engine} {now_version}, and {engine} is another engine"
        checks.append(Check("database engine", Verdict.BLOCKED, reason,
                            "move it by the system's own means first, then draft the upgrade anew"))  # fmt: skip
    elif version != now_version:
        reason = f"{engine} {now_version} → {version}: upgrade the server by itself, before or after, never in one step"
        remedy = "a trial runs on the server program that is installed here: install that version"
        checks.append(Check("database server", Verdict.CAUTION, reason, remedy))
    asked = release.requires.database
    if asked and engine not in asked:
        there = ", ".join(sorted(asked))
        checks.append(Check("database", Verdict.BLOCKED, f"{target} does not run on {engine} any more (it runs on: "
            f"{there})",
                            "move the database to another engine first"))  # fmt: skip
    elif asked and not allows(asked[engine], version):
        checks.append(Check("database", Verdict.BLOCKED, f"{target} wants {engine} {asked[engine]}; the site has "
            f"{version}",
                            "upgrade the database server first"))  # fmt: skip
    else:
        told = f"{engine} {version}" + (" fits" if asked else "; the feed asks for none in particular")
        checks.append(Check("database", Verdict.CLEAR, told))
    for words in database.lacking():
        checks.append(Check("database rights", Verdict.CAUTION, f"the database user cannot {words}",
                            "grant it, or a snapshot is not whole"))  # fmt: skip
    return checks


def _wanted(text: str | None, engine: str, version: str) -> tuple[str, str]:
    """Engine and version in ``mariadb 11.4``, ``11.4`` or ``postgres``. Raises `UsageError` for anything else."""
    if text is None:
        return engine, version
    words = text.replace(":", " ").split()
    named = SCHEMES.get(words[0].lower()) if words else None
    rest = words[1:] if named else words
    if len(rest) > 1 or (not named and not rest) or (rest and not _VERSION.fullmatch(rest[0])):
        raise UsageError(
            f"--database {text}: an engine, a version, or both are wanted", advice="such as 'mariadb 11.4'"
        )
    return named or engine, rest[0] if rest else version


def contents_checks(site: SiteView) -> list[Check]:
    """Old kinds of tables and character sets, definitions that do not go together, rows that name what is not there,
    pending changes of definitions. Reads only."""
    if site.database.engine == NO_ENGINE or not site.database.exists():
        return []
    with site.reading_database() as state:
        checks = [*_kinds_of_tables(state.schema), *_unlike_definitions(state.schema), *_orphaned_rows(state)]
    return checks + _pending(site)


def _kinds_of_tables(schema: Schema) -> Iterator[Check]:
    engines: Counter[str] = Counter()
    charsets: dict[str, list[str]] = {}
    old: list[str] = []
    for table in schema.tables:
        engine = re.search(r"\)\s*ENGINE=(\w+)", table.ddl)
        if engine is not None:
            engines[engine[1]] += 1
            if engine[1].lower() not in ("innodb", "memory", "sequence"):
                old.append(f"{table.name} ({engine[1]})")
        for charset in {c.lower() for c in re.findall(r"(?:CHARSET=|CHARACTER SET )(\w+)", table.ddl)}:
            charsets.setdefault(charset, []).append(table.name)
    if old:
        reason = f"{plural(len(old), 'table knows', 'tables know')} no transactions: {_listed(old)}"
        remedy = "convert them (ALTER TABLE … ENGINE=InnoDB): in them a failed migration stays half-way"
        yield Check("table engines", Verdict.CAUTION, reason, remedy)
    narrow = {c: t for c, t in charsets.items() if c not in ("utf8mb4", "binary", "ascii")}
    if narrow:
        told = "; ".join(f"{c}: {_listed(sorted(t))}" for c, t in sorted(narrow.items()))
        yield Check("character sets", Verdict.CAUTION, f"not every text fits into {told}",
                    "convert them to utf8mb4, on a clone first")  # fmt: skip


def _references(schema: Schema) -> Iterator[tuple[Table, str, Table, str, bool]]:
    """Columns that name a row of another table: declared, or by their name (``seed_id`` for ``seeds``). The last says
    which."""
    tables = {t.bare_name.lower(): t for t in schema.tables if t.kind == "table"}
    for table in tables.values():
        declared = set()
        for pattern in (_REFERENCE, _INLINE):
            for column, other, key in pattern.findall(table.ddl):
                parent = tables.get(other.lower())
                if parent is not None and column in table.columns and column not in declared:
                    declared.add(column)
                    target = key or (parent.key[0] if len(parent.key) == 1 else "")
                    if target in parent.columns:
                        yield table, column, parent, target, True
        for column in table.columns:
            stem = column.lower().removesuffix("_id")
            if column in declared or stem == column.lower() or not stem:
                continue
            parent = next((tables[n] for n in (stem, f"{stem}s", f"{stem}es", f"{stem[:-1]}ies") if n in tables), None)
            if parent is not None and parent is not table and len(parent.key) == 1 and parent.key[0].lower() == "id":
                yield table, column, parent, parent.key[0], False


_INTEGER = re.compile(r"^(?:tiny|small|medium|big)?int(?:eger)?\b")


def _type_of(table: Table, column: str) -> str:
    """A column's type as the engine writes it, without a width that only says how it is shown; empty where it is not
    told."""
    found = re.search(
        rf"(?im)^\s*[`\"]?{re.escape(column)}[`\"]?\s+(\w+(?: varying| "
        rf"precision)?(?:\s*\([\d,\s]*\))?(?:\s+unsigned)?)",
        table.ddl,
    )
    told = " ".join(found[1].lower().split()) if found is not None else ""
    return re.sub(r"\s*\(\d+\)", "", told) if _INTEGER.match(told) else told


def _unlike_definitions(schema: Schema) -> Iterator[Check]:
    """Columns whose type is not that of what they name, and tables whose texts are compared by other rules than
    most."""
    if schema.kind.own_types:
        return  # every value has its own type there
    unlike = []
    for table, column, parent, key, declared in _references(schema):
        types = _type_of(table, column), _type_of(parent, key)
        if not declared and all(types) and types[0] != types[1]:
            unlike.append(f"{table.name}.{column} is {types[0]}, {parent.name}.{key} is {types[1]}")
    if unlike:
        yield Check("unlike columns", Verdict.CAUTION, _listed(unlike),
                    "make them alike: a migration that adds a foreign key fails on them")  # fmt: skip
    rules: dict[str, list[str]] = {}
    for table in schema.tables:
        if (rule := re.search(r"(?m)^\).*\bCOLLATE=(\w+)", table.ddl)) is not None:
            rules.setdefault(rule[1], []).append(table.name)
    if len(rules) > 1:
        usual = max(rules, key=lambda r: (len(rules[r]), r))
        others = "; ".join(f"{r}: {_listed(sorted(t))}" for r, t in sorted(rules.items()) if r != usual)
        yield Check("collations", Verdict.CAUTION, f"most tables have {usual}, but {others}",
                    "convert them to one: comparing texts of both is refused, or slow")  # fmt: skip


def _orphaned_rows(state: DatabaseState) -> Iterator[Check]:
    keys: dict[tuple[str, str], set[str] | None] = {}

    def known(table: Table, column: str) -> set[str] | None:
        place = (table.name, column)
        if place not in keys:
            at, found = table.columns.index(column), set()
            for number, row in enumerate(state.rows(table.name)):
                if number >= MOST_ROWS:
                    keys[place] = None
                    break
                found.add(str(row[at]))
            else:
                keys[place] = found
        return keys[place]

    for table, column, parent, key, declared in _references(state.schema):
        there = known(parent, key)
        named = known(table, column)
        if there is None or named is None:
            continue
        lost = named - there - {"None", "0", ""}
        if lost:
            how = "as the definition wants" if declared else "as the column's name says"
            reason = (
                f"{plural(len(lost), 'value')} of {table.name}.{column} {'names' if len(lost) == 1 else 'name'} no "
                f"row of "
            )
            reason += f"{parent.name}, {how}: {_listed(sorted(lost))}"
            yield Check("orphaned rows", Verdict.CAUTION, reason,
                        "look at them: a migration that adds a constraint fails on them")  # fmt: skip


def _pending(site: SiteView) -> list[Check]:
    command = site.model.commands.pending
    if command is None:
        return []
    ran = site.ask(command)
    if ran.code == 0:
        return [Check("pending changes", Verdict.CLEAR, "the system says that its definitions are up to date")]
    lines = ran.output.strip().splitlines()
    reason = f"'{ran.command}' ended with {ran.code}" + (f": {lines[-1][:160]}" if lines else "")
    return [Check("pending changes", Verdict.CAUTION, reason, "carry them out before the upgrade")]


def _listed(names: list[str], most: int = 4) -> str:
    return ", ".join(names[:most]) + (" …" if len(names) > most else "")
