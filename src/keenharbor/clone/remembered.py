"""What live answered when a snapshot was taken: noted beside the snapshot, so that a drill need not ask a live that has
moved on, or is down."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Mapping
from dataclasses import asdict, dataclass

from keenharbor.compare import Finding, Look, Observation, VisitError, Visitor, Weight, group, markup_of
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot, change_record, record_of

SECONDS = 3.0
"""So long a snapshot may be held up by looking at live, at most."""


@dataclass(frozen=True)
class PageThen:
    """What a page answered then, in one visit; ``title`` is empty where it was no page of markup."""

    path: str
    status: int
    title: str

    @property
    def loads(self) -> bool:
        return self.status < 400


def remember(live: SiteView, snapshot: Snapshot) -> int:
    """Visit the start pages of ``live`` and what they link, up to `SnapshotPart.visit` pages or `SECONDS`; note what
    they answer in the snapshot's record. Returns how many pages answered; 0 where live does not answer, which is
    nothing to stop a snapshot."""
    part, until = live.model.look, time.monotonic() + SECONDS
    queue = deque(dict.fromkeys(part.starts))
    queued, seen = set(queue), list[PageThen]()
    with Visitor(live.address, timeout=SECONDS) as visitor:
        while queue and len(seen) < live.model.snapshot.visit and time.monotonic() < until:
            path = queue.popleft()
            try:
                answer = visitor.get(path)
            except VisitError:
                break
            markup = markup_of(visitor, answer, path)
            seen.append(PageThen(path, answer.status, markup.title if markup is not None else ""))
            for link in markup.links() if markup is not None else ():
                if part.follows(link) and "?" not in link and link not in queued:
                    queued.add(link)
                    queue.append(link)
    if seen:
        change_record(snapshot, lambda record: record.update(seen=[asdict(p) for p in seen]))
    return len(seen)


def remembered(snapshot: Snapshot) -> dict[str, PageThen]:
    """What was noted, by path; nothing where live did not answer then."""
    found = record_of(snapshot.store, snapshot.id).get("seen", [])
    return {str(p["path"]): PageThen(str(p["path"]), int(p["status"]), str(p["title"])) for p in found}


def unlike_then(then: Mapping[str, PageThen], look: Look) -> tuple[list[str], list[Finding]]:
    """Pages that answered well then and do not now, in words; and titles that are others now."""
    wrong, others = [], []
    for path, page in then.items():
        now = look.pages.get(path)
        if now is None or not page.loads:
            continue
        if now.status != page.status:
            said = f"answers {now.status}" if now.status else "does not answer"
            wrong.append(f"{path} {said}; when the snapshot was taken it answered {page.status}")
        elif now.markup is not None and now.markup.title != page.title:
            text = f"the title of {path} is '{now.markup.title}'; it was '{page.title}' when the snapshot was taken"
            others.append(Observation("title-changed", path, Weight.NOTE, text, path, page.title, now.markup.title))
    return wrong, group((o, None, None) for o in others)
