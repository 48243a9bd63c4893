"""How rows are written down: one line a row, in one of two open forms.

``json``: a JSON array a line. A value is a number, string or null; what JSON cannot say is an object with one entry:
``{"b": base64}`` for bytes, ``{"t": base64}`` for text that is not UTF-8, ``{"f": "inf"}`` for a float that is not
finite. Every value says itself what it is, as SQLite wants it.

``copy``: the text form in which PostgreSQL's COPY and MariaDB's LOAD DATA take rows: values divided by tabs, ``\\N``
for null, a backslash before what would be taken for a divider. Servers read it themselves and PostgreSQL writes it, so
that no value of a large table has to become a number or a text of Python's. Bytes stand in hexadecimal; the table's
``kinds`` tell what each value is."""

from __future__ import annotations

import base64
import math
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any

import msgspec

from keenharbor.base.errors import DamagedError
from keenharbor.database.protocol import ColumnKind, Row, Table, Value

_encoder = msgspec.json.Encoder()
_decoder = msgspec.json.Decoder()
_PLAIN_TYPES = {int, str, type(None)}


def _plain(value: Value) -> Any:
    if isinstance(value, bytes):
        return {"b": base64.b64encode(value).decode("ascii")}
    if isinstance(value, float) and not math.isfinite(value):
        return {"f": repr(value)}
    if isinstance(value, str):
        try:
            value.encode("utf-8")
        except UnicodeEncodeError:
            return {"t": base64.b64encode(value.encode("utf-8", "surrogateescape")).decode("ascii")}
    return value


def _value(plain: Any) -> Value:
    if isinstance(plain, dict):
        ((kind, text),) = plain.items()
        if kind == "b":
            return base64.b64decode(text, validate=True)
        if kind == "t":
            return base64.b64decode(text, validate=True).decode("utf-8", "surrogateescape")
        return float(text)
    return plain  # type: ignore[no-any-return]


def encode_row(row: Sequence[Value]) -> bytes:
    """One row as one line of JSON, with its line end; also what values are compared by."""
    return _encoder.encode([_plain(v) for v in row]) + b"\n"


def encode_json(rows: Sequence[Sequence[Value]]) -> bytes:
    """Rows as lines of JSON. Columns that hold only what JSON says as it is are not looked at value by value."""
    odd = [
        i
        for i, column in enumerate(zip(*rows, strict=True))
        if not (types := set(map(type, column))) <= _PLAIN_TYPES
        and not (types <= _PLAIN_TYPES | {float} and _all_finite(column))
    ]
    if odd:
        rows = [[_plain(v) if i in odd else v for i, v in enumerate(row)] for row in rows]
    try:
        return _encoder.encode_lines(rows)
    except UnicodeEncodeError:  # text that is not UTF-8
        return b"".join([_encoder.encode([_plain(v) for v in r]) + b"\n" for r in rows])


def _all_finite(column: Iterable[Any]) -> bool:
    return math.isfinite(sum(v for v in column if type(v) is float))


def decode_json(data: bytes) -> Iterator[Row]:
    """The rows of lines of JSON. Raises `DamagedError` when they are not what `encode_json` writes."""
    try:
        for values in _decoder.decode_lines(data):
            if not isinstance(values, list):
                raise ValueError("a line is not a row")
            yield tuple([v if type(v) is not dict else _value(v) for v in values])
    except (ValueError, TypeError, msgspec.DecodeError) as error:
        raise DamagedError(f"stored rows cannot be read: {error}") from error


# -- copy text ------------------------------------------------------------------------------------------------

_ESCAPED = re.compile(r"\\(x[0-9A-Fa-f]{1,2}|[0-7]{1,3}|.)", re.DOTALL)
_WRITTEN = {"b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t", "v": "\v"}
_TO_ESCAPE = str.maketrans({"\\": "\\\\", "\t": "\\t", "\n": "\\n", "\r": "\\r"})


def _unescape(found: re.Match[str]) -> str:
    text = found[1]
    if text[0] == "x" and len(text) > 1:
        return chr(int(text[1:], 16))
    if text[0] in "01234567":
        return chr(int(text, 8))
    return _WRITTEN.get(text, text)


def _to_bool(text: str) -> Value:
    return {"t": 1, "f": 0}[text]


def _to_bytes(text: str) -> Value:
    return bytes.fromhex(text.removeprefix("\\x"))


_READ: dict[ColumnKind, Callable[[str], Value]] = {
    "int": int, "float": float, "text": str, "any": str, "bytes": _to_bytes, "bool": _to_bool,
}  # fmt: skip


def decode_copy(table: Table, data: bytes) -> Iterator[Row]:
    """The rows of lines of copy text. Raises `DamagedError` when a line does not fit the table."""
    readers = [_READ[k] for k in table.kinds]
    try:
        if not data:
            return
        if not data.endswith(b"\n"):
            raise ValueError("the last line breaks off")
        for line in data[:-1].decode("utf-8", "surrogateescape").split("\n"):
            yield _copy_row(line, readers)
    except (ValueError, KeyError) as error:
        raise DamagedError(f"stored rows of {table.name} cannot be read: {error}") from error


def _copy_row(line: str, readers: Sequence[Callable[[str], Value]]) -> Row:
    fields = line.split("\t")
    if "\\" not in line:
        return tuple([read(f) for read, f in zip(readers, fields, strict=True)])
    return tuple(
        [
            None if f == "\\N" else read(_ESCAPED.sub(_unescape, f) if "\\" in f else f)
            for read, f in zip(readers, fields, strict=True)
        ]
    )


def copy_value(value: Value, kind: ColumnKind, read_as: str = "") -> str:
    """One value in copy text, of a column that the engine reads as ``read_as``."""
    if value is None:
        return "\\N"
    if isinstance(value, bytes):
        return ("\\\\x" if read_as == "bytea" else "") + value.hex()
    if kind == "bool":
        return "t" if value else "f"
    if isinstance(value, float):
        return repr(value).replace("inf", "Infinity").replace("nan", "NaN")
    return str(value).translate(_TO_ESCAPE)


def encode_copy(table: Table, rows: Iterable[Sequence[Value]]) -> bytes:
    """Rows as lines of copy text."""
    columns = list(zip(table.kinds, table.read_as or [""] * len(table.kinds), strict=True))
    lines = ["\t".join([copy_value(v, k, a) for v, (k, a) in zip(r, columns, strict=True)]) for r in rows]
    return "".join([line + "\n" for line in lines]).encode("utf-8", "surrogateescape")


def decode_lines(table: Table, data: bytes) -> Iterator[Row]:
    """The rows of stored lines, whichever form the table's are in."""
    return decode_copy(table, data) if table.row_format == "copy" else decode_json(data)
