"""JSON that is large: manifests and indexes, read and written by a fast library.

That library refuses what only Python's own one takes: names that are not UTF-8 (lone surrogates) and whole numbers
beyond 64 bits. For these the slower one does it, so that either gives what the other would."""

from __future__ import annotations

import json
from typing import Any

import msgspec


def decode_json(data: bytes) -> Any:
    """The value that ``data`` stands for. Raises `ValueError`."""
    try:
        return msgspec.json.decode(data)
    except (msgspec.MsgspecError, ValueError, RecursionError):
        return json.loads(data)


def encode_json(value: Any) -> bytes:
    """``value`` as JSON without blanks."""
    try:
        return msgspec.json.encode(value)
    except (TypeError, ValueError, OverflowError):
        return json.dumps(value, separators=(",", ":")).encode()


def indented_json(value: object) -> bytes:
    """``value`` as JSON for people: an entry a line."""
    try:
        return msgspec.json.format(msgspec.json.encode(value), indent=1)
    except (TypeError, ValueError, OverflowError, msgspec.MsgspecError):
        return json.dumps(value, indent=1).encode()
