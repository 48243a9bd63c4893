"""How the pages of two looks differ."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Iterator, Mapping

from keenharbor.base.text import plural
from keenharbor.compare.exposed import exposures
from keenharbor.compare.findings import Observation, Weight
from keenharbor.compare.look import LOGGED_IN, FileSeen, Look, PageSeen
from keenharbor.compare.markup import Block, Markup
from keenharbor.compare.noise import Noise


def compare_pages(
    before: Look, after: Look, noise: Noise, versions: Mapping[str, str] | None = None, live: Collection[str] = (),
    secrets: Collection[str] = (),
) -> list[Observation]:  # fmt: skip
    """What differs from ``before`` to ``after``, without noise.

    ``versions`` maps old version numbers to new ones: a text that differs only by these is as it should be. ``live``
    are addresses that nothing may lead to: those of the site that a clone was made of; ``secrets`` values that no page
    may show. A page that a look did not come to, since it was cut, is neither gone nor new."""
    shut_out = after.log_in_problem is not None and before.log_in_problem is None
    return [
        *(_shut_out(before, after) if shut_out else ()),
        *_moves(_moved(before, after), after),
        *_each_page(before, after, noise, versions or {}, secrets, without_members=shut_out),
        *_assets(before, after, noise),
        *_leading_to_live(after, live),
        *_failed_checks(before, after, noise),
    ]


def _shut_out(before: Look, after: Look) -> Iterator[Observation]:
    members = [p for p in before.pages if p.endswith(LOGGED_IN)]
    text = (
        f"nobody can log in any more ({after.log_in_problem}): {plural(len(members), 'page')} of members were not seen"
    )
    yield Observation("log-in-failed", "log in", Weight.DAMAGE, text, after=after.log_in_problem or "")


def _moves(moved: Mapping[str, str], after: Look) -> Iterator[Observation]:
    for old, new in moved.items():
        sends = after.pages[old].redirect == new if old in after.pages else False
        weight = Weight.NOTE if sends else Weight.DAMAGE
        sent = "and visitors are sent there" if sends else "and nothing sends visitors there"
        yield Observation("page-moved", old, weight, f"{old} is at {new} now, {sent}", old, old, new)


def _each_page(
    before: Look, after: Look, noise: Noise, versions: Mapping[str, str], secrets: Collection[str], *,
    without_members: bool,
) -> Iterator[Observation]:  # fmt: skip
    moved = _moved(before, after)
    apart = {*noise.pages, *moved, *moved.values()}
    for path in sorted(before.pages.keys() | after.pages.keys()):
        if path in apart or (without_members and path.endswith(LOGGED_IN)):
            continue
        left, right = before.pages.get(path), after.pages.get(path)
        if left is not None and right is not None:
            yield from _page(path, left, right, noise, versions)
            if right.loads and right.markup is not None:
                yield from exposures(path, left.markup, right.markup, secrets)
        elif (right is None and after.cut) or (
            left is None and before.cut and not _is_led_to_newly(path, before, after)
        ):
            continue
        elif right is None:
            yield Observation("page-gone", path, Weight.DAMAGE, f"{path} was not found any more", path)
        elif right.loads:
            yield Observation("page-new", path, Weight.NOTE, f"{path} is new", path)
            if right.markup is not None:
                yield from exposures(path, None, right.markup, secrets)
        else:
            on = next((p for p, s in after.pages.items() if s.markup is not None and path in s.markup.links()), None)
            text = f"a link{f' on {on}' if on is not None else ''} leads to {path}, which does not load"
            yield Observation("link-broken", path, Weight.DAMAGE, text, path)


def _is_led_to_newly(path: str, before: Look, after: Look) -> bool:
    """Whether a page that was looked at before has a link to ``path`` now and had none: then the look before did not
    only stop short of it. Of pages that load that says nothing: they may have been there."""
    if after.pages[path].loads:
        return False
    links = ((before.pages.get(p), s.markup) for p, s in after.pages.items() if s.markup and path in s.markup.links())
    return any(earlier is not None and earlier.markup and path not in earlier.markup.links() for earlier, _ in links)


def _assets(before: Look, after: Look, noise: Noise) -> Iterator[Observation]:
    for asset in sorted(before.assets.keys() & after.assets.keys()):
        if before.assets[asset] == 200 != after.assets[asset]:
            text = f"{asset} does not load any more (status {after.assets[asset] or 'none'})"
            yield Observation("file-broken", asset, Weight.DAMAGE, text)
        elif asset in before.files and asset in after.files and asset not in noise.files:
            yield from _file(asset, before.files[asset], after.files[asset])
    for old, new in _asked_for_otherwise(before, after):
        if old in before.files and new in after.files and not noise.files & {old, new}:
            yield from _file(bare(new), before.files[old], after.files[new])
    for asset in sorted(after.assets.keys() - before.assets.keys()):
        if after.assets[asset] != 200:
            text = f"{asset} is asked for and does not load (status {after.assets[asset] or 'none'})"
            yield Observation("file-broken", asset, Weight.DAMAGE, text)


def bare(asset: str) -> str:
    """A file's path without what is asked behind it, which often is its version."""
    return asset.partition("?")[0]


def _asked_for_otherwise(before: Look, after: Look) -> Iterator[tuple[str, str]]:
    """Files that are asked for with another query than before: both addresses."""
    old, new = (
        Counter(bare(a) for a in these) for these in (
            before.assets.keys() - after.assets.keys(), after.assets.keys() - before.assets.keys()
        )
    )  # fmt: skip
    came = {bare(a): a for a in after.assets.keys() - before.assets.keys()}
    for asset in sorted(before.assets.keys() - after.assets.keys()):
        path = bare(asset)
        if old[path] == new[path] == 1:
            yield asset, came[path]


def _leading_to_live(after: Look, live: Collection[str]) -> Iterator[Observation]:
    for place in sorted({a.rstrip("/") for a in live}):
        for path, page in sorted(after.pages.items()):
            if page.redirect and _leads_to(page.redirect, place):
                text = f"{path} sends visitors to live"
                yield Observation("leads-to-live", path, Weight.DAMAGE, text, path, "", page.redirect)
            links = page.markup.links() + page.markup.images() if page.markup else []
            leading = next((x for x in links if _leads_to(x, place)), None)
            if leading is not None:
                text = "the clone leads to live"
                yield Observation("leads-to-live", place, Weight.DAMAGE, text, path, "", leading)


def _failed_checks(before: Look, after: Look, noise: Noise) -> Iterator[Observation]:
    for name, check in sorted(after.checks.items()):
        earlier = before.checks.get(name)
        if check.problem and name not in noise.checks and (earlier is None or earlier.problem is None):
            text = f"'{name}' fails: {check.problem}"
            yield Observation("check-failed", name, Weight.DAMAGE, text, after=check.problem)


def _leads_to(link: str, address: str) -> bool:
    return link == address or link.startswith((address + "/", address + "?"))


def _file(path: str, left: FileSeen, right: FileSeen) -> Iterator[Observation]:
    if left.digest == right.digest:
        return
    if left.pixels is not None and right.pixels is None:
        yield Observation("picture-broken", path, Weight.DAMAGE, f"{path} is no picture any more that can be read")
    elif left.picture and left.pixels != right.pixels:
        before, after = (f"{p[0]} x {p[1]}" if p else "none" for p in (left.pixels, right.pixels))
        yield Observation("picture-resized", path, Weight.DOUBT, f"{path} has another size", "", before, after)
    elif left.picture:
        yield Observation("picture-changed", path, Weight.DOUBT, f"{path} is another picture")
    else:
        yield Observation("file-changed", path, Weight.NOTE, f"{path} changed")


def _moved(before: Look, after: Look) -> dict[str, str]:
    """Pages that have another address now: old path to new. They say the same under the same title."""
    gone = [
        p for p, seen in before.pages.items()
        if seen.markup is not None and not (after.cut and p not in after.pages) and _is_away(after.pages.get(p))
    ]  # fmt: skip
    came = [p for p, seen in after.pages.items() if p not in before.pages and seen.markup is not None]
    found: dict[str, str] = {}
    for old in gone:
        words = _words(before.pages[old])
        for new in came:
            if new in found.values() or before.pages[old].markup.title != after.pages[new].markup.title:  # type: ignore[union-attr]
                continue
            others = _words(after.pages[new])
            if words and len(words & others) >= ALIKE * len(words | others):
                found[old] = new
                break
    return found


ALIKE = 0.8
"""Pages of which so large a part of the words is the same are one page."""


def _is_away(page: PageSeen | None) -> bool:
    return page is None or page.status in (404, 410) or page.redirect is not None


def _words(page: PageSeen) -> set[str]:
    return {w for b in page.markup.blocks.values() for w in b.text.split()} if page.markup is not None else set()


def _page(
    path: str, left: PageSeen, right: PageSeen, noise: Noise, versions: Mapping[str, str]
) -> Iterator[Observation]:  # fmt: skip
    if left.loads and not right.loads:
        shown = right.error or f"status {right.status}"
        yield Observation(
            "page-fails", shown, Weight.DAMAGE, f"{path} fails: {shown}", path, f"status {left.status}", shown
        )
        return
    if left.status in (401, 403) and right.loads and right.redirect is None:
        text = f"{path} is open to everybody; it was closed (status {left.status})"
        yield Observation("open-to-all", path, Weight.DAMAGE, text, path, f"status {left.status}", str(right.status))
        return
    if (left.leads or left.redirect) != (right.leads or right.redirect):
        loop = right.redirect == path
        text = f"{path} sends visitors to itself, again and again" if loop else f"{path} sends visitors elsewhere"
        yield Observation(
            "redirect-loop" if loop else "redirect",
            path,
            Weight.DAMAGE,
            text,
            path,
            left.redirect or "no redirect",
            right.redirect or "none",
        )
        return
    if left.markup is None or right.markup is None:
        if left.status != right.status and right.loads:
            text = f"{path} answers with status {right.status} instead of {left.status}"
            yield Observation("status", path, Weight.DOUBT, text, path, str(left.status), str(right.status))
        return
    a, b = left.markup, right.markup
    if right.unsettled:
        text = f"{path} says something else at every visit, and did not before"
        yield Observation("unsettled", path, Weight.DOUBT, text, path)
    yield from _headers(path, left, right, noise)
    yield from _structured(path, a, b, noise, versions)
    for aspect in ("title", "description", "canonical", "robots"):
        before, after = getattr(a, aspect), getattr(b, aspect)
        if before != after and _aged(before, versions) != after and not noise.covers_aspect(path, aspect):
            weight, text = _of_aspect(aspect, before, after)
            yield Observation(f"{aspect}-changed", aspect, weight, text, path, before, after)
    yield from _styles(path, a, b, noise)
    yield from _blocks(path, a, b, noise, versions)
    yield from _forms(path, a, b, noise)
    yield from _stale(path, right, noise)


def _of_aspect(aspect: str, before: str, after: str) -> tuple[Weight, str]:
    """How much it matters that the title, the description or what is told to robots is another one: what takes a page
    out of search engines is damage that nobody sees."""
    if aspect == "robots" and _keeps_out(after) and not _keeps_out(before):
        return Weight.DAMAGE, "search engines are told to leave the page out"
    if aspect == "canonical" and before and not after:
        return Weight.DAMAGE, "the canonical address is gone"
    return Weight.DOUBT, f"the {aspect} changed"


def _keeps_out(robots: str) -> bool:
    return bool(re.search(r"(?i)\b(noindex|none)\b", robots))


def _headers(path: str, left: PageSeen, right: PageSeen, noise: Noise) -> Iterator[Observation]:
    if noise.covers_aspect(path, "headers"):
        return
    for name in sorted(left.headers.keys() | right.headers.keys()):
        before, after = left.headers.get(name, ""), right.headers.get(name, "")
        if before != after:
            what = "is gone" if not after else "is new" if not before else "changed"
            weight = Weight.NOTE if not before and name != "X-Robots-Tag" else Weight.DOUBT
            if name == "X-Robots-Tag" and _keeps_out(after) and not _keeps_out(before):
                weight = Weight.DAMAGE
            yield Observation(
                f"header-{what.split()[-1]}", name, weight, f"the header {name} {what}", path, before, after
            )


def _structured(path: str, a: Markup, b: Markup, noise: Noise, versions: Mapping[str, str]) -> Iterator[Observation]:
    if noise.covers_aspect(path, "structured"):
        return
    for name, before in a.structured.items():
        after = b.structured.get(name)
        if after is None:
            text = f"what the page tells machines as {name} is gone"
            yield Observation("structured-gone", name, Weight.DOUBT, text, path, before[:160], "")
        elif after != before and _aged(before, versions) != after:
            text = f"what the page tells machines as {name} changed"
            yield Observation("structured-changed", name, Weight.DOUBT, text, path, *_excerpt(before, after))


def _styles(path: str, a: Markup, b: Markup, noise: Noise) -> Iterator[Observation]:
    """Style sheets that a page asks for no more, where none came for them."""
    lost = sorted(a.styles() - b.styles())
    if lost and not b.styles() - a.styles() and not noise.covers_aspect(path, "styles"):
        text = f"the page asks for {plural(len(lost), 'style sheet')} no more: {', '.join(lost[:3])}"
        yield Observation("styles-gone", "styles", Weight.DOUBT, text, path, ", ".join(lost), "")


def _blocks(path: str, a: Markup, b: Markup, noise: Noise, versions: Mapping[str, str]) -> Iterator[Observation]:
    fresh = Counter(w for n, block in b.blocks.items() if n not in a.blocks for w in block.text.split())
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
            yield from _block(path, name, left, right, fresh, noise, versions)


def _block(
    path: str, name: str, left: Block, right: Block, fresh: Counter[str], noise: Noise, versions: Mapping[str, str]
) -> Iterator[Observation]:  # fmt: skip
    """How a block differs; ``fresh`` are the words of the page's new blocks: what went there is not lost."""
    then, now = (noise.text(path, name, t) for t in (_aged(left.text, versions), right.text))
    if left.text != right.text and then != now:
        lost = [w for w in left.text.split() if w not in set(right.text.split())]
        came = [w for w in right.text.split() if w not in set(left.text.split())]
        kind, weight, word = "text-changed", Weight.DOUBT, "says something else"
        if _is_garbled(left.text, right.text):
            kind, weight, word = "encoding", Weight.DAMAGE, "is in a wrong encoding"
        elif sorted(re.findall(r"\w+", left.text)) == sorted(re.findall(r"\w+", right.text)):
            kind, word = "order-changed", "says the same in another order"
        elif not came and (went := Counter(left.text.split()) - Counter(right.text.split())) and went <= fresh:
            kind, weight, word = "text-moved", Weight.NOTE, "gave text to a new block"
        elif lost and not came:
            kind, weight, word = "text-lost", Weight.DAMAGE, "lost text"
        yield Observation(kind, name, weight, f"the block {name} {word}", path, *_excerpt(left.text, right.text))
    elif left.headings != right.headings and left.text:
        before_after = ", ".join(left.headings), ", ".join(right.headings)
        yield Observation(
            "headings-changed", name, Weight.DOUBT, f"headings of the block {name} changed", path, *before_after
        )
    for what, before, after in (("image", left.images, right.images), ("link", left.links, right.links)):
        gone = [x for x in before if x not in after]
        if gone:
            weight = Weight.DAMAGE if what == "image" else Weight.DOUBT
            text = f"{what}s are gone from the block {name}"
            yield Observation(f"{what}-gone", name, weight, text, path, ", ".join(gone[:3]), "")


def _forms(path: str, a: Markup, b: Markup, noise: Noise) -> Iterator[Observation]:
    for name, form in a.forms.items():
        if noise.covers_aspect(path, f"form {name}"):
            continue
        other = b.forms.get(name)
        if other is None:
            yield Observation("form-gone", name, Weight.DAMAGE, f"the form '{name}' is gone", path)
        elif lost := sorted(form.names - other.names):
            text = f"the form '{name}' lost the field {', '.join(lost)}"
            yield Observation("field-lost", name, Weight.DAMAGE, text, path)


def _stale(path: str, page: PageSeen, noise: Noise) -> Iterator[Observation]:
    """What visitors get from a cache is not what the site would make now."""
    if page.served is None or page.markup is None:
        return
    names = page.served.blocks.keys() | page.markup.blocks.keys()
    for name in sorted(names):
        old, new = page.served.blocks.get(name), page.markup.blocks.get(name)
        then, now = (noise.text(path, name, b.text) if b else None for b in (old, new))
        if not noise.covers(path, name) and then != now:
            text = "visitors still get old pages from a cache: what changed is hidden until it is purged"
            before, after = _excerpt(old.text if old else "", new.text if new else "")
            yield Observation("stale-cache", "page cache", Weight.DAMAGE, text, path, before, after)
            return


def _is_garbled(before: str, after: str) -> bool:
    """Whether the text was read in another encoding than it was written in."""
    if after.count("\ufffd") > before.count("\ufffd"):
        return True
    for wrong in ("cp1252", "latin-1"):
        try:
            if after.encode(wrong).decode("utf-8") == before:
                return True
        except UnicodeError:
            continue
    # Only parts may be garbled: then pairs stand there that the wrong reading of UTF-8 makes, and no text has.
    return len(_GARBLED.findall(after)) > len(_GARBLED.findall(before)) + 1


_GARBLED = re.compile("[\u00c2\u00c3][\u0080-\u00bf]|\u00e2\u20ac|\u00c3[\u0192\u201a]")


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
