"""How two pictures of a page differ: aligned for what moved up or down, seen as eyes see, boxed.

Rows of pixels are compared by their digests first. Those that stand exactly once in both pictures hold them together
(as lines do in a patience diff); what lies between is compared pixel by pixel where it is as high on both sides, and is
new or gone where it is not. So one line that came in marks itself and not the rest of the page. Differences of colour
count from a distance in Oklab that can be seen (B. Ottosson, "A perceptual color space for image processing", 2020).
"""

from __future__ import annotations

import functools
import hashlib
import io
from bisect import bisect_left
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Pixels = NDArray[np.uint8]
    """Height x width x 3, red, green and blue."""

VISIBLE = 0.04
"""A distance in Oklab (0 to 1) from which on a difference of colour is seen."""
TILE = 8
"""Pixels: differences nearer to each other than this are one."""
MOST_PIXELS = 400_000
"""Of more different pixels only so many are looked at: they are everywhere."""
FEWEST_PIXELS = 12
"""A region with fewer different pixels is nothing that anybody sees."""


@dataclass(frozen=True)
class Region:
    """A part of a picture, in pixels from its top left corner; ``pixels`` of it differ. ``before`` is where it starts
    in the earlier picture (its top edge), which is another place when something above it came or went;
    ``before_height`` how high it was there, when that is something else."""

    left: int
    top: int
    width: int
    height: int
    pixels: int
    before: int
    before_height: int | None = None

    @property
    def high_before(self) -> int:
        """How high it was in the earlier picture."""
        return self.height if self.before_height is None else self.before_height

    def overlaps(self, box: tuple[float, float, float, float]) -> bool:
        """Whether it has a part in common with a box (left, top, width, height) of the earlier picture."""
        x, y, w, h = box
        return (
            self.left < x + w
            and x < self.left + self.width
            and self.before < y + h
            and y < self.before + self.high_before
        )


def decode(png: bytes) -> Pixels:
    """The pixels of a picture. Raises ValueError when it cannot be read."""
    import numpy as np
    from PIL import Image, UnidentifiedImageError

    try:
        with Image.open(io.BytesIO(png)) as picture:
            return np.asarray(picture.convert("RGB"))
    except (UnidentifiedImageError, OSError) as error:
        raise ValueError(f"the picture cannot be read: {error}") from None


def different_regions(before: Pixels, after: Pixels) -> list[Region]:
    """Where ``after`` looks different from ``before``, from the top. Pictures of different widths differ as a whole."""
    if before.shape[1] != after.shape[1]:
        height, width = after.shape[:2]
        return [Region(0, 0, width, height, height * width, 0)]
    found: list[Region] = []
    for a0, a1, b0, b1 in _gaps(_row_sums(before), _row_sums(after)):
        if a1 - a0 == b1 - b0:
            found += _regions(before[a0:a1], after[b0:b1], b0, a0)
        elif _is_space(before[a0:a1], before, a0) and _is_space(after[b0:b1], after, b0):
            continue
        else:
            found += _shifted(before, after, (a0, a1, b0, b1))
    return found


def _row_sums(pixels: Pixels) -> list[bytes]:
    import numpy as np

    rows = np.ascontiguousarray(pixels).reshape(len(pixels), -1)
    return [hashlib.blake2b(row.tobytes(), digest_size=8).digest() for row in rows]


Gap = tuple[int, int, int, int]


def _gaps(a: Sequence[bytes], b: Sequence[bytes]) -> list[Gap]:
    """The stretches of rows (from and to, in a and in b) that are not the same."""
    start = 0
    limit = min(len(a), len(b))
    while start < limit and a[start] == b[start]:
        start += 1
    end = 0
    while end < limit - start and a[-1 - end] == b[-1 - end]:
        end += 1
    if start == len(a) - end and start == len(b) - end:
        return []
    found: list[Gap] = []
    at_a, at_b = start, start
    for row_a, row_b in [*_anchors(a, b, start, len(a) - end, len(b) - end), (len(a) - end, len(b) - end)]:
        if row_a < at_a or row_b < at_b:
            continue
        back = 0
        while row_a - back > at_a and row_b - back > at_b and a[row_a - back - 1] == b[row_b - back - 1]:
            back += 1
        if row_a - back > at_a or row_b - back > at_b:
            found.append((at_a, row_a - back, at_b, row_b - back))
        at_a, at_b = row_a, row_b
        while at_a < len(a) - end and at_b < len(b) - end and a[at_a] == b[at_b]:
            at_a += 1
            at_b += 1
    return found


def _anchors(a: Sequence[bytes], b: Sequence[bytes], start: int, end_a: int, end_b: int) -> list[tuple[int, int]]:
    """Rows that stand once in either stretch, as many as keep their order in both (longest increasing subsequence)."""
    once_a, once_b = Counter(a[start:end_a]), Counter(b[start:end_b])
    places = {b[i]: i for i in range(start, end_b)}
    pairs = [(i, places[a[i]]) for i in range(start, end_a) if once_a[a[i]] == 1 and once_b[a[i]] == 1]
    tails: list[int] = []
    last: list[int] = []
    previous: list[int] = []
    for number, (_, place) in enumerate(pairs):
        at = bisect_left(tails, place)
        previous.append(last[at - 1] if at else -1)
        if at == len(tails):
            tails.append(place)
            last.append(number)
        else:
            tails[at], last[at] = place, number
    chain: list[tuple[int, int]] = []
    number = last[-1] if last else -1
    while number >= 0:
        chain.append(pairs[number])
        number = previous[number]
    return chain[::-1]


def _is_space(pixels: Pixels, picture: Pixels, start: int) -> bool:
    """Whether every row of a stretch is the same, and so is the row above or below it, or the picture's end: a space
    that became larger or smaller."""
    if pixels.size == 0:
        return True
    if not bool((pixels == pixels[0]).all()):
        return False
    end = start + len(pixels)
    return (
        end >= len(picture)
        or bool((picture[end] == pixels[0]).all())
        or (start > 0 and bool((picture[start - 1] == pixels[0]).all()))
    )


def _shifted(before: Pixels, after: Pixels, gap: Gap) -> list[Region]:
    """A stretch that is not as high as it was: compared from its top and from its bottom, the better of the two counts;
    the rest is new or gone, unless it is mere space."""
    a0, a1, b0, b1 = gap
    common = min(a1 - a0, b1 - b0)
    rest = max(a1 - a0, b1 - b0) - common
    from_top = _regions(before[a0 : a0 + common], after[b0 : b0 + common], b0, a0)
    from_bottom = _regions(before[a1 - common : a1], after[b1 - common : b1], b1 - common, a1 - common)
    top_is_better = sum(r.pixels for r in from_top) <= sum(r.pixels for r in from_bottom)
    at_a, at_b = (a0 + common, b0 + common) if top_is_better else (a0, b0)
    high_a, high_b = a1 - a0 - common, b1 - b0 - common
    edge = Region(0, at_b, after.shape[1], max(1, high_b), rest * after.shape[1], at_a, high_a)
    left_over = before[at_a : at_a + high_a] if high_a else after[at_b : at_b + high_b]
    edges = [] if _is_space(left_over, *((before, at_a) if high_a else (after, at_b))) else [edge]
    return [*from_top, *edges] if top_is_better else [*edges, *from_bottom]


def _regions(before: Pixels, after: Pixels, top: int, top_before: int) -> list[Region]:
    """The regions in which two stretches of the same size look different."""
    import numpy as np
    from scipy import ndimage

    differs = (before != after).any(axis=2)
    rows, columns = np.nonzero(differs)
    if not len(rows):
        return []
    if len(rows) > MOST_PIXELS:
        step = len(rows) // MOST_PIXELS + 1
        rows, columns = rows[::step], columns[::step]
    seen = _distance(before[rows, columns], after[rows, columns]) >= VISIBLE
    rows, columns = rows[seen], columns[seen]
    if not len(rows):
        return []
    height, width = differs.shape
    tiles = np.zeros((height // TILE + 1, width // TILE + 1), dtype=bool)
    tiles[rows // TILE, columns // TILE] = True
    names, _ = ndimage.label(tiles, structure=np.ones((3, 3)))
    of_pixel = names[rows // TILE, columns // TILE]
    found = []
    for name in range(1, int(names.max()) + 1):
        mine = of_pixel == name
        count = int(mine.sum())
        if count < FEWEST_PIXELS:
            continue
        y, x = rows[mine], columns[mine]
        found.append(
            Region(int(x.min()), top + int(y.min()), int(x.max() - x.min()) + 1, int(y.max() - y.min()) + 1, count,
                   top_before + int(y.min()))
        )  # fmt: skip
    return sorted(found, key=lambda r: (r.top, r.left))


def _distance(a: Pixels, b: Pixels) -> NDArray[np.float32]:
    """How far colours are from each other in Oklab; both are lists of colours."""
    import numpy as np

    table = _oklab_table()
    found: NDArray[np.float32] = np.sqrt(((table[_packed(a)] - table[_packed(b)]) ** 2).sum(axis=1))
    return found


def _packed(colours: Pixels) -> NDArray[np.int32]:
    """A colour as one number, with six bits a channel: finer steps are below what is seen."""
    import numpy as np

    parts = colours.astype(np.int32) >> 2
    found: NDArray[np.int32] = (parts[:, 0] << 12) | (parts[:, 1] << 6) | parts[:, 2]
    return found


@functools.cache
def _oklab_table() -> NDArray[np.float32]:
    """Oklab for every number of `_packed`."""
    import numpy as np

    number = np.arange(2**18, dtype=np.int32)
    value = (np.stack([number >> 12, (number >> 6) & 63, number & 63], axis=1).astype(np.float32) * 4 + 2) / 257
    linear = np.where(value <= 0.04045, value / 12.92, ((value + 0.055) / 1.055) ** 2.4).astype(np.float32)
    to_cones = np.array(
        [
            [0.4122214708, 0.5363325363, 0.0514459929],
            [0.2119034982, 0.6806995451, 0.1073969566],
            [0.0883024619, 0.2817188376, 0.6299787005],
        ],
        dtype=np.float32,
    )
    to_lab = np.array(
        [
            [0.2104542553, 0.7936177850, -0.0040720468],
            [1.9779984951, -2.4285922050, 0.4505937099],
            [0.0259040371, 0.7827717662, -0.8086757660],
        ],
        dtype=np.float32,
    )
    found: NDArray[np.float32] = np.cbrt(linear @ to_cones.T) @ to_lab.T
    return found


def without(regions: Iterable[Region], noisy: Sequence[tuple[float, float, float, float]]) -> list[Region]:
    """The regions that have no part in a box which differs by itself."""
    return [r for r in regions if not any(r.overlaps(box) for box in noisy)]


def cut_out(png: bytes, region: Region, *, before: bool, margin: int = 48, widest: int = 900) -> bytes:
    """A part of a picture (the earlier one: ``before``) around a region, boxed, as WebP: for a report."""
    from PIL import Image, ImageDraw

    with Image.open(io.BytesIO(png)) as picture:
        whole = picture.convert("RGB")
    top, height = (region.before, region.high_before) if before else (region.top, region.height)
    left = max(0, min(region.left - margin, whole.width - 640))
    box = (
        left, max(0, top - margin),
        min(whole.width, max(left + 640, min(region.left + region.width + margin, left + widest))),
        min(whole.height, top + min(height, 900) + margin),
    )  # fmt: skip
    if box[2] <= box[0] or box[3] <= box[1]:
        box = (0, max(0, whole.height - 2 * margin), whole.width, whole.height)
    part = whole.crop(box)
    x, y = region.left - box[0], top - box[1]
    frame = (x - 3, y - 3, x + region.width + 3, y + max(height, 1) + 3)
    ImageDraw.Draw(part).rectangle(frame, outline=(200, 30, 60), width=2)
    if part.width > widest:
        part = part.resize((widest, round(part.height * widest / part.width)))
    out = io.BytesIO()
    part.save(out, "WEBP", quality=80)
    return out.getvalue()
