"""Where rows are cut into chunks: computed over whole blocks of lines at once, with NumPy.

By itself, so that commands which read no table need not load NumPy.
"""

from __future__ import annotations

import os
from functools import lru_cache

from keenharbor.database.protocol import Block, Table

# The algebra library that comes with NumPy starts threads that wait in a loop, for what is not done here; and a process that
# is forked beside them is not whole. The programs of a site are not to be told so.
_told = "OPENBLAS_NUM_THREADS" in os.environ
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
import numpy as np  # noqa: E402
import numpy.typing as npt  # noqa: E402

if not _told:
    del os.environ["OPENBLAS_NUM_THREADS"]

CHUNK_ROWS = 256
_TAB, _NEWLINE, _COMMA, _BRACKET = b"\t\n,]"
_KEY_BYTES = 1024
"""So much of a key counts for the boundaries; the weights below repeat after it."""
_SHORT_KEY, _FEW_COLUMNS = 20, 3
"""Bytes of each column of a key within which its end is looked for first; the most columns of such a key."""
_LONGEST_NUMBER = 22
"""Bytes of a bracket, a 64-bit whole number with its sign, and what divides it from the next value."""


def boundaries(table: Table, block: Block) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.bool_], list[int]]:
    """Where each line of ``block`` ends (behind its line end); which lines end a chunk by the hash of their key; and the numbers
    of those, with that of the last line."""
    ends, hashes = _lines_of(table, block)
    is_boundary = hashes % np.uint64(CHUNK_ROWS) == 0
    stops: list[int] = np.flatnonzero(is_boundary).tolist()
    if not stops or stops[-1] != len(ends) - 1:
        stops.append(len(ends) - 1)
    return ends, is_boundary, stops


def count_byte(data: bytes, byte: bytes) -> int:
    """How often ``byte`` stands in ``data``: for one that is frequent, several times faster than `bytes.count`."""
    return int(np.count_nonzero(np.frombuffer(data, np.uint8) == byte[0]))


@lru_cache(maxsize=1)
def _weights() -> npt.NDArray[np.uint64]:
    # Odd 64-bit multipliers from a fixed generator: the boundaries must be the same on every machine.
    return np.random.Generator(np.random.PCG64(20)).integers(0, 2**63, _KEY_BYTES, dtype=np.uint64) * np.uint64(
        2
    ) + np.uint64(1)


def _key_hashes(
    data: npt.NDArray[np.uint8], starts: npt.NDArray[np.int64], ends: npt.NDArray[np.int64], last: int | None = None
) -> npt.NDArray[np.uint64]:
    """One hash for each ``data[start:end]`` (with ``last`` as its last byte): a sum of the bytes times weights by place, then
    mixed (multilinear hashing, Dietzfelbinger 1996; finaliser of Steele et al., "Fast splittable pseudorandom number
    generators", 2014)."""
    lengths = np.maximum(ends - starts, 1)  # an empty key takes in its divider, which is the same for all
    first = np.cumsum(lengths) - lengths
    within = np.arange(int(lengths.sum())) - np.repeat(first, lengths)
    weighed = (data[np.repeat(starts, lengths) + within].astype(np.uint64) + np.uint64(1)) * _weights()[
        within % _KEY_BYTES
    ]
    h = np.add.reduceat(weighed, first)
    if last is not None:
        h += (np.uint64(last) - data[ends - 1].astype(np.uint64)) * _weights()[(lengths - 1) % _KEY_BYTES]
    h ^= h >> np.uint64(30)
    h *= np.uint64(0xBF58476D1CE4E5B9)
    h ^= h >> np.uint64(27)
    h *= np.uint64(0x94D049BB133111EB)
    h ^= h >> np.uint64(31)
    return h


def _lines_of(table: Table, block: Block) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.uint64]]:
    """Where each line ends (behind its line end), and the hash of its key."""
    data = np.frombuffer(block.lines, np.uint8)
    ends = np.flatnonzero(data == _NEWLINE)
    if block.keys is not None:
        keys = np.frombuffer(block.keys, np.uint8)
        key_ends = np.flatnonzero(keys == _NEWLINE)
        if len(key_ends) != len(ends):
            raise ValueError(f"{table.name}: {len(ends)} rows with {len(key_ends)} keys")
        key_starts = np.concatenate(([0], key_ends[:-1] + 1))
        return ends + 1, _key_hashes(keys, key_starts, key_ends)
    starts = np.concatenate(([0], ends[:-1] + 1))
    if table.row_format == "json":  # [123,… : hashed as [123]
        return ends + 1, _key_hashes(data, starts, _first_number(table, data, starts) + 1, _BRACKET)
    if len(table.key) == len(table.columns):
        return ends + 1, _key_hashes(data, starts, ends)
    short = _short_keys(data, starts, len(table.key))
    if short is not None:
        return ends + 1, _key_hashes(data, starts, short)
    tabs = np.flatnonzero(data == _TAB)
    width = len(table.columns) - 1
    if len(tabs) != width * len(ends):
        raise ValueError(f"{table.name}: a row does not have {width + 1} values")
    return ends + 1, _key_hashes(data, starts, tabs.reshape(-1, width)[:, len(table.key) - 1])


def _short_keys(
    data: npt.NDArray[np.uint8], starts: npt.NDArray[np.int64], columns: int
) -> npt.NDArray[np.int64] | None:
    """Where each key of so many columns ends, when all are short: only the beginning of each line is looked at."""
    window = _SHORT_KEY * columns
    if columns > _FEW_COLUMNS or len(data) < window:
        return None
    # The last lines' windows would reach beyond the end: they begin earlier, and what is before the line does not count.
    begins = np.minimum(starts, len(data) - window)
    is_tab = _windows(data, window)[begins] == _TAB
    if begins[-1] != starts[-1]:
        is_tab &= np.arange(window) >= (starts - begins)[:, None]
    if columns > 1:
        is_tab &= np.cumsum(is_tab, axis=1, dtype=np.uint8) == columns
    at = is_tab.argmax(axis=1)
    if not is_tab[np.arange(len(at)), at].all():
        return None
    found: npt.NDArray[np.int64] = begins + at
    following = np.concatenate((starts[1:], [len(data)]))
    return found if bool((found < following).all()) else None


def _first_number(table: Table, data: npt.NDArray[np.uint8], starts: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
    """Where the whole number ends with which each line of JSON begins."""
    window = min(_LONGEST_NUMBER, len(data))
    begins = np.minimum(starts, len(data) - window)
    seen = _windows(data, window)[begins]
    is_end = (seen == _COMMA) | (seen == _BRACKET)
    is_end &= np.arange(window) >= (starts - begins)[:, None]
    at = is_end.argmax(axis=1)
    if not is_end[np.arange(len(at)), at].all():
        raise ValueError(f"{table.name}: a row does not begin with a whole number")
    found: npt.NDArray[np.int64] = begins + at
    return found


def _windows(data: npt.NDArray[np.uint8], length: int) -> npt.NDArray[np.uint8]:
    """Every run of ``length`` bytes."""
    return np.lib.stride_tricks.sliding_window_view(data, length)
