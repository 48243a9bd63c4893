"""Settings in Python: assignments of plain values, parsed with the language's own parser and never executed.

Beside literals these are understood, as settings modules have them: joined texts, ``os.environ.get(NAME, default)``,
paths put together from ``__file__`` with ``pathlib`` or ``os.path``, names assigned above, and ``from .other import
*``."""

from __future__ import annotations

import ast
import itertools
import posixpath
import warnings
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from keenharbor.site.settings.common import DEEPEST, Lines, Setting, SettingsError, joined_key

_MOST_SETTINGS = 50_000
Leaf = str | int | float | bool | None
ReadOther = Callable[[str], "str | None"]
"""Gives the text of another module by its path; None when it is not there."""


@dataclass(frozen=True)
class _Plain:
    """A value that was made out, and the expression that stands for all of it (None when it was put together)."""

    value: Leaf | list[_Plain] | dict[str, _Plain]
    node: ast.expr | None
    line: int


def read_python(text: str, file: str = "", read_other: ReadOther = lambda f: None) -> Iterator[Setting]:
    """Each value by its way: ``NAME``, ``NAME.key``, ``NAME.0``; arguments of a call that is assigned as
    ``NAME.call(0)``.

    ``read_other`` gives modules that are imported whole. Raises `SettingsError` when it is no Python.
    """
    reader = _Reader(file, read_other)
    yield from reader.settings(text)


class _Reader:
    def __init__(self, file: str, read_other: ReadOther, seen: frozenset[str] = frozenset()) -> None:
        self._file, self._read_other = file, read_other
        self._seen = seen | {file}
        self.known: dict[str, _Plain] = {}

    def settings(self, text: str) -> Iterator[Setting]:
        self._text = text
        self._lines = Lines(text)
        self._rows = text.split("\n")
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                module = ast.parse(text)
        except (SyntaxError, ValueError) as error:
            raise SettingsError(f"it is no Python: {error}", getattr(error, "lineno", None)) from None
        except (RecursionError, MemoryError):
            raise SettingsError("it is nested too deep") from None
        yield from itertools.islice(self._body(module.body, 0), _MOST_SETTINGS)

    def _body(self, body: list[ast.stmt], depth: int) -> Iterator[Setting]:
        for statement in body:
            if isinstance(statement, ast.Assign) and len(statement.targets) == 1:
                yield from self._assigned(statement.targets[0], statement.value)
            elif isinstance(statement, ast.AnnAssign) and statement.value is not None:
                yield from self._assigned(statement.target, statement.value)
            elif isinstance(statement, ast.AugAssign) and isinstance(statement.target, ast.Name):
                yield from self._added(statement)
            elif isinstance(statement, ast.ImportFrom) and any(a.name == "*" for a in statement.names):
                yield from self._imported(statement)
            elif isinstance(statement, (ast.If, ast.Try, ast.With)) and depth < DEEPEST:
                # Which branch is taken is not known: what a later one says counts, as a later line does.
                for part in ("orelse", "handlers", "finalbody", "body"):
                    for inner in getattr(statement, part, []):
                        found = inner.body if isinstance(inner, ast.ExceptHandler) else [inner]
                        yield from self._body(found, depth + 1)

    def _imported(self, statement: ast.ImportFrom) -> Iterator[Setting]:
        folder = posixpath.dirname(self._file)
        for _ in range(max(0, statement.level - 1)):
            folder = posixpath.dirname(folder)
        way = (statement.module or "").replace(".", "/")
        file = posixpath.join(folder, way) + ".py" if statement.level else way + ".py"
        if file in self._seen or len(self._seen) > 10:
            return
        other = self._read_other(file)
        if other is not None:
            inner = _Reader(file, self._read_other, self._seen)
            for setting in inner.settings(other):
                # What stands in another file cannot be written in this one.
                yield Setting(setting.key, setting.value, 0, kind=setting.kind)
            self.known.update(inner.known)

    def _added(self, statement: ast.AugAssign) -> Iterator[Setting]:
        assert isinstance(statement.target, ast.Name)
        before, more = self.known.get(statement.target.id), self._value(statement.value)
        if before is not None and more is not None and isinstance(before.value, list) and isinstance(more.value, list):
            whole = _Plain(before.value + more.value, None, statement.lineno)
            self.known[statement.target.id] = whole
            first = len(before.value)
            for number, inner in enumerate(more.value, first):
                yield from self._spread((statement.target.id, str(number)), inner)

    def _assigned(self, target: ast.expr, value: ast.expr) -> Iterator[Setting]:
        way: list[str] = []
        while isinstance(target, (ast.Subscript, ast.Attribute)):
            if isinstance(target, ast.Attribute):
                way.insert(0, target.attr)
            else:
                key = self._value(target.slice)
                if key is None or isinstance(key.value, (list, dict)):
                    return
                way.insert(0, str(key.value))
            target = target.value
        if not isinstance(target, ast.Name):
            return
        plain = self._value(value)
        if plain is not None:
            if not way:
                self.known[target.id] = plain
            yield from self._spread((target.id, *way), plain)
        elif isinstance(value, ast.Call):
            yield from self._arguments((target.id, *way), value)
        elif isinstance(value, ast.Dict):
            for key_node, inner in zip(value.keys, value.values, strict=True):
                if isinstance(key_node, ast.Constant) and isinstance(inner, ast.Call):
                    yield from self._arguments((target.id, *way, str(key_node.value)), inner)

    def _arguments(self, way: tuple[str, ...], call: ast.Call) -> Iterator[Setting]:
        called = ast.unparse(call.func).rpartition(".")[2][:60]
        for number, given in enumerate(call.args):
            if (plain := self._value(given)) is not None:
                yield from self._spread((*way, f"{called}({number})"), plain)
        for named in call.keywords:
            if named.arg and (plain := self._value(named.value)) is not None:
                yield from self._spread((*way, named.arg), plain)

    def _spread(self, way: tuple[str, ...], plain: _Plain) -> Iterator[Setting]:
        if len(way) > DEEPEST:
            return
        value = plain.value
        if isinstance(value, dict):
            for key, inner in value.items():
                yield from self._spread((*way, key), inner)
        elif isinstance(value, list):
            for number, inner in enumerate(value):
                yield from self._spread((*way, str(number)), inner)
        else:
            kind = (
                "nothing"
                if value is None
                else "flag"
                if isinstance(value, bool)
                else "text"
                if isinstance(value, str)
                else "number"
            )
            text = "" if value is None else str(value).lower() if isinstance(value, bool) else str(value)
            start, end = self._span(plain.node)
            yield Setting(joined_key(way), text, plain.line, start, end, kind, repr if kind == "text" else str)

    def _span(self, node: ast.expr | None) -> tuple[int, int]:
        if node is None or node.end_lineno is None or node.end_col_offset is None or node.lineno > len(self._rows):
            return -1, -1

        def at(line: int, column: int) -> int:  # columns are counted in bytes of UTF-8
            row = self._rows[line - 1]
            return self._lines.offset(line, len(row.encode()[:column].decode("utf-8", "ignore")))

        return at(node.lineno, node.col_offset), at(node.end_lineno, node.end_col_offset)

    # -- values ------------------------------------------------------------------------------------------------

    def _value(self, node: ast.expr, depth: int = 0) -> _Plain | None:
        if depth > DEEPEST:
            return None
        line = node.lineno
        if isinstance(node, ast.Constant) and isinstance(node.value, (str, int, float, bool, type(None))):
            return _Plain(node.value, node, line)
        if isinstance(node, (ast.List, ast.Tuple, ast.Set)):
            inner = [self._value(e, depth + 1) for e in node.elts]
            return _Plain([i for i in inner if i is not None], None, line)
        if isinstance(node, ast.Dict):
            return self._dict(node, depth)
        if isinstance(node, ast.Name):
            found = self.known.get(node.id)
            if found is None and node.id == "__file__":
                return _Plain(self._file, None, line)
            return None if found is None else _Plain(found.value, None, line)
        if isinstance(node, ast.BinOp) and isinstance(node.op, (ast.Add, ast.Div)):
            return self._joined(node, depth)
        if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub) and isinstance(node.operand, ast.Constant):
            number = node.operand.value
            return _Plain(-number, node, line) if isinstance(number, (int, float)) else None
        if isinstance(node, ast.BoolOp) and isinstance(node.op, ast.Or):  # os.environ.get("X") or "what else"
            found_ones = [v for e in node.values if (v := self._value(e, depth + 1)) is not None]
            return found_ones[0] if found_ones else None
        if isinstance(node, ast.JoinedStr):
            parts = [self._value(p.value if isinstance(p, ast.FormattedValue) else p, depth + 1) for p in node.values]
            if any(p is None or isinstance(p.value, (list, dict)) for p in parts):
                return None
            return _Plain("".join(str(p.value) for p in parts if p is not None), None, line)
        if isinstance(node, ast.Attribute):
            return self._attribute(node, depth)
        if isinstance(node, ast.Call):
            return self._call(node, depth)
        return None

    def _dict(self, node: ast.Dict, depth: int) -> _Plain | None:
        found: dict[str, _Plain] = {}
        missed = False
        for key, value in zip(node.keys, node.values, strict=True):
            named = self._value(key, depth + 1) if key is not None else None
            inner = self._value(value, depth + 1)
            if named is None or inner is None or isinstance(named.value, (list, dict)):
                missed = True
                continue
            found[str(named.value)] = inner
        return None if missed and not found else _Plain(found, None, node.lineno)

    def _joined(self, node: ast.BinOp, depth: int) -> _Plain | None:
        left, right = self._value(node.left, depth + 1), self._value(node.right, depth + 1)
        if left is None or right is None:
            return None
        if isinstance(left.value, list) and isinstance(right.value, list) and isinstance(node.op, ast.Add):
            return _Plain(left.value + right.value, None, node.lineno)
        if isinstance(left.value, str) and isinstance(right.value, str):
            path = posixpath.join(left.value, right.value)
            return _Plain(path if isinstance(node.op, ast.Div) else left.value + right.value, None, node.lineno)
        return None

    def _attribute(self, node: ast.Attribute, depth: int) -> _Plain | None:
        below = self._value(node.value, depth + 1)
        if below is not None and isinstance(below.value, str) and node.attr == "parent":
            return _Plain(posixpath.dirname(below.value), None, node.lineno)
        return None

    def _call(self, node: ast.Call, depth: int) -> _Plain | None:
        name = ast.unparse(node.func)
        last = name.rpartition(".")[2]
        given = [self._value(a, depth + 1) for a in node.args]
        texts = [g.value for g in given if g is not None and isinstance(g.value, str)]
        line = node.lineno
        whole = len(texts) == len(given)
        if name in ("os.environ.get", "environ.get", "os.getenv", "getenv") and len(given) > 1:
            return given[1]
        if (
            last in ("abspath", "realpath", "normpath", "str", "Path", "PurePath", "fspath")
            and len(texts) == 1
            and whole
        ):
            return _Plain(texts[0], None, line)
        if last in ("resolve", "absolute", "as_posix") and not given and isinstance(node.func, ast.Attribute):
            return self._value(node.func.value, depth + 1)
        if last == "dirname" and len(texts) == 1 and whole:
            return _Plain(posixpath.dirname(texts[0]), None, line)
        if last in ("join", "joinpath") and whole and texts:
            if last == "joinpath" and isinstance(node.func, ast.Attribute):
                base = self._value(node.func.value, depth + 1)
                if base is None or not isinstance(base.value, str):
                    return None
                return _Plain(posixpath.join(base.value, *texts), None, line)
            return _Plain(posixpath.join(*texts), None, line) if name.endswith("path.join") else None
        return None
