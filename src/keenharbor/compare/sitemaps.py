"""Pages that a site lists for search engines: its sitemaps (https://www.sitemaps.org/protocol.html), also those that
robots.txt names (RFC 9309)."""

from __future__ import annotations

import contextlib
import re
import zlib
from collections import deque
from collections.abc import Sequence
from xml.parsers import expat

from keenharbor.compare.visitor import VisitError, Visitor

MOST_SITEMAPS = 20
MOST_PAGES = 50_000
_LARGEST = 50 * 1024 * 1024
_NAMED = re.compile(r"(?im)^[ \t]*sitemap[ \t]*:[ \t]*(\S+)")


class _Refused(Exception):
    """What no sitemap has."""


def places_in(data: bytes) -> tuple[dict[str, str], list[str]]:
    """What a sitemap lists: pages, each with the day of its last change as it stands there (empty where none does), and
    further sitemaps; as far as it can be read. It may be packed with gzip."""
    pages: dict[str, str] = {}
    place = ""
    sitemaps: list[str] = []
    path: list[str] = []
    text: list[str] = []

    def start(name: str, attributes: object) -> None:
        path.append(name.rpartition(":")[2])
        text.clear()

    def end(name: str) -> None:
        nonlocal place
        above = path[-2] if len(path) > 1 else ""
        if path[-1] == "loc" and above == "url":
            place = "".join(text).strip()
            pages.setdefault(place, "")
        elif path[-1] == "loc" and above == "sitemap":
            sitemaps.append("".join(text).strip())
        elif path[-1] == "lastmod" and above == "url" and place:
            pages[place] = "".join(text).strip()
        elif path[-1] == "url":
            place = ""
        path.pop()
        if len(pages) >= MOST_PAGES:
            raise _Refused

    def refuse(*declared: object) -> None:
        raise _Refused  # entities: nothing that is listed needs them, and they can grow without end

    parser = expat.ParserCreate()
    parser.StartElementHandler, parser.EndElementHandler = start, end
    parser.CharacterDataHandler = text.append
    parser.EntityDeclHandler = refuse
    with contextlib.suppress(expat.ExpatError, _Refused, zlib.error, ValueError):  # what was listed before counts
        parser.Parse(_unpacked(data), True)
    return pages, sitemaps


def _unpacked(data: bytes) -> bytes:
    if data[:2] != b"\x1f\x8b":
        return data
    return zlib.decompressobj(wbits=31).decompress(data, _LARGEST)


def listed_pages(visitor: Visitor, sitemaps: Sequence[str]) -> dict[str, str]:
    """The sitemaps of the site that are there, and the pages of it that they list: paths, each with the day of its last
    change where that is said. Addresses elsewhere do not count."""
    queue, found, there = deque(sitemaps), dict[str, str](), list[str]()
    try:
        robots = visitor.get("/robots.txt")
        if robots.status == 200:
            queue.extend(_paths(_NAMED.findall(robots.text), visitor.address))
    except VisitError:
        pass
    asked: set[str] = set()
    while queue and len(asked) < MOST_SITEMAPS and len(found) < MOST_PAGES:
        path = queue.popleft()
        if path in asked:
            continue
        asked.add(path)
        try:
            answer = visitor.get(path)
        except VisitError:
            continue
        if answer.status != 200:
            continue
        pages, more = places_in(answer.content)
        if pages or more:
            there.append(path)
            for page, changed in pages.items():
                found |= dict.fromkeys(_paths([page], visitor.address), changed)
            queue.extend(_paths(more, visitor.address))
    return dict.fromkeys(there, "") | {p: changed for p, changed in found.items() if p not in there}


def _paths(places: Sequence[str], address: str) -> list[str]:
    """Places within the site, from its root on, without what a browser keeps for itself."""
    found = []
    for place in places:
        path = place.removeprefix(address).partition("#")[0]
        if path[:1] in ("", "?"):
            path = f"/{path}"
        if path.startswith("/") and not path.startswith("//"):
            found.append(path)
    return found
