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


def places_in(data: bytes) -> tuple[list[str], list[str]]:
    """What a sitemap lists: pages, and further sitemaps; as far as it can be read. It may be packed with gzip."""
    pages: list[str] = []
    sitemaps: list[str] = []
    path: list[str] = []
    text: list[str] = []

    def start(name: str, attributes: object) -> None:
        path.append(name.rpartition(":")[2])
        text.clear()

    def end(name: str) -> None:
        if path[-1] == "loc" and len(path) > 1 and path[-2] in ("url", "sitemap"):
            (pages if path[-2] == "url" else sitemaps).append("".join(text).strip())
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


def listed_pages(visitor: Visitor, sitemaps: Sequence[str]) -> list[str]:
    """The sitemaps of the site that are there, and the pages of it that they list: paths. Addresses elsewhere do not
    count."""
    queue, found, there = deque(sitemaps), dict[str, None](), list[str]()
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
            found |= dict.fromkeys(_paths(pages, visitor.address))
            queue.extend(_paths(more, visitor.address))
    return [*there, *(p for p in found if p not in there)]


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
