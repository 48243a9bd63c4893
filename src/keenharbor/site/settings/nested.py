"""Settings in YAML, JSON, TOML and XML."""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Callable, Iterator
from functools import partial
from typing import Any
from xml.parsers import expat

import yaml

from keenharbor.site.settings.common import DEEPEST, Setting, SettingsError, joined_key
from keenharbor.site.toml import find_line

_MOST_NODES = 200_000


def read_yaml(text: str) -> Iterator[Setting]:
    """Every scalar by its way; entries of lists by their number. Nothing is built from tags; an anchor that is used
    again and again is followed only so often (a small text can stand for a huge tree)."""
    try:
        root = yaml.compose(text, Loader=yaml.SafeLoader)
    except yaml.YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        raise SettingsError(str(getattr(error, "problem", error)), mark.line + 1 if mark else None) from None
    except (RecursionError, ValueError) as error:
        raise SettingsError(f"it cannot be read: {type(error).__name__}") from None
    if not isinstance(root, yaml.MappingNode):
        raise SettingsError("it holds no keys")
    yield from _yaml_values(root, (), [0], _as_yaml)


def read_json(text: str) -> Iterator[Setting]:
    """As `read_yaml`, for a JSON object."""
    try:
        value = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise SettingsError(str(error), getattr(error, "lineno", None)) from None
    if not isinstance(value, dict):
        raise SettingsError("it holds no keys")
    # JSON is YAML; its parser tells where each value stands.
    try:
        root = yaml.compose(text.replace("\t", " "), Loader=yaml.SafeLoader)
    except (yaml.YAMLError, RecursionError, ValueError):
        yield from (Setting(k, v, 0, kind=kind) for k, v, kind in _plain_values(value, ()))
        return
    yield from _yaml_values(root, (), [0], lambda value, style: json.dumps(value))


def _yaml_values(
    node: Any, way: tuple[str, ...], count: list[int], write: Callable[[str, str | None], str]
) -> Iterator[Setting]:
    count[0] += 1
    if len(way) > DEEPEST or count[0] > _MOST_NODES:
        return
    if isinstance(node, yaml.MappingNode):
        for key, value in node.value:
            if isinstance(key, yaml.ScalarNode):
                yield from _yaml_values(value, (*way, str(key.value)), count, write)
    elif isinstance(node, yaml.SequenceNode):
        for number, value in enumerate(node.value):
            yield from _yaml_values(value, (*way, str(number)), count, write)
    else:
        kind = {"int": "number", "float": "number", "bool": "flag", "null": "nothing"}.get(
            node.tag.rpartition(":")[2], "text"
        )
        value = "" if kind == "nothing" else str(node.value)
        start, end = node.start_mark.index, node.end_mark.index
        yield Setting(
            joined_key(way), value, node.start_mark.line + 1, start, end, kind,
            partial(_styled, write, node.style),
        )  # fmt: skip


def _styled(write: Callable[[str, str | None], str], style: str | None, value: str) -> str:
    return write(value, style)


def _as_yaml(value: str, style: str | None) -> str:
    if style is None and re.fullmatch(r"[A-Za-z0-9_./@+-][\w ./@+-]*(?<! )", value) and _means_itself(value):
        return value
    return "'" + value.replace("'", "''") + "'" if style == "'" and "\n" not in value else json.dumps(value)


def _means_itself(text: str) -> bool:
    """Whether YAML takes a text without quotes for that text: not for a number, a list, or what it keeps for itself."""
    try:
        return bool(yaml.safe_load(text) == text)
    except yaml.YAMLError:
        return False


def _plain_values(value: Any, way: tuple[str, ...]) -> Iterator[tuple[str, str, str]]:
    if len(way) > DEEPEST:
        return
    if isinstance(value, dict):
        for key, inner in value.items():
            yield from _plain_values(inner, (*way, str(key)))
    elif isinstance(value, list):
        for number, inner in enumerate(value):
            yield from _plain_values(inner, (*way, str(number)))
    elif value is None:
        yield joined_key(way), "", "nothing"
    elif isinstance(value, bool):
        yield joined_key(way), "true" if value else "false", "flag"
    else:
        yield joined_key(way), str(value), "text" if isinstance(value, str) else "number"


def read_toml_values(text: str) -> Iterator[Setting]:
    """Every value by its way."""
    try:
        value = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        at = re.search(r"line (\d+)", str(error))
        raise SettingsError(str(error), int(at[1]) if at else None) from None
    for key, said, kind in _plain_values(value, ()):
        yield Setting(key, said, find_line(text, key.split(".")) or 0, kind=kind)


def read_xml(text: str) -> Iterator[Setting]:
    """Texts and attributes by the names of the elements above; an attribute ``name`` or ``key`` counts as a name. No
    entity is ever expanded, no file is ever fetched."""
    parser = expat.ParserCreate()
    found: list[Setting] = []
    way: list[str] = []
    texts: list[str] = []
    lines: list[int] = []

    def begin(name: str, given: dict[str, str]) -> None:
        if len(way) > DEEPEST or len(found) > _MOST_NODES:
            raise SettingsError("it is nested too deep, or too large", parser.CurrentLineNumber)
        called = given.get("name") or given.get("key") or name
        way.append(called)
        texts.append("")
        lines.append(parser.CurrentLineNumber)
        for key, value in given.items():
            if key not in ("name", "key"):
                found.append(Setting(joined_key((*way[1:], key)), value, parser.CurrentLineNumber))

    def end(name: str) -> None:
        said = texts.pop().strip()
        line = lines.pop()
        if said:
            found.append(Setting(joined_key(way[1:] or way), said, line))
        way.pop()

    def words(data: str) -> None:
        if texts:
            texts[-1] += data

    def refuse(*_: object) -> None:
        raise SettingsError("it defines entities, which are not followed", parser.CurrentLineNumber)

    parser.StartElementHandler, parser.EndElementHandler, parser.CharacterDataHandler = begin, end, words
    parser.EntityDeclHandler = refuse
    try:
        parser.Parse(text.encode("utf-8", "surrogateescape"), True)
    except expat.ExpatError as error:
        raise SettingsError(f"it is no XML: {expat.errors.messages[error.code]}", error.lineno) from None
    yield from found
