"""How the pages of two looks differ."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from keenharbor.compare.findings import Observation, Weight
from keenharbor.compare.look import Look, PageSeen
from keenharbor.compare.markup import Block, Markup
from keenharbor.compare.noise import Noise


def compare_pages(
    before: Look, after: Look, noise: Noise, versions: Mapping[str, str] | None = None
) -> list[Observation]:
    """What differs from ``before`` to ``after``, without noise.

    ``versions`` maps old version numbers to new ones: a text that differs only by these is as it should be.
    """
    found: list[Observation] = []
    for path in sorted(before.pages.keys() | after.pages.keys()):
        if path in noise.pages:
            continue
        left, right = before.pages.get(path), after.pages.get(path)
        if left is None:
            if right is not None and right.loads:
                found.append(Observation("page-new", path, Weight.NOTE, f"{path} is new", path))
            elif right is not None:
                found.append(
                    Observation(
                        "link-broken", path, Weight.DAMAGE, f"a link leads to {path}, which does not load", path
                    )
                )
        elif right is None:
            found.append(Observation("page-gone", path, Weight.DAMAGE, f"{path} was not found any more", path))
        else:
            found += _page(path, left, right, noise, versions or {})
    for asset in sorted(before.assets.keys() & after.assets.keys()):
        if before.assets[asset] == 200 != after.assets[asset]:
            text = f"{asset} does not load any more (status {after.assets[asset] or 'none'})"
            found.append(Observation("file-broken", asset, Weight.DAMAGE, text))
    for asset in sorted(after.assets.keys() - before.assets.keys()):
        if after.assets[asset] != 200:
            text = f"{asset} is asked for and does not load (status {after.assets[asset] or 'none'})"
            found.append(Observation("file-broken", asset, Weight.DAMAGE, text))
    for name, check in sorted(after.checks.items()):
        earlier = before.checks.get(name)
        if check.problem and name not in noise.checks and (earlier is None or earlier.problem is None):
            found.append(
                Observation(
                    "check-failed", name, Weight.DAMAGE, f"'{name}' fails: {check.problem}", after=check.problem
                )
            )
    return found


def _page(
    path: str, left: PageSeen, right: PageSeen, noise: Noise, versions: Mapping[str, str]
) -> Iterator[Observation]:  # fmt: skip
    if left.loads and not right.loads:
        shown = right.error or f"status {right.status}"
        yield Observation(
            "page-fails", shown, Weight.DAMAGE, f"{path} fails: {shown}", path, f"status {left.status}", shown
        )
        return
    if left.redirect != right.redirect:
        text = f"{path} sends visitors elsewhere"
        yield Observation(
            "redirect", path, Weight.DAMAGE, text, path, left.redirect or "no redirect", right.redirect or "none"
        )
    if left.markup is None or right.markup is None:
        if left.status != right.status and right.loads:
            text = f"{path} answers with status {right.status} instead of {left.status}"
            yield Observation("status", path, Weight.DOUBT, text, path, str(left.status), str(right.status))
        return
    a, b = left.markup, right.markup
    for aspect in ("title", "description", "canonical"):
        before, after = getattr(a, aspect), getattr(b, aspect)
        if before != after and _aged(before, versions) != after:
            yield Observation(f"{aspect}-changed", aspect, Weight.DOUBT, f"the {aspect} changed", path, before, after)
    yield from _blocks(path, a, b, noise, versions)
    yield from _forms(path, a, b)
    yield from _stale(path, right, noise)


def _blocks(path: str, a: Markup, b: Markup, noise: Noise, versions: Mapping[str, str]) -> Iterator[Observation]:
    for name in [*a.blocks, *(n for n in b.blocks if n not in a.blocks)]:
        if noise.covers(path, name):
            continue
        left, right = a.blocks.get(name), b.blocks.get(name)
        if right is None and left is not None:
            if not (left.words or left.links or left.images):
                continue
            text = f"the block {name} is gone"
            yield Observation("block-gone", name, Weight.DAMAGE, text, path, left.text, "")
        elif left is None and right is not None:
            yield Observation("block-new", name, Weight.NOTE, f"the block {name} is new", path, "", right.text)
        elif left is not None and right is not None:
            yield from _block(path, name, left, right, versions)


def _block(path: str, name: str, left: Block, right: Block, versions: Mapping[str, str]) -> Iterator[Observation]:
    if left.text != right.text and _aged(left.text, versions) != right.text:
        lost = [w for w in left.text.split() if w not in set(right.text.split())]
        came = [w for w in right.text.split() if w not in set(left.text.split())]
        kind, weight, word = ("text-lost", Weight.DAMAGE, "lost text") if lost and not came else (
            "text-changed", Weight.DOUBT, "says something else")  # fmt: skip
        yield Observation(kind, name, weight, f"the block {name} {word}", path, *_excerpt(left.text, right.text))
    for what, before, after in (("image", left.images, right.images), ("link", left.links, right.links)):
        gone = [x for x in before if x not in after]
        if gone:
            weight = Weight.DAMAGE if what == "image" else Weight.DOUBT
            text = f"{what}s are gone from the block {name}"
            yield Observation(f"{what}-gone", name, weight, text, path, ", ".join(gone[:3]), "")


def _forms(path: str, a: Markup, b: Markup) -> Iterator[Observation]:
    for name, form in a.forms.items():
        other = b.forms.get(name)
        if other is None:
            yield Observation("form-gone", name, Weight.DAMAGE, f"the form '{name}' is gone", path)
        elif lost := sorted(form.fields.keys() - other.fields.keys()):
            text = f"the form '{name}' lost the field {', '.join(lost)}"
            yield Observation("field-lost", name, Weight.DAMAGE, text, path)


def _stale(path: str, page: PageSeen, noise: Noise) -> Iterator[Observation]:
    """What visitors get from a cache is not what the site would make now."""
    if page.served is None or page.markup is None:
        return
    names = page.served.blocks.keys() | page.markup.blocks.keys()
    for name in sorted(names):
        old, new = page.served.blocks.get(name), page.markup.blocks.get(name)
        if not noise.covers(path, name) and (old.text if old else None) != (new.text if new else None):
            text = "visitors still get old pages from a cache: what changed is hidden until it is purged"
            before, after = _excerpt(old.text if old else "", new.text if new else "")
            yield Observation("stale-cache", "page cache", Weight.DAMAGE, text, path, before, after)
            return


def _aged(text: str, versions: Mapping[str, str]) -> str:
    for old, new in versions.items():
        text = text.replace(old, new)
    return text


def _excerpt(before: str, after: str, width: int = 120) -> tuple[str, str]:
    """The parts of two texts around their first difference."""
    start = 0
    for x, y in zip(before, after, strict=False):
        if x != y:
            break
        start += 1
    begin = max(0, start - 30)
    lead = "…" if begin else ""
    return lead + before[begin : begin + width], lead + after[begin : begin + width]
