"""Settings in PHP: constants, assignments, arrays, class properties, the arguments of calls. Read as text, never
executed.

Only what stands there as a plain value is taken: texts, numbers, true, false, null, what is joined from them with dots,
and constants that were defined above. Everything else is passed over, so a program in a settings file is of no
consequence.

The tokens follow https://www.php.net/manual/en/langref.php (strings: language.types.string).
"""

from __future__ import annotations

import itertools
import json
import posixpath
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from keenharbor.site.settings.common import DEEPEST, Lines, Setting, SettingsError, joined_key

_TOKEN = re.compile(
    r"""
      (?P<space>\s+)
    | (?P<comment>/\*.*?(?:\*/|\Z)|(?://|\#(?!\[))[^\n]*?(?=\?>|\n|\Z))
    | (?P<close>\?>)
    | (?P<variable>\$[A-Za-z_\x80-\U0010ffff][\w\x80-\U0010ffff]*)
    | (?P<name>\\?[A-Za-z_\x80-\U0010ffff][\w\x80-\U0010ffff]*(?:\\[A-Za-z_][\w]*)*)
    | (?P<number>0[xX][0-9a-fA-F_]+|0[bB][01_]+|(?:\d[\d_]*)?\.\d[\d_]*(?:[eE][+-]?\d+)?|\d[\d_]*\.?(?:[eE][+-]?\d+)?)
    | (?P<single>'(?:[^'\\]|\\.)*')
    | (?P<double>"(?:[^"\\]|\\.)*")
    | (?P<heredoc><<<[ \t]*(?P<q>['"]?)(?P<mark>[A-Za-z_]\w*)(?P=q)\r?\n(?P<body>.*?)\n?[ \t]*(?P=mark)\b)
    | (?P<op>===|!==|\?->|->|=>|==|!=|<=|>=|\?\?=|\?\?|::|\.=|&&|\|\||\.\.\.|[-+*/%.,;:?=<>!&|^~@()\[\]{}`\#"'\\])
    """,
    re.VERBOSE | re.DOTALL,
)
_OPEN = re.compile(r"<\?(?:php\b|=)?", re.IGNORECASE)
_CLOSING = {"(": ")", "[": "]", "{": "}"}
_ESCAPES = {"n": "\n", "r": "\r", "t": "\t", "v": "\v", "e": "\x1b", "f": "\f", "\\": "\\", "$": "$", '"': '"'}
_NO_KEYS = {"if", "while", "for", "foreach", "switch", "function", "fn", "match", "array", "list", "isset", "empty",
    "unset",
            "echo", "print", "exit", "die", "include", "require", "include_once", "require_once", "catch", "elseif",
            "declare",
            "define", "return", "and", "or", "dirname", "getenv", "env", "defined", "error_reporting", "ini_set",
            "implode",
            "explode", "str_replace", "preg_match", "preg_replace", "in_array", "strpos", "sprintf",
            "printf"}  # fmt: skip
_DIVIDERS = (",", ";", ")", "]", "}", "=>")
_MOST_SETTINGS = 50_000


@dataclass(frozen=True)
class _Token:
    kind: str
    text: str
    start: int
    end: int


@dataclass(frozen=True)
class _Value:
    """A value that was made out: a text (``kind`` tells what it is) or the entries of an array."""

    text: str = ""
    kind: str = "text"
    start: int = -1
    end: int = -1
    entries: tuple[tuple[str, _Value], ...] | None = None
    at: int = 0


def read_php(text: str, file: str = "") -> Iterator[Setting]:
    """Each value by its way: ``NAME`` of a constant, ``$name.key`` of a variable or property, ``key`` of a returned
    array, ``call(0)`` of an argument, ``comment.key`` of JSON in a comment. ``file`` is what ``__FILE__`` stands for.

    Raises `SettingsError` when the text has no PHP in it.
    """
    if not _OPEN.search(text):
        raise SettingsError("it holds no PHP")
    reader = _Reader(text, file)
    yield from reader.settings()


def _tokens(text: str) -> tuple[list[_Token], list[_Token]]:
    """Tokens and comments of all that stands between ``<?php`` and ``?>``."""
    tokens: list[_Token] = []
    comments: list[_Token] = []
    at = 0
    while (opened := _OPEN.search(text, at)) is not None:
        at = opened.end()
        while at < len(text):
            found = _TOKEN.match(text, at)
            if found is None:
                at += 1
                continue
            kind = str(found.lastgroup if found.lastgroup not in ("q", "mark", "body") else "heredoc")
            start, at = at, found.end()
            if kind == "close":
                break
            if kind == "comment":
                comments.append(_Token(kind, found[0], start, at))
            elif kind != "space":
                tokens.append(_Token(kind, found[0], start, at))
        else:
            break
    return tokens, comments


def _bodies_of_functions(tokens: Sequence[_Token]) -> Iterator[tuple[int, int]]:
    """The outermost bodies of functions and methods: the first and the last token of each."""
    at = 0
    while at < len(tokens):
        if tokens[at].kind != "name" or tokens[at].text.lower() != "function":
            at += 1
            continue
        while at < len(tokens) and tokens[at].text not in ("{", ";"):
            at += 1
        begin, depth = at, 0
        while at < len(tokens):
            depth += (tokens[at].text == "{") - (tokens[at].text == "}")
            at += 1
            if depth <= 0:
                break
        if at - 1 > begin:
            yield begin, at - 1


class _Reader:
    def __init__(self, text: str, file: str) -> None:
        self._text, self._file = text, file
        self._tokens, self._comments = _tokens(text)
        self._lines = Lines(text)
        self._known: dict[str, str] = {}
        self._at = 0
        self._bodies = list(_bodies_of_functions(self._tokens))
        self._inside = False

    def settings(self) -> Iterator[Setting]:
        yield from itertools.islice(itertools.chain(self._statements(), self._in_comments()), _MOST_SETTINGS)

    def _statements(self) -> Iterator[Setting]:
        bodies = iter(self._bodies)
        body = next(bodies, None)
        while self._at < len(self._tokens):
            while body is not None and self._at > body[1]:
                body = next(bodies, None)
            self._inside = body is not None and body[0] <= self._at
            yield from self._statement()
        self._inside = False

    # -- what gives a value a name ---------------------------------------------------------------------------

    def _statement(self) -> Iterator[Setting]:
        token = self._tokens[self._at]
        self._at += 1
        word = token.text.lower().lstrip("\\") if token.kind == "name" else ""
        if word == "define" and self._take("("):
            name = self._value()
            if name is not None and name.entries is None and self._take(","):
                value = self._value()
                if value is not None:
                    if value.entries is None:
                        self._known[name.text] = value.text
                    yield from self._spread(name.text, value)
        elif word == "const":
            yield from self._constants()
        elif word == "return" and self._peek() in ("[", "array"):
            value = self._value()
            if value is not None:
                yield from self._spread("", value)
        elif token.kind == "variable":
            yield from self._assigned(token)
        elif word and word not in _NO_KEYS and self._peek() == "(":
            yield from self._arguments(token.text.lstrip("\\"))

    def _constants(self) -> Iterator[Setting]:
        while self._at < len(self._tokens):
            if self._peek(1) != "=" and self._kind() == "name":  # a type before the name
                self._at += 1
            if self._kind() != "name" or self._peek(1) != "=":
                return
            name = self._tokens[self._at].text
            self._at += 2
            value = self._value()
            if value is not None:
                if value.entries is None:
                    self._known[name] = value.text
                yield from self._spread(name, value)
            if not self._take(","):
                return

    def _assigned(self, variable: _Token) -> Iterator[Setting]:
        way = [variable.text]
        while True:
            if self._peek() == "[":
                before = self._at
                self._at += 1
                key = self._value()
                if key is None or key.entries is not None or not self._take("]"):
                    self._at = before + 1
                    return
                way.append(key.text)
            elif self._peek() in ("->", "?->") and self._kind(1) == "name":
                if self._peek(2) == "(":
                    self._at += 2
                    yield from self._arguments(self._tokens[self._at - 1].text)
                    return
                way.append(self._tokens[self._at + 1].text)
                self._at += 2
            else:
                break
        if self._take("="):
            before = self._at
            value = self._value()
            if value is None:
                self._at = before  # a call may stand there, with arguments of its own
                return
            yield from self._spread(joined_key(way), value)

    def _arguments(self, called: str) -> Iterator[Setting]:
        """The plain arguments of a call, when there are at least two: that is how a connection is often opened."""
        before = self._at
        self._at += 1
        found: list[tuple[int, _Value]] = []
        number = 0
        while self._at < len(self._tokens) and self._peek() != ")":
            if self._kind() == "name" and self._peek(1) == ":" and self._peek(2) != ":":
                self._at += 2  # a named argument
            value = self._value()
            if value is not None:
                found.append((number, value))
            if not self._take(","):
                break
            number += 1
        after, self._at = self._at, before + 1
        if self._at < len(self._tokens) and len([v for _, v in found if v.entries is not None or v.text]) >= 2:
            self._at = after
            for place, value in found:
                yield from self._spread(f"{called.replace('.', '')}({place})", value)

    def _spread(self, key: str, value: _Value, depth: int = 0) -> Iterator[Setting]:
        if depth > DEEPEST:
            return
        if value.entries is None:
            write = _as_php if value.kind == "text" else str
            yield Setting(
                key, value.text, self._lines.of(value.at), value.start, value.end, value.kind, write, self._inside
            )
            return
        for name, inner in value.entries:
            part = joined_key([name])
            yield from self._spread(f"{key}.{part}" if key else part, inner, depth + 1)

    # -- values ------------------------------------------------------------------------------------------------

    def _peek(self, ahead: int = 0) -> str:
        at = self._at + ahead
        return self._tokens[at].text if at < len(self._tokens) else ""

    def _kind(self, ahead: int = 0) -> str:
        at = self._at + ahead
        return self._tokens[at].kind if at < len(self._tokens) else ""

    def _take(self, text: str) -> bool:
        if self._peek() == text:
            self._at += 1
            return True
        return False

    def _value(self, depth: int = 0) -> _Value | None:
        """The value up to the next divider; None (and all of it passed over) when it is not plain."""
        value = self._term(depth)
        while value is not None and self._peek() == ".":
            self._at += 1
            other = self._term(depth)
            if other is None or value.entries is not None or other.entries is not None:
                value = None
                break
            value = _Value(value.text + other.text, at=value.at)
        while value is None and self._is_question():  # getenv('X') ?: 'what else'
            value = self._value(depth)
            if value is not None and value.entries is None:
                value = _Value(value.text, value.kind, value.start, value.end, None, value.at)
        if self._at >= len(self._tokens) or self._peek() in _DIVIDERS:
            return value
        plain = value if self._peek() in ("??", "?") else None  # what is given for the case that there is none
        self._skip()
        return plain

    def _is_question(self) -> bool:
        if self._peek() == "??":
            self._at += 1
            return True
        if self._peek() == "?" and self._peek(1) == ":":
            self._at += 2
            return True
        return False

    def _skip(self) -> None:
        """To the divider behind the value that stands here."""
        depth = 0
        while self._at < len(self._tokens):
            text = self._tokens[self._at].text if self._kind() == "op" else ""
            if depth == 0 and text in _DIVIDERS:
                return
            depth += (text in _CLOSING) - (text in (")", "]", "}") and depth > 0)
            self._at += 1

    def _term(self, depth: int) -> _Value | None:
        if depth > DEEPEST or self._at >= len(self._tokens):
            return None
        token = self._tokens[self._at]
        self._at += 1
        if token.kind == "single":
            return _Value(
                re.sub(r"\\([\\'])", r"\1", token.text[1:-1]), "text", token.start, token.end, None, token.start
            )
        if token.kind == "double":
            text = _double_quoted(token.text[1:-1])
            return None if text is None else _Value(text, "text", token.start, token.end, None, token.start)
        if token.kind == "heredoc":
            found = _TOKEN.match(token.text)
            body = found["body"] if found else ""
            return None if "$" in body and not (found and found["q"] == "'") else _Value(body, at=token.start)
        if token.kind == "number":
            return _Value(token.text, "number", token.start, token.end, None, token.start)
        if token.text == "-" and self._kind() == "number":
            number = self._tokens[self._at]
            self._at += 1
            return _Value("-" + number.text, "number", token.start, number.end, None, token.start)
        if token.text == "[":
            return self._array("]", depth, token.start)
        if token.text == "(":
            return self._in_brackets(depth)
        if token.kind == "name":
            return self._named(token, depth)
        self._at -= 1
        return None

    def _in_brackets(self, depth: int) -> _Value | None:
        if (
            self._kind() == "name"
            and self._peek(1) == ")"
            and self._peek().lower() in ("string", "int", "bool", "float", "array")
        ):
            self._at += 2  # a cast
            return self._term(depth + 1)
        value = self._value(depth + 1)
        return value if self._take(")") else None

    def _named(self, token: _Token, depth: int) -> _Value | None:
        word = token.text.lower().lstrip("\\")
        if word == "array" and self._take("("):
            return self._array(")", depth, token.start)
        if word in ("true", "false"):
            return _Value(word, "flag", token.start, token.end, None, token.start)
        if word == "null":
            return _Value("", "nothing", token.start, token.end, None, token.start)
        if word == "__dir__":
            return _Value(posixpath.dirname(self._file), at=token.start)
        if word == "__file__":
            return _Value(self._file, at=token.start)
        if self._peek() == "::" and self._kind(1) == "name":
            name = self._peek(1)
            self._at += 2
            if name.lower() == "class":
                return _Value(token.text.lstrip("\\"), at=token.start)
            return _Value(self._known[name], at=token.start) if name in self._known and self._peek() != "(" else None
        if self._peek() != "(":
            return _Value(self._known[token.text], at=token.start) if token.text in self._known else None
        if word in ("dirname", "realpath", "env", "getenv", "strval", "rtrim", "trim"):
            return self._function(word, token, depth)
        return None

    def _function(self, word: str, token: _Token, depth: int) -> _Value | None:
        self._at += 1
        given: list[_Value | None] = []
        while self._at < len(self._tokens) and self._peek() != ")":
            given.append(self._value(depth + 1))
            if not self._take(","):
                break
        if not self._take(")") or not given:
            return None
        first = given[0]
        if word in ("env", "getenv"):
            # What the environment says is not known here; what is taken without it is.
            return given[1] if word == "env" and len(given) > 1 else None
        if first is None or first.entries is not None:
            return None
        text = first.text
        if word == "dirname":
            levels = given[1].text if len(given) > 1 and given[1] is not None else "1"
            for _ in range(min(int(levels), DEEPEST) if levels.isdigit() else 1):
                text = posixpath.dirname(text)
        elif word == "realpath":
            text = posixpath.normpath(text) if text else text
        return _Value(text, at=token.start)

    def _array(self, closing: str, depth: int, at: int) -> _Value | None:
        entries: list[tuple[str, _Value]] = []
        count = 0
        while self._at < len(self._tokens):
            if self._take(closing):
                return _Value(entries=tuple(entries), at=at)
            value = self._value(depth + 1) if not self._take("...") else None
            key = str(count)
            if self._take("=>"):
                if value is None or value.entries is not None:
                    self._value(depth + 1)
                    value, key = None, ""
                else:
                    key, value = value.text, self._value(depth + 1)
            elif value is None and self._peek() == "=>":
                self._at += 1
                self._value(depth + 1)
                key = ""
            if key == str(count):
                count += 1
            if value is not None and len(entries) < _MOST_SETTINGS:
                entries.append((key, value))
            if not self._take(",") and self._peek() != closing:
                self._skip()
                if not self._take(",") and self._peek() != closing:
                    return None
        return None

    # -- comments ----------------------------------------------------------------------------------------------

    def _in_comments(self) -> Iterator[Setting]:
        """JSON that stands in a comment: in one block, or in line comments that follow each other."""
        blocks: list[tuple[int, int, str]] = []
        for comment in self._comments:
            if comment.text.startswith("/*"):
                blocks.append((comment.start, comment.end, "/*"))
            elif blocks and blocks[-1][2] == "//" and not self._text[blocks[-1][1] : comment.start].strip():
                blocks[-1] = (blocks[-1][0], comment.end, "//")
            else:
                blocks.append((comment.start, comment.end, "//"))
        for start, end, form in blocks:
            text = self._text[start:end]
            if "{" not in text:
                continue
            if form == "//":
                text = re.sub(r"(?m)^[ \t]*(?://|#)", lambda m: " " * len(m[0]), text)
            else:
                text = re.sub(r"(?m)^[ \t]*\*(?!/)", lambda m: " " * len(m[0]), text)
            brace = text.index("{")
            try:
                held, _ = json.JSONDecoder().raw_decode(text, brace)
            except (ValueError, RecursionError):
                continue
            line = self._lines.of(start + brace)
            for way, value in _leaves(held, ("comment",)):
                yield Setting(joined_key(way), value, line)


def _leaves(value: object, way: tuple[str, ...]) -> Iterator[tuple[tuple[str, ...], str]]:
    if len(way) > DEEPEST:
        return
    if isinstance(value, dict):
        for key, inner in value.items():
            yield from _leaves(inner, (*way, str(key)))
    elif isinstance(value, list):
        for number, inner in enumerate(value):
            yield from _leaves(inner, (*way, str(number)))
    elif value is not None:
        yield way, str(value)


def _double_quoted(body: str) -> str | None:
    """What stands in double quotes; None when variables are filled in."""
    out: list[str] = []
    at = 0
    while at < len(body):
        c = body[at]
        if c == "\\" and at + 1 < len(body):
            if number := re.match(r"x([0-9A-Fa-f]{1,2})|u\{([0-9A-Fa-f]{1,6})\}|([0-7]{1,3})", body[at + 1 :]):
                code = int(number[1] or number[2] or "0", 16) if not number[3] else int(number[3], 8) & 255
                out.append(chr(code) if code < 0x110000 else "\ufffd")
                at += 1 + number.end()
                continue
            out.append(_ESCAPES.get(body[at + 1], "\\" + body[at + 1]))
            at += 2
            continue
        if (c == "$" and re.match(r"[A-Za-z_{]", body[at + 1 : at + 2])) or body.startswith("{$", at):
            return None
        out.append(c)
        at += 1
    return "".join(out)


def _as_php(value: str) -> str:
    return "'" + value.replace("\\", "\\\\").replace("'", "\\'") + "'"
