"""What an archive's manifest may say: every field by type, range and meaning, checked before anything of it is used."""

from __future__ import annotations

import math
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError

from keenharbor.base.errors import KeenHarborError
from keenharbor.base.text import now, parse_stamp
from keenharbor.database import DatabasePlace, Schema
from keenharbor.database.definitions import check_definitions
from keenharbor.database.kinds import KINDS
from keenharbor.host import AREAS

_MOST = 2**62
_HEX = frozenset("0123456789abcdef")
_KINDS = ("file", "folder", "link")


def _stamp(text: str) -> str:
    at = parse_stamp(text)
    if not datetime(1990, 1, 1, tzinfo=UTC) <= at <= now() + timedelta(days=366):
        raise ValueError("no snapshot was taken then")
    return text


def _area(text: str) -> str:
    if text not in AREAS:
        raise ValueError("it is no area")
    return text


def _place(text: str) -> str:
    try:
        DatabasePlace.from_url(text)
    except KeenHarborError as error:
        raise ValueError(error.what) from None
    return text


def _engine(text: str) -> str:
    if text not in KINDS:
        raise ValueError("no engine of that name is known")
    return text


def _finite(number: float) -> float:
    if not math.isfinite(number):
        raise ValueError("it is no number")
    return number


Short = Annotated[str, Field(max_length=300)]
Long = Annotated[str, Field(max_length=4096)]
Count = Annotated[int, Field(ge=0, le=_MOST)]
Stamp = Annotated[str, Field(max_length=40), AfterValidator(_stamp)]
Area = Annotated[str, AfterValidator(_area)]
Paths = Annotated[list[Long], Field(max_length=10_000_000)]


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True)


class _Facts(_Strict):
    core: Short
    runtime: Short
    components: Annotated[list[dict[Short, str | bool | None]], Field(max_length=100_000)]


class _Table(_Strict):
    name: Long
    columns: list[Long]
    key: list[Long]
    ddl: str
    kind: Literal["table", "virtual", "shadow", "internal"]
    implicit_key: bool
    kinds: list[Literal["any", "int", "float", "text", "bytes", "bool"]] = []
    read_as: list[Long] = []
    namespace: Long = ""
    row_format: Literal["json", "copy"] = "json"


class _Schema(_Strict):
    engine: Annotated[str, AfterValidator(_engine)]
    version: Short
    tables: Annotated[list[_Table], Field(max_length=100_000)]
    objects: Annotated[list[Annotated[list[str], Field(min_length=3, max_length=3)]], Field(max_length=100_000)]
    settings: dict[Short, str | int | float | bool | None]
    not_kept: list[Long]
    counters: dict[Long, Annotated[list[int | bool], Field(min_length=1, max_length=2)]] = {}


class _Database(_Strict):
    place: Annotated[Long, AfterValidator(_place)]
    schema_: Annotated[_Schema, Field(alias="schema")]
    tables: list[dict[str, object]]


class _Manifest(_Strict):
    format: Literal[2, 3, 4]
    id: Annotated[str, Field(pattern=r"^\d{8}-\d{6}-[0-9a-f]{4}$")]
    site: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]{0,59}$")]
    title: Annotated[str, Field(max_length=1000)]
    taken_at: Stamp
    seconds: Annotated[float, Field(ge=0), AfterValidator(_finite)]
    label: Short | None
    comment: Annotated[str, Field(max_length=10_000)] | None
    reason: Short
    root: Long
    address: Annotated[str, Field(max_length=2000, pattern=r"^https?://[^\s]+$")]
    facts: _Facts
    areas_left_out: list[Area]
    rules: Short | None = None
    left_out: Paths
    too_large: Paths = []
    left_empty: list[Long] = []
    unreadable: Paths
    unstable: Paths
    tree: list[list[object]]
    database: _Database
    environment: dict[Short, Short] = {}
    added_bytes: Count = 0
    read_bytes: Count = 0
    added_objects: Count = 0


class WrongManifest(Exception):
    """Why a manifest is not taken, in words."""


def check_manifest(manifest: Any) -> None:
    """Raise `WrongManifest` for anything that the tool would not have written: types, ranges, meanings, definitions."""
    try:
        checked = _Manifest.model_validate(manifest)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(p) for p in first["loc"])
        raise WrongManifest(f"what its manifest says of '{where}' is not right: {first['msg'].lower()}") from None
    except RecursionError:
        raise WrongManifest("its manifest is nested too deeply") from None
    for entry in checked.tree:
        problem = _wrong_entry(entry)
        if problem:
            raise WrongManifest(f"what is said of {str(entry[:1])[:80]} is out of range: {problem}")
    names = [t.name for t in checked.database.schema_.tables]
    if [t.get("name") for t in checked.database.tables] != names or len(set(names)) != len(names):
        raise WrongManifest("its tables are not those of its definitions")
    for table in checked.database.schema_.tables:
        if not set(table.key) <= set(table.columns) or len(set(table.columns)) != len(table.columns):
            raise WrongManifest(f"the key of table {table.name!r} is none of its columns")
        if table.kinds and len(table.kinds) != len(table.columns):
            raise WrongManifest(f"the columns of table {table.name!r} are not as many as their kinds")
    try:
        check_definitions(Schema.from_json(manifest["database"]["schema"]))
    except KeenHarborError as error:
        raise WrongManifest(error.what) from None


def _wrong_entry(entry: Sequence[Any]) -> str:
    """What is wrong with a path's entry (see `keenharbor.host.Entry`); empty where nothing is."""
    if not 8 <= len(entry) <= 14:
        return "it has not as many parts as a path has"
    path, kind, mode, mtime, size, area, target, objects = entry[:8]
    if not isinstance(path, str) or not path or len(path) > 8192:
        return "its path"
    if kind not in _KINDS or area not in AREAS:
        return "its kind or its area"
    if not _is_whole(mode, 0, 0o7777) or not _is_whole(size, 0, _MOST) or not _is_whole(mtime, -_MOST, 2**63 - 1):
        return "its mode, size or time"
    if target is not None and (not isinstance(target, str) or len(target) > 4096 or "\x00" in target or kind != "link"):
        return "where it leads"
    if kind == "link" and not target:
        return "where it leads"
    if not isinstance(objects, list) or not all(
        isinstance(o, str) and len(o) == 64 and _HEX.issuperset(o) for o in objects
    ):
        return "its content"
    if objects and kind != "file":
        return "its content"
    return _wrong_rest(entry[8:])


def _wrong_rest(rest: Sequence[Any]) -> str:
    if rest and isinstance(rest[0], int) and not isinstance(rest[0], bool):  # formats 1 to 3
        if not all(_is_whole(n, -_MOST, _MOST * 4) for n in rest[:2]):
            return "its stamp"
        rest = ["", *rest[2:]]
    stamp, uid, gid, same_as, sparse = [*rest, *("", -1, -1, None, False)[len(rest) :]][:5]
    if not isinstance(stamp, str) or len(stamp) > 100:
        return "its stamp"
    if not _is_whole(uid, -1, 2**32 - 2) or not _is_whole(gid, -1, 2**32 - 2):
        return "its owner"
    if not (same_as is None or isinstance(same_as, str)) or not isinstance(sparse, bool):
        return "its other names"
    return ""


def _is_whole(value: object, least: int, most: int) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and least <= value <= most
