"""Rows as stored: JSON lines, cut into chunks at boundaries that depend on the keys.

A value is a JSON number, string or null; what JSON cannot say is an object with one entry: ``{"b": base64}`` for
bytes, ``{"t": base64}`` for text that is not UTF-8, ``{"f": "inf"}`` for a float that is not finite.

A chunk ends after a row whose key hashes to a multiple of `CHUNK_ROWS`, so an inserted or removed row changes the
chunk it falls into and no other (content-defined chunking, here by key; cf. Muthitacharoen et al., "A low-bandwidth
network file system", SOSP 2001).
"""

from __future__ import annotations

import base64
import json
import math
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from blake3 import blake3

from keenharbor.base.errors import DamagedError
from keenharbor.database.protocol import DatabaseState, Row, Schema, Table, Value

CHUNK_ROWS = 256
LARGEST_CHUNK_BYTES = 4 * 1024 * 1024
_dump = json.JSONEncoder(ensure_ascii=False, separators=(",", ":"), allow_nan=False).encode


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
    """One row as one line of JSON, with its line end."""
    return (_dump([_plain(v) for v in row]) + "\n").encode("utf-8")


def decode_rows(chunk: bytes) -> Iterator[Row]:
    """The rows of a chunk. Raises `DamagedError` when it is not what `encode_row` writes."""
    try:
        # Not splitlines(): text may hold characters that it takes for line ends.
        for line in chunk.decode("utf-8").split("\n"):
            if line:
                yield tuple(_value(v) for v in json.loads(line))
    except (ValueError, TypeError) as error:
        raise DamagedError(f"stored rows cannot be read: {error}") from error


def key_of(table: Table, row: Row) -> Row:
    """The values of the row's key."""
    return tuple(row[i] for i in table.key_positions)


def chunks(table: Table, rows: Iterable[Row]) -> Iterator[tuple[bytes, int]]:
    """The rows' encoding in chunks, each with its number of rows."""
    lines: list[bytes] = []
    length = 0
    for row in rows:
        line = encode_row(row)
        lines.append(line)
        length += len(line)
        mark = int.from_bytes(blake3(encode_row(key_of(table, row))).digest(4), "little")
        if mark % CHUNK_ROWS == 0 or length >= LARGEST_CHUNK_BYTES:
            yield b"".join(lines), len(lines)
            lines, length = [], 0
    if lines:
        yield b"".join(lines), len(lines)


@dataclass(frozen=True)
class StoredTable:
    """A table's rows in the store: chunk ids in key order, rows in each, and a digest over all of them."""

    name: str
    chunk_ids: tuple[str, ...]
    chunk_rows: tuple[int, ...]
    digest: str

    @property
    def row_count(self) -> int:
        return sum(self.chunk_rows)

    def as_json(self) -> dict[str, Any]:
        return {"name": self.name, "rows": self.row_count, "digest": self.digest,
                "chunks": [list(pair) for pair in zip(self.chunk_ids, self.chunk_rows, strict=True)]}  # fmt: skip

    @classmethod
    def from_json(cls, v: dict[str, Any]) -> StoredTable:
        return cls(v["name"], tuple(c[0] for c in v["chunks"]), tuple(c[1] for c in v["chunks"]), v["digest"])


class StoredState:
    """A database state in the store."""

    def __init__(self, schema: Schema, tables: Sequence[StoredTable], read: Callable[[str], bytes]) -> None:
        self.schema = schema
        self.tables = {t.name: t for t in tables}
        self._read = read

    def rows(self, table: str) -> Iterator[Row]:
        stored = self.tables.get(table)
        for identity in stored.chunk_ids if stored else ():
            yield from decode_rows(self._read(identity))

    def chunk_ids(self, table: str) -> Sequence[str] | None:
        stored = self.tables.get(table)
        return stored.chunk_ids if stored else ()

    def chunk(self, identity: str) -> list[Row]:
        """The rows of one chunk."""
        return list(decode_rows(self._read(identity)))


def table_digest(rows: Iterable[Row]) -> str:
    """A digest of rows in order, over their encoding."""
    digest = blake3()
    for row in rows:
        digest.update(encode_row(row))
    return digest.hexdigest()


def store_state(state: DatabaseState, add: Callable[[bytes], str]) -> list[StoredTable]:
    """Read every table of ``state`` and give the chunks to ``add``."""
    stored = []
    for table in state.schema.tables:
        ids: list[str] = []
        counts: list[int] = []
        digest = blake3()
        for data, count in chunks(table, state.rows(table.name)):
            digest.update(data)
            ids.append(add(data))
            counts.append(count)
        stored.append(StoredTable(table.name, tuple(ids), tuple(counts), digest.hexdigest()))
    return stored
