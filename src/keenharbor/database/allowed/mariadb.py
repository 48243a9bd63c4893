"""MariaDB."""

from __future__ import annotations

import re
from collections.abc import Sequence

from keenharbor.database.allowed.rules import COMMON, Allowed, DefinitionRefused, Token, lexer

_TABLE_ENGINES = {"INNODB", "MYISAM", "ARIA", "MEMORY", "HEAP", "ARCHIVE", "ROCKSDB", "COLUMNSTORE", "SEQUENCE"}
_SESSION = re.compile(r"SET sql_mode = '[A-Z_,]*', collation_connection = \w+(?:, time_zone = '[\w/+:-]*')?;")


def _table(found: Sequence[Token], target: Sequence[Token]) -> None:
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


ALLOWED = Allowed(
    "mariadb",
    lexer(
        r"(?P<runs>/\*M?!)|(?P<comment>(?:--[ \t\n]|\#)[^\n]*|/\*.*?(?:\*/|$))|(?P<name>`(?:[^`]|``)*`)|"
        r"(?P<text2>\"(?:[^\"\\]|\"\"|\\.)*\")|" + COMMON
    ),
    {
        "table": r"CREATE TABLE", "sequence": r"CREATE SEQUENCE",
        "view": r"CREATE (?:ALGORITHM = \w+ |SQL SECURITY \w+ )*VIEW",
        "function": r"CREATE (?:AGGREGATE )?FUNCTION", "procedure": r"CREATE PROCEDURE", "trigger": r"CREATE TRIGGER",
        "event": r"CREATE EVENT",
    },
    {"table": _table},
    _SESSION,
)  # fmt: skip
