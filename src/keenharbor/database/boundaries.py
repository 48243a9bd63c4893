"""Where rows are cut into chunks: computed over whole blocks of lines at once, with NumPy.

By itself, so that commands which read no table need not load NumPy.
"""

from __future__ import annotations

import os

from keenharbor.database.protocol import Block, Table

# The algebra library that comes with NumPy starts threads that wait in a loop, for what is not done here; and a process
# that is forked beside them is not whole. The programs of a site are not to be told so.
_told = "OPENBLAS_NUM_THREADS" in os.environ
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
import numpy as np  # noqa: E402
import numpy.typing as npt  # noqa: E402

if not _told:
    del os.environ["OPENBLAS_NUM_THREADS"]

CHUNK_ROWS = 256
_TAB, _NEWLINE, _COMMA, _BRACKET = b"\t\n,]"
_KEY_BYTES = 1024
"""So much of a key counts for the boundaries."""
_SHORT_KEY, _FEW_COLUMNS = 20, 3
"""Bytes of each column of a key within which its end is looked for first; the most columns of such a key."""
_MOST_WORDS = 4
"""Words of eight bytes within which the end of a key of one column is looked for first."""
_WORD = 8

Places = npt.NDArray[np.int64]
Words = npt.NDArray[np.uint64]


def boundaries(table: Table, block: Block) -> tuple[Places, npt.NDArray[np.bool_], list[int]]:
    """Where each line of ``block`` ends (behind its line end); which lines end a chunk by the hash of their key; and
    the numbers of those, with that of the last line."""
    ends, hashes = _lines_of(table, block)
    is_boundary = (hashes & np.uint64(CHUNK_ROWS - 1)) == 0
    stops: list[int] = np.flatnonzero(is_boundary).tolist()
    if not stops or stops[-1] != len(ends) - 1:
        stops.append(len(ends) - 1)
    return ends, is_boundary, stops


def count_byte(data: bytes, byte: bytes) -> int:
    """How often ``byte`` stands in ``data``: for one that is frequent, several times faster than `bytes.count`."""
    return int(np.count_nonzero(np.frombuffer(data, np.uint8) == byte[0]))


class _Bytes:
    """Data of which the eight bytes behind any place can be asked for, as a little-endian word."""

    def __init__(self, data: bytes) -> None:
        padded = data if len(data) >= _WORD else data.ljust(_WORD, b"\0")
        self.array = np.frombuffer(data, np.uint8)
        self._last = len(padded) - _WORD
        self._words = np.ndarray((self._last + 1,), "<u8", padded, strides=(1,))

    def words(self, places: Places) -> Words:
        """The words at ``places``; zeros behind the end."""
        begins = np.minimum(places, self._last)
        found = self._words[begins]
        beyond = (places - begins).astype(np.uint64)
        if beyond[-1:].any():  # places are in order: only the last ones can lie so near to the end
            found = np.where(beyond < _WORD, found >> (np.minimum(beyond, _WORD - 1) * np.uint64(8)), np.uint64(0))
        return found


_ONES, _HIGHS = np.uint64(0x0101010101010101), np.uint64(0x8080808080808080)


def _marked(words: Words, byte: int) -> Words:
    """The highest bit of the first byte in each word that is ``byte``; what is behind that may be marked wrongly
    (Mycroft's test for a zero byte; Warren, "Hacker's Delight", 6-1)."""
    other = words ^ (_ONES * np.uint64(byte))
    return (other - _ONES) & ~other & _HIGHS


def _first(data: _Bytes, starts: Places, wanted: bytes) -> Places | None:
    """Where, behind each of ``starts``, the first of the bytes ``wanted`` stands, when it is near to all of them."""
    ends = starts.copy()
    left = np.arange(len(starts))
    for _ in range(_MOST_WORDS):
        words = data.words(ends[left])
        marks = _marked(words, wanted[0])
        for byte in wanted[1:]:
            marks |= _marked(words, byte)
        lowest = marks & (~marks + np.uint64(1))
        # Bits below the mark, by eight, are the bytes before it; without a mark all eight are.
        ends[left] += np.where(marks == 0, _WORD, _ordinal(lowest))
        left = left[marks == 0]
        if not len(left):
            return ends
    return None


def _ordinal(marks: Words) -> Places:
    """Which byte of a word (0 to 7) a single mark is in. Powers of two are exact as floats."""
    return (np.frexp(marks.astype(np.float64))[1] - 1) // 8


def _key_hashes(data: _Bytes, starts: Places, ends: Places) -> Words:
    """One hash for each ``data[start:end]``: its words, one after another, mixed by multiplying (the finaliser is that
    of Steele et al., "Fast splittable pseudorandom number generators", 2014). The same on every machine."""
    hashes = np.full(len(starts), 0x9E3779B97F4A7C15, np.uint64)
    left = np.arange(len(starts))
    lengths = np.minimum(ends - starts, _KEY_BYTES)
    at = 0
    while len(left):
        rest = lengths[left] - at
        words = data.words(starts[left] + at)
        unwanted = ((_WORD - np.minimum(rest, _WORD)) * 8).astype(np.uint64)
        words = np.where(rest <= 0, np.uint64(0), (words << unwanted) >> unwanted)
        h = (hashes[left] ^ words) * np.uint64(0xBF58476D1CE4E5B9)
        hashes[left] = h ^ (h >> np.uint64(29))
        at += _WORD
        left = left[rest > _WORD]
    hashes ^= hashes >> np.uint64(30)
    hashes *= np.uint64(0x94D049BB133111EB)
    hashes ^= hashes >> np.uint64(31)
    return hashes


def _lines_of(table: Table, block: Block) -> tuple[Places, Words]:
    """Where each line ends (behind its line end), and the hash of its key."""
    data = _Bytes(block.lines)
    ends = np.flatnonzero(data.array == _NEWLINE)
    if block.keys is not None:
        keys = _Bytes(block.keys)
        key_ends = np.flatnonzero(keys.array == _NEWLINE)
        if len(key_ends) != len(ends):
            raise ValueError(f"{table.name}: {len(ends)} rows with {len(key_ends)} keys")
        key_starts = np.concatenate(([0], key_ends[:-1] + 1))
        return ends + 1, _key_hashes(keys, key_starts, key_ends - 1)  # without the bracket: see below
    starts = np.concatenate(([0], ends[:-1] + 1))
    if table.row_format == "json":
        numbers = _first(data, starts, bytes((_COMMA, _BRACKET)))
        if numbers is None:
            raise ValueError(f"{table.name}: a row does not begin with a whole number")
        return ends + 1, _key_hashes(data, starts, numbers)
    if len(table.key) == len(table.columns):
        return ends + 1, _key_hashes(data, starts, ends)
    near = (
        _first(data, starts, bytes((_TAB,))) if len(table.key) == 1 else _short_keys(data.array, starts, len(table.key))
    )
    if near is not None and bool((near < ends).all()):
        return ends + 1, _key_hashes(data, starts, near)
    tabs = np.flatnonzero(data.array == _TAB)
    width = len(table.columns) - 1
    if len(tabs) != width * len(ends):
        raise ValueError(f"{table.name}: a row does not have {width + 1} values")
    return ends + 1, _key_hashes(data, starts, tabs.reshape(-1, width)[:, len(table.key) - 1])


def _short_keys(data: npt.NDArray[np.uint8], starts: Places, columns: int) -> Places | None:
    """Where each key of so many columns ends, when all are short: only the beginning of each line is looked at."""
    window = _SHORT_KEY * columns
    if columns > _FEW_COLUMNS or len(data) < window:
        return None
    # The last lines' windows would reach beyond the end: they begin earlier, and what is before the line does not
    # count.
    begins = np.minimum(starts, len(data) - window)
    is_tab = np.lib.stride_tricks.sliding_window_view(data, window)[begins] == _TAB
    if begins[-1] != starts[-1]:
        is_tab &= np.arange(window) >= (starts - begins)[:, None]
    is_tab &= np.cumsum(is_tab, axis=1, dtype=np.uint8) == columns
    at = is_tab.argmax(axis=1)
    if not is_tab[np.arange(len(at)), at].all():
        return None
    found: Places = begins + at
    return found
