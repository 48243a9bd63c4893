"""What a setting's cell holds: JSON, a length-prefixed value, either of them packed, or plain text; reading and
changing a part of it."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from keenharbor.database import packed, serialised


def cell_value(text: str) -> object:
    """The cell's value as text, numbers and dicts."""
    if text[:1] in ("{", "["):
        try:
            return json.loads(text)
        except ValueError:
            return text
    try:
        return serialised.plain(serialised.parse(text))
    except serialised.NotSerialised:
        opened = packed.unpacked_text(text.strip()) if len(text) >= packed.SHORTEST else None
        return text if opened is None else cell_value(opened[0])


def flat(value: object, prefix: str = "") -> dict[str, object]:
    """The leaves of a value by dotted path; lists count as tables keyed 0, 1, 2."""
    if isinstance(value, list):
        value = dict(enumerate(value))
    if isinstance(value, dict):
        found: dict[str, object] = {}
        for key, inner in value.items():
            found |= flat(inner, f"{prefix}.{key}" if prefix else str(key))
        return found or {prefix: {}}
    return {prefix: value}


def with_part(text: str, path: Sequence[str], value: object) -> str:
    """``text`` with the part at ``path`` set, in the form that the cell has. Raises KeyError when there is no such
    part."""
    if not path:
        return str(value)
    if text[:1] in ("{", "["):
        whole = json.loads(text)
        inner = whole
        for key in path[:-1]:
            inner = inner[int(key) if isinstance(inner, list) else key]
        last: Any = int(path[-1]) if isinstance(inner, list) else path[-1]
        if (isinstance(inner, dict) and last not in inner) or (isinstance(inner, list) and last >= len(inner)):
            raise KeyError(last)
        inner[last] = value
        written = json.dumps(whole, ensure_ascii="\\u" in text)
        return written.replace("/", "\\/") if "\\/" in text else written
    try:
        node = serialised.parse(text)
    except serialised.NotSerialised:
        opened = packed.unpacked_text(text)
        if opened is None:
            raise KeyError(path[0]) from None
        return opened[1].pack(with_part(opened[0], path, value)).decode("ascii")
    return serialised.write(serialised.replaced(node, path, value))
