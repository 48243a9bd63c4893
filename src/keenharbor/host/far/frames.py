"""Messages between the tool and its helper on a far machine: a head of fixed length, a JSON text, and bytes.

JSON, since nothing that comes over a line may bring more than values; texts that are not UTF-8 come as surrogates,
which JSON escapes. Runs on both sides, and there on whatever Python (3.9 and later) the machine has."""

from __future__ import annotations

import json
import struct
import zlib
from typing import Any, Callable, NamedTuple, Optional

_HEAD = struct.Struct(">BII")
HEAD_LENGTH = _HEAD.size
_MARK = 0xA7
_DEFLATED = 0x01
LONGEST_TEXT = 32 * 1024 * 1024
LONGEST_BODY = 16 * 1024 * 1024
PART_SIZE = 1024 * 1024
"""Bodies are sent in parts of about this many bytes."""
MOST_ON_THE_WAY = 24
"""So many parts of one answer may be on their way before the one who asked says that it has taken some."""
KNOWN_LENGTH = 8
"""So much of a digest is told of contents that are known; the answer tells it whole."""
_WORTH_DEFLATING = 256
_SAMPLE = 8 * 1024
_WORTH_IT = 0.92


class FrameError(Exception):
    """What came is no message."""


class Frame(NamedTuple):
    """A message: its values, and the bytes that go with them."""

    values: Any
    body: bytes = b""


def packed(frame: Frame, level: int = 6) -> bytes:
    """A message as it travels; what does not get smaller by it is not deflated."""
    text = json.dumps(frame.values, separators=(",", ":")).encode("ascii")
    flags = 0
    body = frame.body
    whole = len(text).to_bytes(4, "big") + text + body
    if level and len(whole) > _WORTH_DEFLATING and (len(text) > len(body) or gets_smaller(body)):
        smaller = zlib.compress(whole, level)
        if len(smaller) < len(whole) * _WORTH_IT:
            whole, flags = smaller, _DEFLATED
    return _HEAD.pack(_MARK, flags, len(whole)) + whole


def gets_smaller(content: bytes) -> bool:
    """Whether it does when it is deflated, by samples of its beginning and its middle."""
    if len(content) <= 4 * _SAMPLE:
        return len(zlib.compress(content, 1)) < len(content) * _WORTH_IT
    middle = len(content) // 2
    sample = content[:_SAMPLE] + content[middle : middle + _SAMPLE]
    return len(zlib.compress(sample, 1)) < len(sample) * _WORTH_IT


def length_of(head: bytes) -> tuple[int, int]:
    """The flags, and how many bytes follow. Raises `FrameError`."""
    mark, flags, length = _HEAD.unpack(head)
    if mark != _MARK or flags & ~_DEFLATED or length < 4 or length > LONGEST_TEXT + LONGEST_BODY:
        raise FrameError("what came is no message of the helper")
    return flags, length


def unpacked(flags: int, whole: bytes) -> Frame:
    """The message in what followed its head. Raises `FrameError`, also for one that is larger than any may be."""
    if flags & _DEFLATED:
        deflated = zlib.decompressobj()
        try:
            whole = deflated.decompress(whole, LONGEST_TEXT + LONGEST_BODY)
        except zlib.error as error:
            raise FrameError(f"a message cannot be read: {error}") from None
        if deflated.unconsumed_tail or not deflated.eof:
            raise FrameError("a message is larger than any may be")
    length = int.from_bytes(whole[:4], "big")
    if length > len(whole) - 4 or length > LONGEST_TEXT:
        raise FrameError("a message is shorter than it says")
    try:
        values = json.loads(whole[4 : 4 + length])
    except (ValueError, RecursionError):
        raise FrameError("a message is no JSON") from None
    return Frame(values, whole[4 + length :])


def read_frame(read: Callable[[int], bytes]) -> Optional[Frame]:
    """The next message of a stream; None at its end. Raises `FrameError`."""
    head = _exactly(read, HEAD_LENGTH)
    if not head:
        return None
    if len(head) < HEAD_LENGTH:
        raise FrameError("the line ended within a message")
    flags, length = length_of(head)
    whole = _exactly(read, length)
    if len(whole) < length:
        raise FrameError("the line ended within a message")
    return unpacked(flags, whole)


def _exactly(read: Callable[[int], bytes], count: int) -> bytes:
    parts = []
    while count:
        part = read(min(count, 1 << 20))
        if not part:
            break
        parts.append(part)
        count -= len(part)
    return b"".join(parts)
