"""What the database holds: what each table is for, and where the site's address stands."""

from __future__ import annotations

import base64
import binascii
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace

from keenharbor.database import DatabaseState, Table
from keenharbor.database.packed import SHORTEST, unpacked
from keenharbor.database.protocol import Row, Schema
from keenharbor.database.rewrite import HOST_COLUMN, PORT_COLUMN
from keenharbor.site.connections import host_of_address

_MOST_ROWS_READ = 200_000
_BY_NAME = (
    ("sessions", r"(^|_)(sessions?|tokens?|nonces?|login_attempts?|remember)($|_)"),
    ("cache", r"(^|_)(cache|cached|renditions?|compiled|temp|tmp)($|_|[a-z]*$)"),
    ("logs", r"(^|_)(logs?|history|audit|statistics?|stats|hits|visits|log_entr(y|ies)|events_log|access_log)($|_)"),
    ("search", r"(^|_)(search_?(index|word|total|dataset|terms?)?|index_?entr(y|ies)|fts)($|_)|_fts(_|$)|indexentry"),
    ("internal",
        r"(^|_)(migrations?|schema_?(versions?|migrations?)|versions?|content_?types?|permissions?|jobs?|queue|batch|"
                 r"locks?|sequences?)($|_)"),
    ("settings",
        r"(^|_)(options?|settings?|config(uration)?s?|variables?|preferences?|parameters?|registry|params)($|_)"),
    ("visitors", r"(^|_)(orders?|order_items?|comments?|reviews?|ratings?|votes?|loans?|customers?|carts?|baskets?|"
                 r"subscri(bers?|ptions?)|"
                 r"messages?|contacts?|enquir(y|ies)|inquir(y|ies)|submissions?|form_?(entr(y|ies)|data|submissions?)|"
                 r"threaded_?comments?|"
                 r"guestbook|"
                 r"bookings?|reservations?|"
                 r"registrations?|sign_?ups?|payments?|transactions?|donations?|answers?|poll_votes?|wishlists?|"
                 r"newsletter\w*|feedback|tickets?)($|_)"),
)  # fmt: skip


_VALUE = re.compile(r"(val|value|values|data|content|setting|option)$")


@dataclass(frozen=True)
class TableKind:
    """What a table is for, and the sign by which that was told; ``is_table`` is false for what the engine keeps for
    others."""

    table: str
    kind: str
    rows: int
    why: str
    is_table: bool = True


def kind_of(table: Table, rows: Sequence[Row], prefix: str = "") -> tuple[str, str]:
    """What a table holds, by its name and its columns; ``content`` when nothing else speaks."""
    name = table.name.removeprefix(prefix) if prefix else table.name
    snake = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", name).lower()
    columns = {c.lower() for c in table.columns}
    if table.kind != "table":
        return ("search" if table.kind in ("virtual", "shadow") else "internal"), f"a {table.kind} table of the engine"
    for kind, pattern in _BY_NAME:
        if kind == "settings" and not any(_VALUE.search(c) for c in columns):
            continue  # of settings, but none that hold a value
        if found := re.search(pattern, snake):
            return kind, f"its name has '{found[0].strip('_')}'"
    if {"expires", "expire", "expiry", "expires_at", "last_activity"} & columns:
        if {"token", "session", "session_key", "sid", "session_id", "session_data", "payload"} & columns:
            return "sessions", "its columns hold a token and when it expires"
        if {"key", "cid", "data", "value"} & columns:
            return "cache", "its columns hold a key, data and when they expire"
    if {"level", "severity", "message"} <= columns or (
        {"message"} & columns and {"ip", "hostname", "referer"} & columns
    ):
        return "logs", "its columns hold a message and where it came from"
    named = {
        "name",
        "key",
        "option_name",
        "setting",
        "setting_name",
        "config_key",
        "variable",
        "id",
        "path",
        "code",
    } & columns
    valued = {"value", "option_value", "setting_value", "config_value", "data", "val"} & columns
    if named and valued and len(columns) <= 6:
        return "settings", f"its columns are {sorted(named)[0]} and {sorted(valued)[0]}"
    if {"ip", "ip_address", "remote_addr", "user_agent", "author_ip"} & columns:
        return "visitors", "it keeps the address that a visitor came from"
    dated = {"created", "created_at", "taken_on", "submitted", "submitted_at", "date", "posted_at"} & columns
    if {"email", "mail"} & columns and dated and not {"password", "password_hash", "pass"} & columns:
        return "visitors", "it keeps somebody's mail address and a date"
    return "content", "nothing speaks for another kind"


def common_prefix(names: Sequence[str]) -> str:
    """What most table names begin with, up to a ``_``; empty when that is no prefix of a site."""
    starts = Counter(n.partition("_")[0] + "_" for n in names if "_" in n)
    if not starts or len(names) < 4:
        return ""
    prefix, count = starts.most_common(1)[0]
    return prefix if count >= 0.8 * len(names) and len(prefix) <= 8 else ""


@dataclass(frozen=True)
class AddressPlaces:
    """Cells that carry the address, as ``table.column``: how many; and cells that may, but cannot be searched."""

    cells: dict[str, int]
    opaque: dict[str, int]
    hosts: dict[str, int]
    exact: dict[str, str]


_PACKED = (b"\x1f\x8b", b"\x28\xb5\x2f\xfd", b"PK\x03\x04", b"BZh", b"\x78\x9c", b"\x78\x01", b"\x78\xda")
_ENCODED = re.compile(r"[A-Za-z0-9+/_\r\n-]{24,}={0,2}")


def look_through(state: DatabaseState, host: str | None) -> tuple[list[TableKind], AddressPlaces]:
    """Read the tables once: what each is for, and each cell that carries ``host`` (plain, escaped or serialised: the
    host's own letters are the same in all of them). Without a host, the hosts of cells that are addresses are
    counted."""
    prefix = common_prefix([t.name for t in state.schema.tables if t.kind == "table"])
    kinds: list[TableKind] = []
    cells: Counter[str] = Counter()
    opaque: Counter[str] = Counter()
    hosts: Counter[str] = Counter()
    exact: dict[str, str] = {}
    for table in state.schema.tables:
        rows: list[Row] = []
        count = 0
        for row in state.rows(table.name) if table.kind == "table" else ():
            count += 1
            if len(rows) < 50:
                rows.append(row)
            if count > _MOST_ROWS_READ:
                continue
            for column, cell in zip(table.columns, row, strict=True):
                _note(f"{table.name}.{column}", cell, row, host, cells, opaque, hosts, exact)
        if (apart := _host_and_port(table, rows) or _domain(table, rows)) is not None:
            exact.setdefault(*apart)
        kind, why = kind_of(table, rows, prefix)
        kinds.append(TableKind(table.name, kind, count, why, table.kind == "table"))
    kinds = _with_related(kinds, state.schema)
    return kinds, AddressPlaces(dict(cells), dict(opaque), dict(hosts.most_common(20)), exact)


def _with_related(kinds: Sequence[TableKind], schema: Schema) -> list[TableKind]:
    """The same with tables that belong to a visitors' table: by a column that names it (``comment_id``), or by their
    name (``commentmeta``). People's accounts are no such table: much of the content names them."""
    by_name = {k.table: k for k in kinds}
    stems = {k.table: _stem(k.table) for k in kinds if k.kind == "visitors" and not _ACCOUNTS.search(k.table)}
    grown = True
    for table in schema.tables:
        kind = by_name.get(table.name)
        if kind is None or kind.kind != "content" or table.kind != "table":
            continue
        if _is_of_each_user(table):
            by_name[table.name] = replace(kind, kind="visitors", why="it keeps what each user has")
        elif _OWNED.search(table.ddl):
            by_name[table.name] = replace(kind, kind="visitors", why="each of its rows must have an owner")
    while grown:
        grown = False
        for table in schema.tables:
            kind = by_name.get(table.name)
            # A name and a value are what settings look like, and the fields of a form that was sent.
            if kind is None or kind.kind not in ("content", "settings") or table.kind != "table":
                continue
            of = next((t for t, stem in stems.items() if _belongs(table, t, stem)), None)
            if of is not None:
                by_name[table.name] = replace(kind, kind="visitors", why=f"it belongs to {of}")
                stems[table.name] = _stem(table.name)
                grown = True
    return [by_name[k.table] for k in kinds]


_ACCOUNTS = re.compile(r"(?i)(user|member|account|author|customer|person|people|profile)s?$")


_OF_EACH_USER = re.compile(
    r"(?i)(^|_)(user|member|customer|visitor|reader)_(?!groups?$|roles?$|permissions?$|rights?$)\w+$"
)
_NAMES_A_USER = re.compile(r"(?i)^((user|member|customer|owner|reader)_?(id|uid)|uid|owner)$")


_OWNED = re.compile(r"(?i)\bowner(_?(u?id|user))?[`\"]?\s[^,\n]*\bnot null")
"""A column for the owner that must be filled. Where it may be empty, as with pages, the rows are the site's own."""


def _is_of_each_user(table: Table) -> bool:
    """Whether a table is called after users and each row names one: what they have marked, noted, chosen."""
    return bool(_OF_EACH_USER.search(table.name)) and any(_NAMES_A_USER.match(c) for c in table.columns)


def _stem(table: str) -> str:
    """The singular of a table's last word: ``comment`` of ``shop_comments``."""
    last = re.split(r"[_.]", re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", table).lower())[-1]
    last = last.rstrip("0123456789") or last  # the second make of a table: ``filters2``
    return last[:-3] + "y" if last.endswith("ies") else last[:-1] if last.endswith("s") and len(last) > 3 else last


def _belongs(table: Table, to: str, stem: str) -> bool:
    if table.name == to or len(stem) < 4:
        return False
    named = re.search(
        rf"(?i)(^|_){re.escape(stem)}s?_?(meta|data|items?|lines?|repl(y|ies)|details?|files?)$", table.name
    )
    keys = {c.lower() for c in table.columns}
    if named is not None or keys & {f"{stem}_id", f"{stem}id", f"id_{stem}", f"{stem}_ptr_id"}:
        return True
    # ``entry_id`` leads to ``formentry``, where both are called after the same part of the system.
    part = table.name.partition("_")[0]
    short = (k.removesuffix("_id") for k in keys if k.endswith("_id"))
    return to.startswith(f"{part}_") and any(len(k) >= 5 and stem.endswith(k) for k in short)


def _host_and_port(table: Table, rows: Sequence[Row]) -> tuple[str, str] | None:
    """Where a host and its port stand in columns of their own, and the address that they come to."""
    hosts = [i for i, c in enumerate(table.columns) if HOST_COLUMN.search(c)]
    ports = [i for i, c in enumerate(table.columns) if PORT_COLUMN.search(c)]
    if len(hosts) != 1 or len(ports) != 1 or len(rows) > 20:
        return None
    for row in rows:
        host, port = str(row[hosts[0]] or "").strip().lower(), str(row[ports[0]] or "")
        if re.fullmatch(r"[a-z0-9-]+(\.[a-z0-9-]+)+", host) and port.isdigit() and host != "127.0.0.1":
            shown = {"80": f"http://{host}", "443": f"https://{host}"}.get(port, f"http://{host}:{port}")
            return f"{table.name}.{table.columns[hosts[0]]} and {table.columns[ports[0]]}", shown
    return None


def _domain(table: Table, rows: Sequence[Row]) -> tuple[str, str] | None:
    """Where a host stands without a scheme, in a table of few rows that has a column called after it."""
    at = next((i for i, c in enumerate(table.columns) if re.fullmatch(r"(?i)(site_?)?domain(_?name)?", c)), None)
    if at is None or len(rows) > 20:
        return None
    for row in rows:
        host = str(row[at] or "").strip().lower()
        if re.fullmatch(r"[a-z0-9-]+(\.[a-z0-9-]+)+(:\d+)?", host) and not host.startswith("example."):
            here = host.partition(":")[0] in ("127.0.0.1", "localhost")
            return f"{table.name}.{table.columns[at]}", f"{'http' if here else 'https'}://{host}"
    return None


_BARE = re.compile(r"https?://[^/\s?#]+/?")
_UNDER_A_PATH = re.compile(r"https?://[^/\s?#]+(/[\w~-]+){1,2}/?")
_SITE_KEY = re.compile(r"(?i)(my_?)?(site|home|base|blog|wiki|forum|self)_?(url|uri|address|path)?(_path)?")


def _note(
    place: str, cell: object, row: Row, host: str | None, cells: Counter[str], opaque: Counter[str],
    hosts: Counter[str],
    exact: dict[str, str],
) -> None:  # fmt: skip
    if isinstance(cell, bytes):
        if (inside := unpacked(cell)) is not None:
            cell = inside
        elif cell.startswith(_PACKED):
            opaque[place] += 1
        cell = cell if isinstance(cell, str) else cell.decode("utf-8", "replace")
    if not isinstance(cell, str) or len(cell) < 4:
        return
    if len(cell) >= SHORTEST and _ENCODED.fullmatch(cell.strip()) and (inside := unpacked(cell)) is not None:
        cell = inside
    if host is not None and host in cell.lower():
        cells[place] += 1
    if len(cell) < 300 and cell[:4].lower() == "http" and (named := host_of_address(cell)) is not None:
        hosts[named] += 1
        label = next((str(v) for v in row if isinstance(v, str) and v != cell and len(v) < 100), "")
        key = label if _SITE_KEY.fullmatch(label) else place.rpartition(".")[2]
        if _BARE.fullmatch(cell.strip()) or (_SITE_KEY.fullmatch(key) and _UNDER_A_PATH.fullmatch(cell.strip())):
            exact.setdefault(f"{place} ({label})" if label else place, cell.strip().rstrip("/"))
    elif len(cell) >= 60 and is_packed_text(cell):
        opaque[place] += 1


def is_packed_text(text: str) -> bool:
    """Whether a text is data that was packed and then encoded in a way that cannot be undone here, so that nothing can
    be found in it."""
    found = _ENCODED.fullmatch(text.strip())
    if found is None or len(found[0]) < 60 or unpacked(text) is not None:
        return False
    try:
        head = base64.b64decode(
            found[0][:64] + "=" * (-len(found[0][:64]) % 4), altchars=b"-_" if re.search("[-_]", found[0]) else None
        )
    except (binascii.Error, ValueError):
        return False
    return head.startswith(_PACKED)
