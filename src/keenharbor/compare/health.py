"""What fails on a site as it is today, so that an upgrade is not blamed for it later."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any

from keenharbor.base.progress import Progress
from keenharbor.compare.look import Look, take_look
from keenharbor.compare.visitor import Visitor
from keenharbor.site.model import LookPart


@dataclass(frozen=True)
class Fault:
    """A page or a file that does not load: how it fails, and the pages that lead to it."""

    path: str
    how: str
    on: tuple[str, ...]


@dataclass(frozen=True)
class Health:
    """How many pages were looked at; those that fail; pictures, styles and scripts that do not load."""

    pages: int
    failing: tuple[Fault, ...]
    missing: tuple[Fault, ...]

    @property
    def good(self) -> bool:
        return not self.failing and not self.missing

    def as_json(self) -> dict[str, object]:
        return {
            "pages": self.pages,
            "failing": [asdict(f) for f in self.failing],
            "missing": [asdict(f) for f in self.missing],
        }


def look_at_health(address: str, part: LookPart, progress: Progress | None = None) -> Health:
    """Visit the site as any visitor would; nothing is submitted. Never raises for what the site does wrong."""
    with Visitor(address) as visitor:
        return health_of(take_look(visitor, part, samples=0, served=False, progress=progress))


def health_of(look: Look) -> Health:
    """What fails in a look, by the paths."""
    linked: dict[str, list[str]] = {}
    for path, page in look.pages.items():
        markup = page.markup or page.served
        if markup is None:
            continue
        for target in dict.fromkeys([*markup.links(), *markup.images(), *markup.assets]):
            linked.setdefault(target, []).append(path)
    failing = [
        Fault(path, page.error or f"status {page.status}", tuple(sorted(linked.get(path, ()))))
        for path, page in sorted(look.pages.items()) if not page.loads
    ]  # fmt: skip
    missing = [
        Fault(path, f"status {status}" if status else "no answer", tuple(sorted(linked.get(path, ()))))
        for path, status in sorted(look.assets.items()) if status >= 400 or status == 0
    ]  # fmt: skip
    return Health(len(look.pages), tuple(failing), tuple(missing))


def new_faults(earlier: Mapping[str, Any] | None, later: Mapping[str, Any] | None) -> list[str]:
    """In words, what fails in the later of two healths as JSON and did not in the earlier."""
    if earlier is None or later is None:
        return []
    told = []
    for kind in ("failing", "missing"):
        before, after = ({f["path"]: f["how"] for f in h[kind]} for h in (earlier, later))
        told += [f"{p} fails: {after[p]}" for p in sorted(after.keys() - before.keys())]
        told += [f"{p} loads again" for p in sorted(before.keys() - after.keys())]
    return told
