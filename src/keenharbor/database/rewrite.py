"""Rewriting addresses and paths wherever they stand: plain, escaped, percent-encoded, in JSON, in length-prefixed
values, compressed or encoded as letters, and in any nesting of these."""

from __future__ import annotations

import contextlib
import json
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from urllib.parse import quote, urlsplit

from keenharbor.database import serialised
from keenharbor.database.packed import SHORTEST, holds, may_hold, unpacked_bytes, with_packed
from keenharbor.database.protocol import Database, DatabaseState, Row, Table, Value
from keenharbor.database.rows import StoredState, as_known, rows_of

_JSON_STRING = re.compile(r'"(?:[^"\\\x00-\x1f]|\\.)*"')
# What may not follow: the place would be a longer one (example.org in example.organic, /srv/site in /srv/site2).
_END = r"(?![A-Za-z0-9_-]|\.[A-Za-z0-9])"
_DEEPEST = 20


class Rewriter:
    """Replaces each old place by its new one, in one pass, the longest first.

    ``places`` maps old to new: addresses (``http://host:port``), hosts with port, folders, files.
    """

    def __init__(self, places: Mapping[str, str]) -> None:
        table: dict[str, str] = {}
        patterns: list[tuple[str, str]] = []
        for old, new in places.items():
            for form in (
                lambda t: t,
                lambda t: t.replace("/", "\\/"),
                lambda t: quote(t, safe=""),
                lambda t: quote(t, safe="").lower(),
            ):
                written = form(old)
                if written not in table:
                    table[written] = form(new)
                    patterns.append((written, self._pattern(old, written)))
        patterns.sort(key=lambda p: len(p[0]), reverse=True)
        self._cores = _cores(places)
        self._text_cores = tuple(c.decode() for c in self._cores)
        self._table = table
        self._pattern_all = re.compile("|".join(f"(?:{p})" for _, p in patterns) or r"(?!)")
        self._hints = tuple(table)
        self._byte_hints = tuple(t.encode() for t in table)

    @staticmethod
    def _pattern(old: str, written: str) -> str:
        # A bare host is not rewritten behind "@" (a mail address) or within a longer name.
        before = "" if "/" in old else r"(?<![A-Za-z0-9@._-])"
        after = _END if re.search(r":\d+$", old) or "/" in old.replace("//", "") else _END + r"(?!:\d)"
        return before + re.escape(written) + after

    def touches(self, data: bytes) -> bool:
        """Whether any old place may stand in ``data`` (quick; may say yes too often)."""
        return self.may_touch(data) and any(hint in data for hint in self._byte_hints)

    def may_touch(self, data: bytes) -> bool:
        """As `touches`, quicker still and more often too much: for whole blocks of rows as they are stored."""
        return any(core in data for core in self._cores)

    def text(self, value: str, depth: int = 0) -> str:
        """``value`` with every old place replaced, lengths and escapes kept right."""
        plain = any(core in value for core in self._text_cores) and any(hint in value for hint in self._hints)
        deeper = depth < _DEEPEST and len(value) >= SHORTEST and may_hold(value.encode("utf-8", "replace"))
        if not plain and not deeper:
            return value
        if depth < _DEEPEST:
            pieces = serialised.pieces(value)
            if pieces != [value]:
                return "".join(self._piece(p, depth) for p in pieces)
            stripped = value.strip()
            if stripped[:1] in ("{", "[", '"') and stripped[-1:] in ("}", "]", '"'):
                try:
                    json.loads(value)
                except (ValueError, RecursionError):
                    pass
                else:
                    return _JSON_STRING.sub(lambda m: self._json_string(m[0], depth), value)
        if deeper:
            value = with_packed(value, lambda inside: self.text(inside, depth + 1))
        return self._pattern_all.sub(lambda m: self._table[m[0]], value) if plain else value

    def _piece(self, piece: str | serialised.Node, depth: int) -> str:
        if isinstance(piece, str):
            return self.text(piece, depth + 1)
        return serialised.write(serialised.with_strings(piece, lambda t: self.text(t, depth + 1)))

    def _json_string(self, literal: str, depth: int) -> str:
        before = json.loads(literal)
        after = self.text(before, depth + 1)
        if after == before:
            return literal
        written = json.dumps(after, ensure_ascii="\\u" in literal)
        return written.replace("/", "\\/") if "\\/" in literal else written

    def cell(self, value: Value) -> Value:
        """A cell's value rewritten; bytes only when they are text, or packed text."""
        if isinstance(value, str):
            return self.text(value)
        if isinstance(value, bytes):
            return self.of_bytes(value)
        return value

    def of_bytes(self, value: bytes) -> bytes:
        """Bytes rewritten when they are text, or packed text; else as they are."""
        if self.touches(value) or may_hold(value):
            try:
                return self.text(value.decode("utf-8")).encode("utf-8")
            except UnicodeDecodeError:
                return value
        opened = unpacked_bytes(value)
        if opened is None:
            return value
        inside, layers = opened
        changed = self.text(inside, 1)
        return value if changed == inside else layers.pack(changed)

    def left_in(self, data: bytes, depth: int = 0, *, packed: bool = True) -> bool:
        """Whether an old place still stands in ``data`` as a place of its own; also in what is ``packed`` there."""
        if self.touches(data) and self._pattern_all.search(data.decode("latin-1")) is not None:
            return True
        if not packed or depth >= _DEEPEST:
            return False

        def inside(text: str) -> bool:
            return self.left_in(text.encode("utf-8", "replace"), depth + 1)

        if may_hold(data):
            return holds(data.decode("latin-1"), inside)
        opened = unpacked_bytes(data)
        return opened is not None and inside(opened[0])


def _cores(places: Iterable[str]) -> tuple[bytes, ...]:
    """The longest part of each place that is written alike in every form; the place itself where it has none."""
    found = set()
    for place in places:
        parts = re.findall(r"[A-Za-z0-9._-]{3,}", place)
        found.add(max(parts, key=len) if parts else "")
    # One that holds another is found with it.
    kept = [c for c in found if not any(o != c and o in c for o in found)]
    return tuple(sorted(c.encode() for c in kept))


def _rows(state: DatabaseState, table: Table, rewriter: Rewriter, *, every: bool = False) -> Iterator[Row]:
    """The rows of a table that may hold an old place: blocks in which none can stand are passed over undecoded."""
    binary = "bytes" in table.kinds
    for block in state.blocks(table.name):
        # What is not text is encoded in the stored lines, so that nothing can be seen in them.
        encoded = binary or b'{"b":' in block.lines or b'{"t":' in block.lines
        if every or encoded or rewriter.may_touch(block.lines) or may_hold(block.lines):
            yield from rows_of(table, [block])


HOST_COLUMN = re.compile(r"(?i)(^|_)(host|hostname|host_name|domain|domain_name|server_name)$")
PORT_COLUMN = re.compile(r"(?i)(^|_)port(_number)?$")


@dataclass(frozen=True)
class HostMove:
    """A host and its ports (those that mean it), and where it is now: for tables that keep the two in columns of their
    own."""

    host: str
    ports: tuple[int, ...]
    new_host: str
    new_port: int

    @classmethod
    def between(cls, old: str, new: str) -> HostMove:
        """From one address to another (``http://host:port``)."""
        before, after = urlsplit(old), urlsplit(new)
        ports = (before.port,) if before.port else (80, 443)
        return cls(
            before.hostname or "", ports, after.hostname or "", after.port or (443 if after.scheme == "https" else 80)
        )

    def columns(self, table: Table) -> tuple[int, int] | None:
        """Which columns of a table hold a host and its port; None where that is not plain."""
        hosts = [i for i, c in enumerate(table.columns) if HOST_COLUMN.search(c)]
        ports = [i for i, c in enumerate(table.columns) if PORT_COLUMN.search(c)]
        return (hosts[0], ports[0]) if len(hosts) == len(ports) == 1 else None

    def of(self, columns: Sequence[str], row: Sequence[Value], at: tuple[int, int]) -> dict[str, Value]:
        """What becomes of a row that names the host and one of its ports; nothing for any other."""
        host, port = row[at[0]], row[at[1]]
        if not isinstance(host, str) or host.lower() != self.host.lower() or str(port) not in map(str, self.ports):
            return {}
        new_port: Value = self.new_port if isinstance(port, int) else str(self.new_port)
        return {columns[at[0]]: self.new_host, columns[at[1]]: new_port}


@dataclass
class Rewritten:
    """How many cells were rewritten by ``table.column``, and where an old place still stands in one."""

    cells: Counter[str] = field(default_factory=Counter)
    left: set[str] = field(default_factory=set)


def rewrite_database(
    database: Database, rewriter: Rewriter, move: HostMove | None = None, holds: DatabaseState | None = None
) -> Rewritten:
    """Rewrite every cell of ``database``. ``move``: hosts and ports in columns of their own. ``holds``: a state that it
    is known to hold, and that is read instead of it."""
    told = Rewritten()
    changes: list[tuple[str, dict[str, Value], dict[str, Value]]] = []
    with contextlib.ExitStack() as reading:
        state = reading.enter_context(database.reading()) if holds is None else holds
        for table in state.schema.tables:
            apart = move.columns(table) if move is not None else None
            for row in _rows(state, table, rewriter, every=apart is not None):
                moved = move.of(table.columns, row, apart) if move is not None and apart is not None else {}
                new: dict[str, Value] = {}
                for column, value in zip(table.columns, row, strict=True):
                    if column in moved or not isinstance(value, str | bytes):
                        continue
                    changed = rewriter.cell(value)
                    if changed != value:
                        new[column] = changed
                    if _still_holds(changed, rewriter):
                        told.left.add(f"{table.name}.{column}")
                new |= moved
                if new:
                    key = {table.columns[i]: row[i] for i in table.key_positions}
                    changes.append((table.name, key, new))
                    told.cells.update(f"{table.name}.{column}" for column in new)
    if changes:
        with database.writing() as writer:
            for name, key, new in changes:
                writer.update(name, key, new)
    return told


def _still_holds(value: Value, rewriter: Rewriter) -> bool:
    data = value.encode("utf-8", "surrogateescape") if isinstance(value, str) else value
    return isinstance(data, bytes) and rewriter.left_in(data)


def places_left(database: Database, rewriter: Rewriter, known: StoredState | None = None) -> Sequence[str]:
    """``table.column`` of every cell that still holds an old place. Tables that were not written since they were
    ``known`` are read from there."""
    found = set()
    with database.reading() as state:
        for table in state.schema.tables:
            for row in _rows(as_known(state, table.name, known), table, rewriter):
                for column, value in zip(table.columns, row, strict=True):
                    if _still_holds(value, rewriter):
                        found.add(f"{table.name}.{column}")
    return sorted(found)
