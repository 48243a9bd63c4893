"""Which pages became slower, said only when it is both large and sure."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from statistics import median

RATIO = 1.5
LEAST_SECONDS = 0.003
SURENESS = 0.01
SLOW_SECONDS = 1.0


@dataclass(frozen=True)
class Slower:
    """A page that became slower: medians in seconds, the shift with its 95 % interval, the adjusted p value."""

    path: str
    before: float
    after: float
    shift: float
    low: float
    high: float
    p: float

    @property
    def ratio(self) -> float:
        return self.after / self.before

    def as_json(self) -> dict[str, object]:
        return {"path": self.path, "before": self.before, "after": self.after, "ratio": self.ratio, "shift": self.shift,
                "low": self.low, "high": self.high, "p": self.p}  # fmt: skip


def slower_pages(before: Mapping[str, Sequence[float]], after: Mapping[str, Sequence[float]]) -> list[Slower]:
    """Pages whose response times (seconds) rose, the largest ratio first.

    A one-sided Mann-Whitney test a page (Mann & Whitney 1947), p values adjusted over all pages after Holm (1979);
    the shift is the Hodges-Lehmann estimate with its distribution-free interval (Hollander, Wolfe & Chicken 2014,
    4.2-4.3). A page counts when its adjusted p is below `SURENESS`, its median rose by `RATIO` at least, and the
    shift is at least `LEAST_SECONDS`.
    """
    paths = [p for p in before if p in after and len(before[p]) >= 4 and len(after[p]) >= 4]
    if not any(_matters(before[p], after[p]) for p in paths):
        return []  # the libraries that say how sure it is take a second to load
    import numpy as np
    from scipy.stats import mannwhitneyu, norm

    raw = {p: float(mannwhitneyu(after[p], before[p], alternative="greater").pvalue) for p in paths}
    adjusted: dict[str, float] = {}
    highest = 0.0
    for rank, path in enumerate(sorted(paths, key=raw.__getitem__)):
        highest = max(highest, min(1.0, raw[path] * (len(paths) - rank)))
        adjusted[path] = highest
    found = []
    for path in paths:
        a, b = np.asarray(before[path]), np.asarray(after[path])
        shifts = np.sort(np.subtract.outer(b, a).ravel())
        shift = float(np.median(shifts))
        m, n = len(a), len(b)
        rank = int(max(0, np.floor(m * n / 2 - norm.ppf(0.975) * np.sqrt(m * n * (m + n + 1) / 12))))
        slower = Slower(
            path,
            float(np.median(a)),
            float(np.median(b)),
            shift,
            float(shifts[rank]),
            float(shifts[-1 - rank]),
            adjusted[path],
        )
        if slower.p < SURENESS and _matters(before[path], after[path]):
            found.append(slower)
    return sorted(found, key=lambda s: s.ratio, reverse=True)


def _matters(before: Sequence[float], after: Sequence[float]) -> bool:
    """Whether times rose by enough to be told, if it is sure."""
    return median(after) >= RATIO * median(before) and median(b - a for a in before for b in after) >= LEAST_SECONDS
