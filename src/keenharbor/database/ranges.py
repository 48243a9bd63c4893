"""Where a large table is divided, so that several processes can each read a range of it."""

from __future__ import annotations

from dataclasses import replace

from keenharbor.database.protocol import Block, Table


def dividing_keys(table: Table, sample: bytes, count: int) -> list[tuple[int, ...]]:
    """The last keys of all but the last of up to ``count`` ranges that have about as many rows each.

    ``sample`` are some of the table's keys in order, as lines of copy text; they are whole numbers. Chosen are such
    behind which a chunk ends anyway (`keenharbor.database.boundaries`), so that the chunks are those of a table read as
    a whole."""
    if not sample or count < 2:
        return []
    from keenharbor.database.boundaries import boundaries

    _, is_boundary, _ = boundaries(replace(table, columns=table.key, kinds=(), read_as=()), Block(sample))
    at_end = is_boundary.nonzero()[0]
    if not len(at_end):
        return []
    keys = sample.splitlines()
    wanted = (len(keys) * n // count for n in range(1, count))
    chosen = sorted({int(at_end[abs(at_end - place).argmin()]) for place in wanted})
    return [tuple(map(int, keys[n].split(b"\t"))) for n in chosen]
