"""PostgreSQL."""

from __future__ import annotations

from collections.abc import Sequence

from keenharbor.database.allowed.rules import COMMON, Allowed, DefinitionRefused, Token, lexer

_LANGUAGES = {"SQL", "PLPGSQL"}
_EXTENSIONS = {
    "BTREE_GIN", "BTREE_GIST", "CITEXT", "CUBE", "DICT_INT", "DICT_XSYN", "EARTHDISTANCE", "FUZZYSTRMATCH", "HSTORE",
    "INTARRAY", "ISN", "LO", "LTREE", "PG_TRGM", "PGCRYPTO", "PLPGSQL", "POSTGIS", "POSTGIS_TOPOLOGY", "SEG",
    "TABLEFUNC",
    "TCN", "TSM_SYSTEM_ROWS", "TSM_SYSTEM_TIME", "UNACCENT", "UUID-OSSP", "VECTOR",
}  # fmt: skip


def _extension(found: Sequence[Token], target: Sequence[Token]) -> None:
    if not target or target[0].text.strip('"').upper() not in _EXTENSIONS:
        raise DefinitionRefused(f"the extension {target[0].text if target else ''} may reach beyond the database")


def _function(found: Sequence[Token], target: Sequence[Token]) -> None:
    languages = [
        found[n + 1].text.strip("'\"").upper() for n, t in enumerate(found[:-1]) if t == Token("word", "LANGUAGE")
    ]
    if not languages or not set(languages) <= _LANGUAGES:
        raise DefinitionRefused(
            f"its language {', '.join(languages).lower() or '(none)'} may reach beyond the database"
        )


ALLOWED = Allowed(
    "postgres",
    lexer(
        r"(?P<dollar>\$(?P<tag>\w*)\$.*?\$(?P=tag)\$)|(?P<comment>--[^\n]*|/\*.*?(?:\*/|$))|"
        r"(?P<name>\"(?:[^\"]|\"\")*\")|(?P<escaped>[eE]'(?:[^'\\]|''|\\.)*')|"
        + COMMON.replace(r"[^'\\]|''|\\.", "[^']|''")
    ),
    {
        "table": r"CREATE (?:UNLOGGED )?TABLE", "schema": r"CREATE SCHEMA",
        "extension": r"CREATE EXTENSION IF NOT EXISTS",
        "collation": r"CREATE COLLATION", "type": r"CREATE (?:TYPE|DOMAIN)", "sequence": r"CREATE SEQUENCE",
        "owned sequence": r"ALTER SEQUENCE .* OWNED BY", "function": r"CREATE OR REPLACE (?:FUNCTION|PROCEDURE)",
        "aggregate": r"CREATE AGGREGATE", "index": r"CREATE (?:UNIQUE )?INDEX",
        "constraint": r"ALTER TABLE (?:ONLY )?.* ADD CONSTRAINT",
        "partition": r"ALTER TABLE (?:ONLY )?.* ATTACH PARTITION", "view": r"CREATE VIEW",
        "materialized view": r"CREATE MATERIALIZED VIEW", "rule": r"CREATE RULE",
        "trigger": r"CREATE (?:CONSTRAINT )?TRIGGER",
        "trigger state": r"ALTER TABLE .* (?:ENABLE|DISABLE)(?: ALWAYS| REPLICA)? TRIGGER", "policy": r"CREATE POLICY",
        "row security": r"ALTER TABLE .* ROW LEVEL SECURITY", "statistics": r"CREATE STATISTICS",
        "comment": r"COMMENT ON",
        "index attachment": r"ALTER INDEX .* ATTACH PARTITION", "cluster": r"ALTER TABLE .* CLUSTER ON",
        "replica identity": r"ALTER TABLE .* REPLICA IDENTITY",
    },
    {"extension": _extension, "function": _function},
    reaches_other_databases=False,
)  # fmt: skip
