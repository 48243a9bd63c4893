"""Drill: a snapshot is restored into a scratch place, started and looked at, and what came of it is written down."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Mapping
from dataclasses import dataclass, field

from keenharbor.base.errors import DamagedError, KeenHarborError
from keenharbor.base.progress import Progress
from keenharbor.clone.mailbox import Mailbox
from keenharbor.clone.making import make_clone
from keenharbor.clone.remembered import PageThen, remembered, unlike_then
from keenharbor.compare import Finding, Look, Visitor, compare_pages, group, learn_noise, take_look
from keenharbor.compare.browsed import refuse_without_browser
from keenharbor.site.view import SiteView
from keenharbor.snapshot import Snapshot, record_proof

SAMPLES = 2


@dataclass(frozen=True)
class Drilled:
    """How a drill went: seconds that the restore took (what a real one would take) and all of it; pages looked at; what
    is wrong with the restored site; what differs from live, which has moved on since; why live was not looked at (then
    what differs from ``pages_then`` pages that were noted when the snapshot was taken)."""

    snapshot: str
    good: bool
    restore_seconds: float
    seconds: float
    pages: int = 0
    checks: int = 0
    problems: tuple[str, ...] = ()
    differences: tuple[Finding, ...] = field(default=())
    without_live: str = ""
    pages_then: int = 0

    def as_json(self) -> dict[str, object]:
        return {
            "snapshot": self.snapshot, "good": self.good, "restore_seconds": round(self.restore_seconds, 3),
            "seconds": round(self.seconds, 3), "pages": self.pages, "checks": self.checks,
            "problems": list(self.problems),
            "differences": [f.as_json() for f in self.differences], "without_live": self.without_live,
            "pages_then": self.pages_then,
        }  # fmt: skip


def drill(live: SiteView, snapshot: Snapshot, progress: Progress) -> Drilled:
    """Restore ``snapshot``, look at its pages, make its checks, compare with live where that answers; record the
    outcome.

    A page counts as broken when it answers otherwise than when the snapshot was taken; one that was not visited then,
    when it fails on the restored site and not on live; the start page whatever live does. Everything is removed
    afterwards. What is no fault of the snapshot (too little space, a server that is not installed) is raised and not
    recorded."""
    refuse_without_browser(live.model.check)
    began = time.monotonic()
    restored = 0.0
    with contextlib.ExitStack() as stack:
        mailbox = stack.enter_context(Mailbox())
        progress.stage("restoring into a scratch place")
        try:
            clone = make_clone(live, snapshot, "drill", mail_port=mailbox.port)
        except DamagedError as error:
            return _failed(snapshot, began, restored, error)
        stack.callback(clone.drop)
        restored = time.monotonic() - began
        progress.stage("starting the site there")
        try:
            clone.start()
        except KeenHarborError as error:
            return _failed(snapshot, began, restored, error)
        progress.stage("looking at its pages")
        then = remembered(snapshot)
        first = _look(live, clone.address, tuple(then), progress)
        progress.stage("comparing with live")
        theirs, without = _look_at_live(live, tuple(first.pages), progress)
        # The checks write, so they come last.
        second = _look(live, clone.address, tuple(first.pages), progress, mailbox)
        result = _judge(snapshot, restored, began, second, [first, second], theirs, without, then)
    return _recorded(snapshot, result)


def _failed(snapshot: Snapshot, began: float, restored: float, error: KeenHarborError) -> Drilled:
    return _recorded(snapshot, Drilled(snapshot.id, False, restored, time.monotonic() - began, problems=(error.what,)))


def _recorded(snapshot: Snapshot, result: Drilled) -> Drilled:
    record_proof(
        snapshot, "a drill", result.good, result.restore_seconds or result.seconds, "; ".join(result.problems)[:300]
    )
    return result


def _look(
    live: SiteView, address: str, also: tuple[str, ...], progress: Progress, mailbox: Mailbox | None = None
) -> Look:
    """A look at the site at ``address``; with a ``mailbox``, its checks are made too, also those that write."""
    with Visitor(address) as visitor:
        return take_look(
            visitor, live.model.look, also=also, samples=SAMPLES, served=False, learn=True, progress=progress,
            checks=live.model.check if mailbox is not None else (),
            mail_to=lambda: [a for m in mailbox.messages for a in m.to] if mailbox is not None else [],
        )  # fmt: skip


def _look_at_live(live: SiteView, seen: tuple[str, ...], progress: Progress) -> tuple[list[Look], str]:
    """Two looks at live, for what changes by itself; nothing and the reason where it does not answer."""
    one = _look(live, live.address, seen, progress)
    start = next(iter(one.pages.values()), None)
    if start is None or not start.loads:
        return [], "live does not answer"
    return [one, _look(live, live.address, seen, progress)], ""


def _judge(
    snapshot: Snapshot, restored: float, began: float, seen: Look, looks: list[Look], theirs: list[Look], without: str,
    then: Mapping[str, PageThen],
) -> Drilled:  # fmt: skip
    # Live may have been away for the one of the two looks: what was fine in either is fine there. What failed already
    # when the snapshot was taken is no fault of the snapshot.
    fine_on_live = {p for look in theirs for p, page in look.pages.items() if page.loads} if theirs else None
    start = next(iter(seen.pages), None)
    unlike, differences = unlike_then(then, seen)
    broken = [
        f"{path} fails with status {page.status or 'none'}"
        for path, page in seen.pages.items()
        if not page.loads
        and not (path in then and then[path].loads)  # told by what it was then
        and (path == start or (path not in then and (fine_on_live is None or path in fine_on_live)))
    ]
    failed = [f"the check '{c.name}' fails: {c.problem}" for c in seen.checks.values() if c.problem]
    problems = (*unlike, *broken, *failed) or (() if seen.pages else ("no page was found",))
    if theirs:
        noise = learn_noise(looks) | learn_noise(theirs)
        differences = group((o, None, None) for o in compare_pages(theirs[-1], seen, noise))
    return Drilled(
        snapshot.id, not problems, restored, time.monotonic() - began, len(seen.pages), len(seen.checks), problems,
        tuple(differences), without, len(then),
    )  # fmt: skip
