"""Packed text: values that a system has compressed, encoded as letters, or both, before it wrote them.

Layers are base64 (RFC 4648, with either alphabet, padded or not, in lines or not) and deflate (RFC 1951) by itself, in
a zlib (RFC 1950) or a gzip (RFC 1952) envelope. What lies within is text, which may hold further packed values.
"""

from __future__ import annotations

import base64
import binascii
import re
import string
import zlib
from collections.abc import Callable
from dataclasses import dataclass

SHORTEST = 24
"""Shorter runs of letters are words; what is packed into fewer is too short to name a place."""
MOST_BYTES = 16 * 1024 * 1024
"""More than this is not unpacked: a few bytes can stand for gigabytes."""

_LETTERS = (string.ascii_letters + string.digits + "+/").encode()
_AS_RUNS = bytes(ord("a") if b in _LETTERS else ord(" ") for b in range(256))
_RUN = b"a" * SHORTEST
_WORD = r"[A-Za-z0-9+/_-]"
_TOKEN = re.compile(
    rf"(?<![A-Za-z0-9+/_.%-]){_WORD}{{{SHORTEST},}}(?:\r?\n{_WORD}{{2,}})*={{0,2}}(?![A-Za-z0-9+/_=.%-])"
)
_HEX = re.compile(r"[0-9a-f]+|[0-9A-F]+")
_GZIP, _ZLIB, _BARE = 31, 15, -15
_GZIP_HEAD = b"\x1f\x8b\x08"
_LEVELS = (1, 5, 6, 9)


def may_hold(data: bytes) -> bool:
    """Whether packed text may stand in ``data`` (quick; says yes too often): letters without a break."""
    return _RUN in data.translate(_AS_RUNS)


def may_be(data: bytes) -> bool:
    """Whether ``data`` may hold packed text, or be compressed as a whole (quick; says yes too often)."""
    return data[:3] == _GZIP_HEAD or _is_zlib(data) or may_hold(data)


def _is_zlib(data: bytes) -> bool:
    return len(data) > 6 and data[0] & 0x0F == 8 and int.from_bytes(data[:2], "big") % 31 == 0


@dataclass(frozen=True)
class Layers:
    """How a text was packed: ``envelope`` of the compression (None: it was not compressed), its level, and how the
    result was written as letters (``encoded`` is False where it stands as bytes)."""

    envelope: int | None
    level: int
    encoded: bool = False
    web_alphabet: bool = False
    padded: bool = True
    line: int = 0
    line_end: str = ""

    def pack(self, text: str) -> bytes:
        """The text packed again in the same way. What compresses may choose other bytes than the program that wrote it;
        they stand for the same."""
        data = text.encode("utf-8", "surrogateescape")
        if self.envelope is not None:
            packer = zlib.compressobj(self.level, zlib.DEFLATED, self.envelope)
            data = packer.compress(data) + packer.flush()
        if not self.encoded:
            return data
        data = base64.urlsafe_b64encode(data) if self.web_alphabet else base64.b64encode(data)
        if not self.padded:
            data = data.rstrip(b"=")
        if self.line:
            pieces = [data[at : at + self.line] for at in range(0, len(data), self.line)]
            data = self.line_end.encode().join(pieces)
        return data


def unpacked_bytes(data: bytes) -> tuple[str, Layers] | None:
    """The text in compressed bytes, and how it was packed; None when they are none, or hold no text."""
    return _inflated(data, bare=False)


def unpacked_text(token: str) -> tuple[str, Layers] | None:
    """The text behind letters, and how it was packed; None when nothing that is text lies behind them."""
    lines = token.split()
    if not lines or (len(lines) > 1 and (len({len(x) for x in lines[:-1]}) > 1 or len(lines[-1]) > len(lines[0]))):
        return None
    letters = "".join(lines)
    bare = letters.rstrip("=")
    web = "-" in bare or "_" in bare
    if len(bare) < SHORTEST or len(bare) % 4 == 1 or (web and ("+" in bare or "/" in bare)) or _HEX.fullmatch(bare):
        return None
    try:
        data = base64.b64decode(bare + "=" * (-len(bare) % 4), b"-_" if web else None, validate=True)
    except (binascii.Error, ValueError):
        return None
    found = _inflated(data, bare=True)
    if found is None:
        text = _text_of(data)
        if text is None:
            return None
        found = text, Layers(None, 0)
    line_end = "" if len(lines) == 1 else "\r\n" if "\r\n" in token else "\n"
    text, inner = found
    padded = len(letters) > len(bare) or len(bare) % 4 == 0
    return text, Layers(
        inner.envelope, inner.level, True, web, padded, len(lines[0]) if len(lines) > 1 else 0, line_end
    )


def _inflated(data: bytes, *, bare: bool) -> tuple[str, Layers] | None:
    """Inflated text; without an envelope (``bare``) only where letters had to be decoded first: any bytes may look like
    that."""
    if data[:3] == _GZIP_HEAD:
        envelope, level = _GZIP, 6
    elif _is_zlib(data):
        envelope, level = _ZLIB, _LEVELS[data[1] >> 6]
    elif bare and data:
        envelope, level = _BARE, 6
    else:
        return None
    opener = zlib.decompressobj(envelope)
    try:
        inside = opener.decompress(data, MOST_BYTES)
    except zlib.error:
        return None
    if not opener.eof or opener.unused_data:
        return None
    text = _text_of(inside)
    return None if text is None else (text, Layers(envelope, level))


def unpacked(value: str | bytes) -> str | None:
    """The text in a packed cell, all layers off; None when it is not packed, or cannot be read."""
    opened = unpacked_bytes(value) if isinstance(value, bytes) else unpacked_text(value.strip())
    return None if opened is None else unpacked(opened[0]) or opened[0]


def _text_of(data: bytes) -> str | None:
    """The bytes as text, where they are text: UTF-8 without control characters other than those that write uses (a
    serialised object marks the names of its closed properties by zeros)."""
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError:
        return None
    return None if _CONTROL.search(text) else text


_CONTROL = re.compile(r"[\x01-\x08\x0e-\x1f\x7f]")


def with_packed(value: str, change: Callable[[str], str]) -> str:
    """``value`` with ``change`` applied to what each packed text in it holds. What ``change`` leaves stands as it
    stood, to the byte."""

    def one(found: re.Match[str]) -> str:
        opened = unpacked_text(found[0])
        if opened is None:
            return found[0]
        inside, layers = opened
        changed = change(inside)
        return found[0] if changed == inside else layers.pack(changed).decode("ascii")

    return _TOKEN.sub(one, value)


def holds(value: str, wanted: Callable[[str], bool]) -> bool:
    """Whether ``wanted`` says so of what any packed text in ``value`` holds."""
    found = (unpacked_text(token[0]) for token in _TOKEN.finditer(value))
    return any(opened is not None and wanted(opened[0]) for opened in found)
