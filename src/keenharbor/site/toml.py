"""Reading TOML so that an error names the file and the line."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from keenharbor.base.errors import UsageError

if TYPE_CHECKING:
    from pydantic import BaseModel

Model = TypeVar("Model", bound="BaseModel")
_HEADER = re.compile(r"^\s*(\[\[?)\s*([^\]]+?)\s*\]\]?\s*(?:#.*)?$")
_KEY = re.compile(r'^\s*("[^"]*"|[A-Za-z0-9_-]+)((?:\s*\.\s*(?:"[^"]*"|[A-Za-z0-9_-]+))*)\s*=')


def read_toml(file: Path, what: str) -> dict[str, object]:
    """The content of a TOML file; ``what`` names it in errors. Raises `UsageError`."""
    try:
        text = file.read_text(encoding="utf-8")
    except FileNotFoundError:
        raise UsageError(f"there is no {what} here", where=file) from None
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(f"the {what} cannot be read: {error}", where=file) from error
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        found = re.search(r"line (\d+)", str(error))
        raise UsageError(
            f"the {what} is not valid TOML: {error}", where=file, line=int(found[1]) if found else None
        ) from None


def find_line(text: str, keys: Sequence[str | int]) -> int | None:
    """The line (from 1) at which the value at ``keys`` stands, or the nearest table above it."""
    best: tuple[int, int] | None = None
    table: list[str | int] = []
    counts: dict[str, int] = {}
    for number, line in enumerate(text.splitlines(), 1):
        if header := _HEADER.match(line):
            table = [p.strip().strip('"') for p in header[2].split(".")]
            if header[1] == "[[":
                name = header[2]
                table = [*table, counts.get(name, 0)]
                counts[name] = counts.get(name, 0) + 1
            here = table
        elif key := _KEY.match(line):
            here = [*table, *(p.strip().strip('"') for p in (key[1] + key[2]).split("."))]
        else:
            continue
        common = 0
        for a, b in zip(here, keys, strict=False):
            if a != b:
                break
            common += 1
        if common == len(here) and common and (best is None or common > best[0]):
            best = (common, number)
    return best[1] if best else None


def behind_table(text: str, table: Sequence[str | int], added: str) -> str:
    """The text with ``added`` behind the last key of a table (``["step", 2]`` is the third of its array), so above the
    comments of what follows. Raises `KeyError` where there is no such table."""
    lines = text.splitlines(keepends=True)
    first = find_line(text, table)
    if first is None or not _HEADER.match(lines[first - 1]):
        raise KeyError(".".join(map(str, table)))
    end = next((n for n in range(first, len(lines)) if _HEADER.match(lines[n])), len(lines))
    while end > first and (not lines[end - 1].strip() or lines[end - 1].lstrip().startswith("#")):
        end -= 1
    if not lines[end - 1].endswith("\n"):
        lines[end - 1] += "\n"
    return "".join([*lines[:end], added, *lines[end:]])


def with_value(text: str, table: Sequence[str | int], key: str, value: object) -> str:
    """The text with a key of a table set: where it stands, or behind the table's last one. Raises `KeyError`."""
    import tomlkit

    document = tomlkit.parse(text)
    part: Any = document
    for step in table:
        part = part[step]
    if key in part:
        part[key] = value
        return tomlkit.dumps(document)
    return behind_table(text, table, tomlkit.dumps({key: value}))


def inline(tables: Sequence[Mapping[str, object]]) -> list[object]:
    """Tables as a value of one key, in a line."""
    import tomlkit

    array: list[object] = tomlkit.array()
    for table in tables:
        one = tomlkit.inline_table()
        one.update(table)
        array.append(one)
    return array


def validated(model: type[Model], data: dict[str, object], file: Path, what: str) -> Model:
    """``data`` as ``model``; the first error is told with its key and line."""
    from pydantic import ValidationError

    try:
        return model.model_validate(data)
    except ValidationError as errors:
        # A key that is not known comes first: it is most often what the missing one was meant to be.
        first = min(errors.errors(), key=lambda e: e["type"] != "extra_forbidden")
        keys = [k for k in first["loc"] if isinstance(k, str | int)]
        name = ".".join(str(k) for k in keys)
        message = first["msg"].removeprefix("Value error, ")
        if first["type"] == "extra_forbidden":
            message = "this key is not known" + _nearest(model, keys)
        elif first["type"] == "missing":
            message = "this key is missing"
        text = file.read_text(encoding="utf-8")
        more = f" (and {len(errors.errors()) - 1} more)" if len(errors.errors()) > 1 else ""
        raise UsageError(f"{what}, '{name}': {message}{more}", where=file, line=find_line(text, keys)) from None


def _nearest(model: type[BaseModel], keys: Sequence[str | int]) -> str:
    import difflib

    from pydantic import BaseModel

    fields: dict[str, Any] = dict(model.model_fields)
    for key in keys[:-1]:
        inner = fields[key].annotation if isinstance(key, str) and key in fields else None
        if isinstance(inner, type) and issubclass(inner, BaseModel):
            fields = dict(inner.model_fields)
    close = difflib.get_close_matches(str(keys[-1]), fields, n=1)
    return f"; did you mean '{close[0]}'?" if close else ""
