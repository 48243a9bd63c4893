"""Length-prefixed serialised values, the text form of PHP's ``serialize``: ``a:1:{s:4:"home";s:3:"abc";}``.

Lengths count bytes. The form is described at https://www.php.net/manual/en/function.serialize.php; objects are kept
as they are written, nothing is ever made from them.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any


class NotSerialised(ValueError):
    """The text is not a serialised value."""


@dataclass(frozen=True)
class Raw:
    """A scalar that is not a text, as it stands (``i:5;``, ``d:0.5;``, ``N;``, ``R:2;``)."""

    text: bytes


@dataclass
class Array:
    """An array or an object: what stands before its count (``a`` or ``O:3:"Box"``), and its keys and values in
    order."""

    head: bytes
    pairs: list[tuple[Node, Node]]


@dataclass(frozen=True)
class Closed:
    """Something whose inside is its own affair (``C:``, ``E:``), as it stands."""

    text: bytes


Node = Raw | bytes | Array | Closed
_DEEPEST = 200


def parse(text: str) -> Node:
    """The value in ``text``. Raises `NotSerialised` unless all of the text is one value."""
    raw = text.encode("utf-8", "surrogateescape")
    if raw[:2] not in (b"N;", b"b:", b"i:", b"d:", b"s:", b"a:", b"O:", b"C:", b"E:"):
        raise NotSerialised
    try:
        node, end = _parse(raw, 0, 0)
    except (ValueError, IndexError) as error:
        raise NotSerialised(str(error)) from None
    if end != len(raw):
        raise NotSerialised("something follows the value")
    return node


_BEGINS = re.compile(rb'(?<![\w"\\])(?:a:\d+:\{|O:\d+:")')


def pieces(text: str) -> list[str | Node]:
    """The value that a text is; or the text cut into what is an array or object in it, and what stands between: a file
    may begin with a line of code, or end with a line's end. Only one piece, the text itself, where there is none."""
    with contextlib.suppress(NotSerialised):
        return [parse(text)]
    raw = text.encode("utf-8", "surrogateescape")
    found_so_far: list[str | Node] = []
    done = 0
    for found in _BEGINS.finditer(raw):
        if found.start() < done:
            continue
        try:
            node, end = _parse(raw, found.start(), 0)
        except (ValueError, IndexError):
            continue
        if found.start() > done:
            found_so_far.append(raw[done : found.start()].decode("utf-8", "surrogateescape"))
        found_so_far.append(node)
        done = end
    if done < len(raw) or not found_so_far:
        found_so_far.append(raw[done:].decode("utf-8", "surrogateescape"))
    return found_so_far


def _number(raw: bytes, at: int) -> tuple[int, int]:
    end = raw.index(b":", at)
    digits = raw[at:end]
    if not digits.isdigit():
        raise NotSerialised("a length is not a number")
    return int(digits), end + 1


def _quoted(raw: bytes, at: int) -> tuple[bytes, int]:
    length, at = _number(raw, at)
    if raw[at : at + 1] != b'"' or raw[at + 1 + length : at + 2 + length] != b'"':
        raise NotSerialised("a length is wrong")
    return raw[at + 1 : at + 1 + length], at + 2 + length


def _parse(raw: bytes, at: int, depth: int) -> tuple[Node, int]:
    if depth > _DEEPEST:
        raise NotSerialised("too deep")
    kind = raw[at : at + 2]
    if kind == b"N;":
        return Raw(b"N;"), at + 2
    if kind in (b"b:", b"i:", b"d:", b"R:", b"r:"):
        end = raw.index(b";", at) + 1
        if not all(c in b"0123456789+-.eEINFA" for c in raw[at + 2 : end - 1]) or end - 1 == at + 2:
            raise NotSerialised("a number is none")
        return Raw(raw[at:end]), end
    if kind == b"s:":
        content, end = _quoted(raw, at + 2)
        if raw[end : end + 1] != b";":
            raise NotSerialised("a text does not end")
        return content, end + 1
    if kind == b"E:":
        _, end = _quoted(raw, at + 2)
        return Closed(raw[at : end + 1]), end + 1
    if kind == b"C:":
        _, end = _quoted(raw, at + 2)
        length, inside = _number(raw, end + 1)
        stop = inside + length + 2
        if raw[inside : inside + 1] != b"{" or raw[stop - 1 : stop] != b"}":
            raise NotSerialised("an object does not end")
        return Closed(raw[at:stop]), stop
    if kind not in (b"a:", b"O:"):
        raise NotSerialised("unknown kind of value")
    if kind == b"O:":
        _, head_end = _quoted(raw, at + 2)
    else:
        head_end = at + 1
    count, inside = _number(raw, head_end + 1)
    if raw[inside : inside + 1] != b"{":
        raise NotSerialised("an array does not begin")
    node = Array(raw[at:head_end], [])
    at = inside + 1
    for _ in range(count):
        key, at = _parse(raw, at, depth + 1)
        value, at = _parse(raw, at, depth + 1)
        node.pairs.append((key, value))
    if raw[at : at + 1] != b"}":
        raise NotSerialised("an array does not end")
    return node, at + 1


def write(node: Node) -> str:
    """The text of a value; the reverse of `parse`."""
    return _write(node).decode("utf-8", "surrogateescape")


def _write(node: Node) -> bytes:
    if isinstance(node, bytes):
        return b's:%d:"%s";' % (len(node), node)
    if isinstance(node, Array):
        inside = b"".join(_write(k) + _write(v) for k, v in node.pairs)
        return b"%s:%d:{%s}" % (node.head, len(node.pairs), inside)
    return node.text


def with_strings(node: Node, change: Callable[[str], str]) -> Node:
    """The value with ``change`` applied to each text in it that is UTF-8 (keys of arrays too)."""
    if isinstance(node, bytes):
        try:
            text = node.decode("utf-8")
        except UnicodeDecodeError:
            return node
        return change(text).encode("utf-8")
    if isinstance(node, Array):
        return Array(node.head, [(with_strings(k, change), with_strings(v, change)) for k, v in node.pairs])
    return node


def plain(node: Node) -> object:
    """The value as text, numbers, dicts (for comparing and showing); not reversible."""
    if isinstance(node, bytes):
        return node.decode("utf-8", "replace")
    if isinstance(node, Array):
        return {str(plain(k)): plain(v) for k, v in node.pairs}
    if isinstance(node, Raw):
        body = node.text[2:-1].decode()
        kind = node.text[:1]
        return None if kind == b"N" else bool(int(body)) if kind == b"b" else int(body) if kind == b"i" else body
    return node.text.decode("utf-8", "replace")


def from_plain(value: Any) -> Node:
    """A node for a text, number, truth value or nothing."""
    if isinstance(value, str):
        return value.encode("utf-8")
    if isinstance(value, bool):
        return Raw(b"b:%d;" % value)
    if isinstance(value, int):
        return Raw(b"i:%d;" % value)
    if isinstance(value, float):
        return Raw(f"d:{value!r};".encode())
    if value is None:
        return Raw(b"N;")
    if isinstance(value, dict):
        return Array(b"a", [(from_plain(k), from_plain(v)) for k, v in value.items()])
    return Array(b"a", [(from_plain(i), from_plain(v)) for i, v in enumerate(value)])


def replaced(node: Node, path: Sequence[str], value: object) -> Node:
    """The value with what stands at ``path`` (keys as text) replaced. Raises KeyError when there is nothing."""
    if not path:
        return from_plain(value)
    if not isinstance(node, Array):
        raise KeyError(path[0])
    pairs = list(node.pairs)
    for number, (key, inner) in enumerate(pairs):
        if str(plain(key)) == path[0]:
            pairs[number] = (key, replaced(inner, path[1:], value))
            return Array(node.head, pairs)
    raise KeyError(path[0])
