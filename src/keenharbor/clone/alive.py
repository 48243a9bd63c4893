"""Whether a clone that was made comes up: its start page is asked for once, and what is wrong is quoted."""

from __future__ import annotations

import contextlib
import re
from dataclasses import dataclass

from selectolax.lexbor import LexborHTMLParser

from keenharbor.base.errors import KeenHarborError
from keenharbor.clone.clone import Clone
from keenharbor.compare import Visitor
from keenharbor.compare.visitor import VisitError

_MOST_WORDS, _MOST_LINES = 300, 5


@dataclass(frozen=True)
class Awakened:
    """What the start page answered: its ``status`` (0: nothing), its title, and the ``reasons`` where it fails: the
    page's own words, and the last lines of the logs."""

    status: int
    title: str = ""
    reasons: tuple[str, ...] = ()

    @property
    def good(self) -> bool:
        return 0 < self.status < 500


def awaken(clone: Clone) -> Awakened:
    """Start ``clone``, ask for its start page, and stop it again."""
    try:
        with clone:
            start = clone.site.model.look.starts[0]
            with Visitor(clone.address) as visitor:
                answer = visitor.get(start)
            title, words = _words(answer.text)
            if 0 < answer.status < 500:
                return Awakened(answer.status, title)
            return Awakened(answer.status, title, (*([words] if words else []), *_last_lines(clone)))
    except VisitError as error:
        return Awakened(0, "", (str(error), *_last_lines(clone)))
    except KeenHarborError as error:
        return Awakened(0, "", (error.what, *_last_lines(clone)))


def _words(html: str) -> tuple[str, str]:
    """A page's title, and the beginning of what it says."""
    tree = LexborHTMLParser(html[:200_000])
    found = tree.css_first("title")
    title = found.text().strip()[:200] if found is not None else ""
    for unseen in tree.css("script, style, title"):
        unseen.decompose()
    text = re.sub(r"\s+", " ", tree.body.text(separator=" ")).strip() if tree.body is not None else ""
    return title, text[:_MOST_WORDS]


def _last_lines(clone: Clone) -> list[str]:
    """The end of the server's log, and of the newest log of the site."""
    found: list[str] = []
    with contextlib.suppress(OSError):
        found += clone.server_log.read_text(errors="replace").strip().splitlines()[-_MOST_LINES:]
    logs = [e for e in clone.site.scan().entries.values() if e.area == "logs" and e.kind == "file" and e.size]
    newest = max(logs, key=lambda e: e.mtime_ns, default=None)
    if newest is not None:
        lines = clone.site.path(newest.path).read_text(errors="replace").strip().splitlines()
        found += [f"{newest.path}: {line}" for line in lines[-_MOST_LINES:]]
    return [line[:_MOST_WORDS] for line in found if line.strip()]
