"""SQLite."""

from __future__ import annotations

from collections.abc import Sequence

from keenharbor.database.allowed.rules import COMMON, Allowed, DefinitionRefused, Token, lexer

_MODULES = {"FTS3", "FTS4", "FTS5", "RTREE", "RTREE_I32", "GEOPOLY"}


def _virtual_table(found: Sequence[Token], target: Sequence[Token]) -> None:
    using = next((n for n, t in enumerate(found) if t.kind == "word" and t.text == "USING"), None)
    module = found[using + 1].text.strip('"`[]').upper() if using is not None and using + 1 < len(found) else ""
    if module not in _MODULES:
        raise DefinitionRefused(f"the module {module.lower() or '(none)'} is not one that only keeps rows")


ALLOWED = Allowed(
    "sqlite",
    lexer(
        r"(?P<comment>--[^\n]*|/\*.*?(?:\*/|$))|(?P<name>\"(?:[^\"]|\"\")*\"|`(?:[^`]|``)*`|\[[^\]]*\])|"
        + COMMON.replace(r"[^'\\]|''|\\.", "[^']|''")
    ),
    {
        "table": r"CREATE TABLE", "virtual": r"CREATE VIRTUAL TABLE", "shadow": r"CREATE TABLE",
        "internal": r"CREATE TABLE",
        "index": r"CREATE (?:UNIQUE )?INDEX", "view": r"CREATE VIEW", "trigger": r"CREATE TRIGGER",
    },
    {"virtual": _virtual_table},
)  # fmt: skip
