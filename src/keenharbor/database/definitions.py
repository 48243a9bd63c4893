"""Definitions that come from outside (an archive) are not executed as found: each must be one statement that makes one
thing of an allowed kind, in this database alone. What is allowed is told by a module an engine,
`keenharbor.database.allowed`.

What a definition holds is told apart as the engines' own lexers do (SQL-92, 5.2; strings, quoted names, comments;
dollar quotes of PostgreSQL, https://www.postgresql.org/docs/current/sql-syntax-lexical.html). Comments that MariaDB
executes are refused."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from keenharbor.database.allowed import MARIADB, POSTGRES, SQLITE
from keenharbor.database.allowed.rules import Allowed, DefinitionRefused, Token
from keenharbor.database.protocol import Schema

_ALLOWED: dict[str, Allowed] = {a.engine: a for a in (SQLITE, MARIADB, POSTGRES)}


def tokens(engine: str, text: str) -> Iterator[Token]:
    """The tokens of a definition, without blanks and comments. Raises `DefinitionRefused` for a comment that is
    executed."""
    for found in _ALLOWED[engine].lexer.finditer(text):
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
    allowed = _ALLOWED.get(engine)
    if allowed is None or kind not in allowed.shapes:
        raise DefinitionRefused(f"no {engine} database has such")
    if "\x00" in ddl:
        raise DefinitionRefused("it holds a NUL")
    if allowed.set_before is not None and ddl.startswith("SET "):
        before, _, ddl = ddl.partition("\n")
        if not allowed.set_before.fullmatch(before):
            raise DefinitionRefused("what is set before it is not what the tool sets")
    found = list(tokens(engine, ddl))
    if _statements(found, kind) != 1:
        raise DefinitionRefused("it is not one statement")
    shown = " ".join(t.text if t.kind == "word" else "=" if t.text == "=" else "." for t in found)
    shape = re.match(allowed.shapes[kind] + r"(?= |$)", shown)
    if shape is None:
        raise DefinitionRefused(f"it begins with {' '.join(shown.split()[:3])}")
    target = found[shape[0].count(" ") + 1 :]
    if allowed.reaches_other_databases:
        _own_database(target)
    if kind in allowed.special:
        allowed.special[kind](found, target)


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
