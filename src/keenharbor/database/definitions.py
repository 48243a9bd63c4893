"""Definitions that come from outside (an archive) are not executed as found: each must be one statement that makes one thing
of an allowed kind, in this database alone.

What a definition holds is told apart as the engines' own lexers do (SQL-92, 5.2; strings, quoted names, comments; dollar quotes
of PostgreSQL, https://www.postgresql.org/docs/current/sql-syntax-lexical.html). Comments that MariaDB executes are refused.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from keenharbor.base.errors import KeenHarborError
from keenharbor.database.protocol import Schema


class DefinitionRefused(KeenHarborError):
    """A definition that is not carried out."""


@dataclass(frozen=True)
class Token:
    """``kind``: word, name (quoted), text, other (a sign)."""

    kind: str
    text: str


_COMMON = r"(?P<space>\s+)|(?P<text>'(?:[^'\\]|''|\\.)*')|(?P<word>[^\W\d][\w$]*)|(?P<number>\d[\w.]*)|(?P<other>.)"
_LEXERS = {
    "sqlite": r"(?P<comment>--[^\n]*|/\*.*?(?:\*/|$))|(?P<name>\"(?:[^\"]|\"\")*\"|`(?:[^`]|``)*`|\[[^\]]*\])|"
    + _COMMON.replace(r"[^'\\]|''|\\.", "[^']|''"),
    "mariadb": r"(?P<runs>/\*M?!)|(?P<comment>(?:--[ \t\n]|\#)[^\n]*|/\*.*?(?:\*/|$))|(?P<name>`(?:[^`]|``)*`)|"
    r"(?P<text2>\"(?:[^\"\\]|\"\"|\\.)*\")|" + _COMMON,
    "postgres": r"(?P<dollar>\$(?P<tag>\w*)\$.*?\$(?P=tag)\$)|(?P<comment>--[^\n]*|/\*.*?(?:\*/|$))|"
    r"(?P<name>\"(?:[^\"]|\"\")*\")|(?P<escaped>[eE]'(?:[^'\\]|''|\\.)*')|" + _COMMON.replace(r"[^'\\]|''|\\.", "[^']|''"),
}  # fmt: skip
_COMPILED = {engine: re.compile(lexer, re.DOTALL) for engine, lexer in _LEXERS.items()}


def tokens(engine: str, text: str) -> Iterator[Token]:
    """The tokens of a definition, without blanks and comments. Raises `DefinitionRefused` for a comment that is executed."""
    for found in _COMPILED[engine].finditer(text):
        kind = found.lastgroup if found.lastgroup != "tag" else "dollar"
        if kind in ("space", "comment"):
            continue
        if kind == "runs":
            raise DefinitionRefused("it holds a comment that the server would execute")
        if kind in ("text", "text2", "dollar", "escaped"):
            yield Token("text", found[0])
        elif kind == "name":
            yield Token("name", found[0])
        elif kind == "word":
            yield Token("word", found[0].upper())
        else:
            yield Token("other", found[0])


_TABLE = r"CREATE (?:UNLOGGED )?TABLE"
_SHAPES: Mapping[str, Mapping[str, str]] = {
    "sqlite": {
        "table": r"CREATE TABLE", "virtual": r"CREATE VIRTUAL TABLE", "shadow": r"CREATE TABLE", "internal": r"CREATE TABLE",
        "index": r"CREATE (?:UNIQUE )?INDEX", "view": r"CREATE VIEW", "trigger": r"CREATE TRIGGER",
    },
    "mariadb": {
        "table": r"CREATE TABLE", "sequence": r"CREATE SEQUENCE", "view": r"CREATE (?:ALGORITHM = \w+ |SQL SECURITY \w+ )*VIEW",
        "function": r"CREATE (?:AGGREGATE )?FUNCTION", "procedure": r"CREATE PROCEDURE", "trigger": r"CREATE TRIGGER",
        "event": r"CREATE EVENT",
    },
    "postgres": {
        "table": _TABLE, "schema": r"CREATE SCHEMA", "extension": r"CREATE EXTENSION IF NOT EXISTS",
        "collation": r"CREATE COLLATION", "type": r"CREATE (?:TYPE|DOMAIN)", "sequence": r"CREATE SEQUENCE",
        "owned sequence": r"ALTER SEQUENCE .* OWNED BY", "function": r"CREATE OR REPLACE (?:FUNCTION|PROCEDURE)",
        "aggregate": r"CREATE AGGREGATE", "index": r"CREATE (?:UNIQUE )?INDEX",
        "constraint": r"ALTER TABLE (?:ONLY )?.* ADD CONSTRAINT",
        "partition": r"ALTER TABLE (?:ONLY )?.* ATTACH PARTITION", "view": r"CREATE VIEW",
        "materialized view": r"CREATE MATERIALIZED VIEW", "rule": r"CREATE RULE", "trigger": r"CREATE (?:CONSTRAINT )?TRIGGER",
        "trigger state": r"ALTER TABLE .* (?:ENABLE|DISABLE)(?: ALWAYS| REPLICA)? TRIGGER", "policy": r"CREATE POLICY",
        "row security": r"ALTER TABLE .* ROW LEVEL SECURITY", "statistics": r"CREATE STATISTICS", "comment": r"COMMENT ON",
        "index attachment": r"ALTER INDEX .* ATTACH PARTITION", "cluster": r"ALTER TABLE .* CLUSTER ON",
        "replica identity": r"ALTER TABLE .* REPLICA IDENTITY",
    },
}  # fmt: skip
_MODULES = {"FTS3", "FTS4", "FTS5", "RTREE", "RTREE_I32", "GEOPOLY"}
_TABLE_ENGINES = {"INNODB", "MYISAM", "ARIA", "MEMORY", "HEAP", "ARCHIVE", "ROCKSDB", "COLUMNSTORE", "SEQUENCE"}
_LANGUAGES = {"SQL", "PLPGSQL"}
_EXTENSIONS = {
    "BTREE_GIN", "BTREE_GIST", "CITEXT", "CUBE", "DICT_INT", "DICT_XSYN", "EARTHDISTANCE", "FUZZYSTRMATCH", "HSTORE",
    "INTARRAY", "ISN", "LO", "LTREE", "PG_TRGM", "PGCRYPTO", "PLPGSQL", "POSTGIS", "POSTGIS_TOPOLOGY", "SEG", "TABLEFUNC",
    "TCN", "TSM_SYSTEM_ROWS", "TSM_SYSTEM_TIME", "UNACCENT", "UUID-OSSP", "VECTOR",
}  # fmt: skip
_SESSION = re.compile(r"SET sql_mode = '[A-Z_,]*', collation_connection = \w+(?:, time_zone = '[\w/+:-]*')?;")


def check_definitions(schema: Schema) -> None:
    """Raise `DefinitionRefused` for the first definition of a schema that would not only make what it is said to be."""
    for table in schema.tables:
        kind = "virtual" if table.kind == "virtual" else "table"
        check_definition(schema.engine, kind, table.name, table.ddl)
    for kind, name, ddl in schema.objects:
        check_definition(schema.engine, kind, name, ddl)


def check_definition(engine: str, kind: str, name: str, ddl: str) -> None:
    """The same for one definition."""
    try:
        _check(engine, kind, ddl)
    except DefinitionRefused as refused:
        raise DefinitionRefused(f"the definition of {kind} {name!r} is not carried out: {refused.what}") from None


def _check(engine: str, kind: str, ddl: str) -> None:
    shapes = _SHAPES.get(engine)
    if shapes is None or kind not in shapes:
        raise DefinitionRefused(f"no {engine} database has such")
    if "\x00" in ddl:
        raise DefinitionRefused("it holds a NUL")
    if engine == "mariadb" and ddl.startswith("SET "):
        before, _, ddl = ddl.partition("\n")
        if not _SESSION.fullmatch(before):
            raise DefinitionRefused("what is set before it is not what the tool sets")
    found = list(tokens(engine, ddl))
    if _statements(found, kind) != 1:
        raise DefinitionRefused("it is not one statement")
    shown = " ".join(t.text if t.kind == "word" else "=" if t.text == "=" else "." for t in found)
    shape = re.match(shapes[kind] + r"(?= |$)", shown)
    if shape is None:
        raise DefinitionRefused(f"it begins with {' '.join(shown.split()[:3])}")
    target = found[shape[0].count(" ") + 1 :]
    if engine != "postgres":
        _own_database(target)
    _SPECIAL.get((engine, kind), _nothing)(found, target)


def _statements(found: Sequence[Token], kind: str) -> int:
    """How many statements there are; those of a body (between BEGIN and END) belong to theirs."""
    count, depth, empty = 0, 0, True
    bodies = kind in ("trigger", "function", "procedure", "event")
    for at, token in enumerate(found):
        if token.kind == "word" and bodies:
            after = found[at + 1].text if at + 1 < len(found) else ""
            closes = at > 0 and found[at - 1] == Token("word", "END")  # END CASE
            if token.text in ("BEGIN", "CASE") and not closes:
                depth += 1
            elif token.text == "END" and depth and after not in ("IF", "LOOP", "REPEAT", "WHILE", "FOR"):
                depth -= 1
        if token.kind == "other" and token.text == ";" and depth == 0:
            empty = True
        elif empty:
            count, empty = count + 1, False
    return count


def _own_database(target: Sequence[Token]) -> None:
    """What is made must not be named with another database's name."""
    words = [t for t in target if not (t.kind == "word" and t.text in ("IF", "NOT", "EXISTS"))]
    if len(words) > 1 and words[1].text == ".":
        raise DefinitionRefused("it names another database")


def _nothing(found: Sequence[Token], target: Sequence[Token]) -> None:
    pass


def _virtual_table(found: Sequence[Token], target: Sequence[Token]) -> None:
    using = next((n for n, t in enumerate(found) if t.kind == "word" and t.text == "USING"), None)
    module = found[using + 1].text.strip('"`[]').upper() if using is not None and using + 1 < len(found) else ""
    if module not in _MODULES:
        raise DefinitionRefused(f"the module {module.lower() or '(none)'} is not one that only keeps rows")


def _mariadb_table(found: Sequence[Token], target: Sequence[Token]) -> None:
    words = [t.text for t in found]
    for at, token in enumerate(found):
        if token.kind != "word":
            continue
        after = words[at + 1 : at + 3]
        if token.text == "ENGINE" and after[:1] == ["="] and after[1].strip("`'").upper() not in _TABLE_ENGINES:
            raise DefinitionRefused(f"the engine {after[1]} reaches beyond the database")
        if token.text in ("DATA", "INDEX") and after[:1] == ["DIRECTORY"]:
            raise DefinitionRefused("it names a folder of the server's machine")
        if token.text in ("CONNECTION", "UNION") and after[:1] == ["="]:
            raise DefinitionRefused("it names another place")
        if token.text in ("SELECT", "TABLE") and at > 1:
            raise DefinitionRefused("it is filled from elsewhere")


def _postgres_extension(found: Sequence[Token], target: Sequence[Token]) -> None:
    if not target or target[0].text.strip('"').upper() not in _EXTENSIONS:
        raise DefinitionRefused(f"the extension {target[0].text if target else ''} may reach beyond the database")


def _postgres_function(found: Sequence[Token], target: Sequence[Token]) -> None:
    languages = [
        found[n + 1].text.strip("'\"").upper() for n, t in enumerate(found[:-1]) if t == Token("word", "LANGUAGE")
    ]
    if not languages or not set(languages) <= _LANGUAGES:
        raise DefinitionRefused(
            f"its language {', '.join(languages).lower() or '(none)'} may reach beyond the database"
        )


_SPECIAL = {
    ("sqlite", "virtual"): _virtual_table,
    ("mariadb", "table"): _mariadb_table,
    ("postgres", "extension"): _postgres_extension,
    ("postgres", "function"): _postgres_function,
}
