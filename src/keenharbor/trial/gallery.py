"""Pictures of a trial: taken before and after each step where a page may look different, compared, and kept for the
report.

WORK/trials/ID/pictures/DIGEST.png    whole pages
WORK/trials/ID/pictures/ID-OF-FINDING-before.webp, …-after.webp    what the report shows
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from blake3 import blake3

from keenharbor.base.durable import private_folder, write_plain
from keenharbor.compare import Finding, Look, Noise, Observation, Weight
from keenharbor.compare.camera import Camera, Shot
from keenharbor.compare.look import LOGGED_IN, PageSeen
from keenharbor.compare.markup import Markup
from keenharbor.compare.pictures import Region, cut_out, decode, different_regions, without

MOST_PAGES = 60
Box = tuple[float, float, float, float]
Member = Callable[[], Mapping[str, str]]
"""Logs in anew, and gives what a member is known by; nothing where nobody can log in."""


@dataclass
class KeptShot:
    """A picture that was taken: where it is, and what `Shot` says beside it. An empty ``file``: it could not be."""

    path: str
    width: int
    file: str
    boxes: dict[str, Box]
    errors: list[str]
    failed: list[str]

    @property
    def key(self) -> str:
        return f"{self.width} {self.path}"


@dataclass
class Shots:
    """The pictures of one time by `KeptShot.key`, and boxes of what differs by itself by the same."""

    shots: dict[str, KeptShot] = field(default_factory=dict)
    noisy: dict[str, list[Box]] = field(default_factory=dict)
    left_out: int = 0


class Gallery:
    """Takes and compares the pictures of one trial."""

    def __init__(self, folder: Path, camera: Camera) -> None:
        self._folder, self._camera = folder, camera
        self._compared: dict[tuple[str, str], list[Region]] = {}

    def before(self, address: str, look: Look, member: Member) -> Shots:
        """Every page twice, as it is before the first step; of those that a member sees, what nobody else does."""
        pages = [p for p in look.pages if _is_pictured(look, p)]
        chosen = pages[:MOST_PAGES]
        session = member() if any(p.endswith(LOGGED_IN) for p in chosen) else {}
        first, second = (self._take(address, chosen, lambda: session) for _ in range(2))
        found = Shots({s.key: s for s in second}, left_out=len(pages) - len(chosen))
        for one, two in zip(first, second, strict=True):
            boxes = [_box(r) for r in self._regions(one, two)]
            if boxes:
                found.noisy[one.key] = boxes
            two.errors = sorted({*one.errors, *two.errors})
            two.failed = sorted({*one.failed, *two.failed})
        return found

    def after(
        self, address: str, earlier: Mapping[str, KeptShot], looks: tuple[Look, Look], noise: Noise, member: Member
    ) -> dict[str, KeptShot]:
        """The pictures after a step; a page is taken anew when what it is made of is not what it was. ``looks`` are
        those after the step before and after this one."""
        look_earlier, look = looks
        parts = ((look.files, look_earlier.files), (look.assets, look_earlier.assets))
        cut = look.cut or look_earlier.cut  # then one of them does not know of all files
        files_changed = any(_differ(now, was) if cut else now != was for now, was in parts)
        again = [
            path
            for path in dict.fromkeys(s.path for s in earlier.values())
            if path in look.pages and _is_shown(look.pages[path])
            and (files_changed or _content(look.pages[path], noise) != _content(look_earlier.pages.get(path), noise))
        ]  # fmt: skip
        taken = {s.key: s for s in self._take(address, again, member)}
        return {k: taken.get(k, s) for k, s in earlier.items() if s.path in look.pages and look.pages[s.path].loads}

    def differences(
        self, before: Shots, now: Mapping[str, KeptShot], looks: tuple[Look, Look], noise: Noise
    ) -> list[Observation]:
        """What looks different although the markup says the same, and what the browser complains of anew."""
        found: list[Observation] = []
        for key, shot in now.items():
            old = before.shots[key]
            if shot is old:
                continue
            path, markups = shot.path, (looks[0].pages[shot.path].markup, looks[1].pages[shot.path].markup)
            for region in self._told(before, old, shot, noise):
                name = _place(region, old, shot)
                if not _told_by_markup(name, markups, noise, path):
                    where = f"at {shot.width} pixels"
                    text = f"the block {name[0]} looks different" if name[0] else "the page looks different"
                    found.append(
                        Observation("looks-different", name[0] or "page", Weight.DOUBT, f"{text} ({where})", path)
                    )
            for kind, text, weight, a, b in (
                ("console-error", "the browser's console has an error", Weight.DOUBT, old.errors, shot.errors),
                ("request-failed", "the browser asks in vain", Weight.DAMAGE, old.failed, shot.failed),
            ):
                for line in sorted(set(b) - set(a)):
                    found.append(Observation(kind, line[:100], weight, f"{text}: {line}", path))
        return list({o.identity: o for o in found}.values())

    def show(self, finding: Finding, before: Shots, now: Mapping[str, KeptShot], noise: Noise) -> Finding:
        """The finding with what its first page looked like before and after, cut out and boxed; as it is where there is
        none."""
        for path in finding.pages:
            for key in sorted(
                (k for k, s in before.shots.items() if s.path == path), key=lambda k: -before.shots[k].width
            ):
                old, new = before.shots[key], now.get(key)
                if new is None or not old.file or not new.file:
                    continue
                region = self._region_of(finding, before, old, new, noise)
                if region is not None:
                    return replace(finding, evidence=self._cut(finding, old, new, region))
        return finding

    def _region_of(self, finding: Finding, before: Shots, old: KeptShot, new: KeptShot, noise: Noise) -> Region | None:
        box = old.boxes.get(finding.place)
        if box is None and finding.kind != "looks-different":
            return None
        regions = self._told(before, old, new, noise)
        within = [r for r in regions if box is None or r.overlaps(box)]
        if within:
            return max(within, key=lambda r: r.pixels)
        if box is None or box[2] < 1 or box[3] < 1:
            return None
        after = new.boxes.get(finding.place, box)
        return Region(int(box[0]), int(after[1]), int(box[2]), int(max(after[3], 1)), 0, int(box[1]), int(box[3]))

    def _cut(self, finding: Finding, old: KeptShot, new: KeptShot, region: Region) -> tuple[str, ...]:
        names = []
        for shot, word in ((old, "before"), (new, "after")):
            name = f"pictures/{finding.id}-{word}.webp"
            png = (self._folder / shot.file).read_bytes()
            write_plain(self._folder / name, cut_out(png, region, before=word == "before"))
            names.append(name)
        return tuple(names)

    def _told(self, before: Shots, old: KeptShot, new: KeptShot, noise: Noise) -> list[Region]:
        """The regions that differ, apart from those that differ by themselves."""
        noisy = list(before.noisy.get(old.key, []))
        for shot in (old, new):
            noisy += [box for name, box in shot.boxes.items() if noise.moves(old.path, name)]
        return without(self._regions(old, new), noisy)

    def _regions(self, one: KeptShot, two: KeptShot) -> list[Region]:
        if one.file == two.file or not one.file or not two.file:
            return []
        both = (one.file, two.file)
        if both not in self._compared:
            self._compared[both] = different_regions(*(decode((self._folder / f).read_bytes()) for f in both))
        return self._compared[both]

    def _take(self, address: str, paths: Sequence[str], member: Member) -> list[KeptShot]:
        anyones = [p for p in paths if not p.endswith(LOGGED_IN)]
        members = [p.removesuffix(LOGGED_IN) for p in paths if p.endswith(LOGGED_IN)]
        taken = [self._keep(shot, "") for shot in self._camera.shoot(address, anyones)] if anyones else []
        if members and (cookies := member()):
            shots = self._camera.shoot(address, members, cookies=cookies)
            taken += [self._keep(shot, LOGGED_IN) for shot in shots]
        return taken

    def _keep(self, shot: Shot, mark: str) -> KeptShot:
        name = ""
        if shot.png:
            name = f"pictures/{blake3(shot.png).hexdigest()[:20]}.png"
            file = private_folder(self._folder / "pictures") / Path(name).name
            if not file.exists():
                write_plain(file, shot.png)
        return KeptShot(shot.path + mark, shot.width, name, dict(shot.boxes), list(shot.errors), list(shot.failed))


def _is_shown(page: PageSeen) -> bool:
    return page.loads and page.markup is not None


def _is_pictured(look: Look, path: str) -> bool:
    """Whether there is to be a picture of a page: as a member sees it, only when it shows itself to nobody else."""
    if not _is_shown(look.pages[path]):
        return False
    as_anyone = look.pages.get(path.removesuffix(LOGGED_IN)) if path.endswith(LOGGED_IN) else None
    return as_anyone is None or as_anyone.redirect is not None or not _is_shown(as_anyone)


def _box(region: Region) -> Box:
    return (region.left - 4, region.before - 4, region.width + 8, region.height + 8)


def _content(page: PageSeen | None, noise: Noise) -> object:
    """What decides how a page looks, as far as its markup says."""
    markup = page.markup if page is not None else None
    if page is None or markup is None:
        return None
    blocks = [(n, b.text, b.images, b.headings) for n, b in markup.blocks.items() if not noise.moves(page.path, n)]
    return (blocks, markup.assets, markup.title)


def _differ(now: Mapping[str, object], earlier: Mapping[str, object]) -> bool:
    """Whether any of what both have seen is not the same."""
    return any(now[name] != earlier[name] for name in now.keys() & earlier.keys())


def _place(region: Region, old: KeptShot, new: KeptShot) -> tuple[str, str]:
    """The smallest block that the region's middle lies in, before and after; empty where there is none."""
    x = region.left + region.width / 2
    return (
        _smallest(old.boxes, x, region.before + region.high_before / 2),
        _smallest(new.boxes, x, region.top + region.height / 2),
    )


def _smallest(boxes: Mapping[str, Box], x: float, y: float) -> str:
    around = [(w * h, name) for name, (left, top, w, h) in boxes.items() if left <= x < left + w and top <= y < top + h]
    return min(around)[1] if around else ""


def _told_by_markup(
    names: Iterable[str], markups: tuple[Markup | None, Markup | None], noise: Noise, path: str
) -> bool:
    """Whether the block says something else now: then that is told of, or as it should be."""
    before, after = markups
    if before is None or after is None:
        return True
    for name in names:
        # A block without a name of its own stands for what is around it.
        a, b = before.blocks.get(name or "page"), after.blocks.get(name or "page")
        if (a is None) != (b is None) or (name and noise.moves(path, name)):
            return True
        if a is not None and b is not None and (a.text, a.images) != (b.text, b.images):
            return True
    return False
