"""The way back, rehearsed: what a rollback would do after the cutover, tried on the control, which stands where live
stood before the steps.

Made-up visitors (the checks that write) use the upgraded clone once more; what they did since its end is carried onto
the control as `keenharbor.live.rollback` would carry it onto live, and the old site is looked at with it."""

from __future__ import annotations

import time
from collections.abc import Collection, Sequence

from keenharbor.base.errors import KeenHarborError
from keenharbor.compare import Look
from keenharbor.compare.look import Far
from keenharbor.database import row_delta
from keenharbor.database.diff import Carried
from keenharbor.merge.carry import carry_over
from keenharbor.merge.model import Passage, Rule
from keenharbor.merge.plan import MergePlan, theirs_wins
from keenharbor.merge.trees import CODE, merge_trees
from keenharbor.site.passing import Passing
from keenharbor.snapshot import Snapshot
from keenharbor.tree import compare_trees, restore_tree
from keenharbor.tree.scan import Hashing, read_content
from keenharbor.trial.control import Control
from keenharbor.trial.result import WayBackTried

MOST_PAGES = 40


def backwards(carried: Sequence[Carried]) -> tuple[Passage, ...]:
    """How what the steps carried is called where it came from."""
    return tuple(Passage(c.to, c.table, dict(c.columns)) for c in carried)


def try_way_back(
    control: Control, arrival: Snapshot, now: Snapshot, before: Look, pages: Sequence[str], passages: Sequence[Passage],
    rule: Rule = theirs_wins, without: Collection[str] = (),
) -> WayBackTried:  # fmt: skip
    """Carry what changed on the upgraded clone (or on live) from ``arrival`` to ``now`` onto the ``control``, and look
    at it: the ``pages`` and checks that were good ``before`` have to be good."""
    site = control.stage.clone.site
    began = time.monotonic()
    standing = Passing(site.model.volatile).without
    if not standing(row_delta(arrival.state, now.state)).tables and not compare_trees(arrival.entries, now.entries):
        return WayBackTried(True, 0.0, {})
    try:
        with site.reading_database() as ours:
            plan = MergePlan(arrival.state, now.state, ours, passages, rule, standing, without=without)
        files = _carry_files(control, arrival, now)
        with site.writing_database() as writer:
            merged = carry_over(plan, writer)
        control.stage.clone.restart()
    except KeenHarborError as error:
        return WayBackTried(False, round(time.monotonic() - began, 3), {}, problem=error.what)
    seconds = round(time.monotonic() - began, 3)
    look = control.stage.look((), samples=1, only=list(pages)[:MOST_PAGES], timed=False, far=Far(1, served=False))
    counts = {table: count.as_json() for table, count in merged.carried.items()}
    problem = worse(before, look, "the old site with what was carried")
    return WayBackTried(
        not problem, seconds, counts, files, merged.not_carried, len(merged.conflicts), problem
    )  # fmt: skip


def _carry_files(control: Control, arrival: Snapshot, now: Snapshot) -> int:
    """Files that came to the upgraded clone; how many."""
    site = control.stage.clone.site
    scan = site.scan(arrival.entries)
    read_content(site.files, scan, Hashing(), arrival.entries, None, lambda done, total: None)

    # Texts that both sides changed are put together when live goes back; here files that came are what counts.
    merged = merge_trees(arrival.entries, now.entries, scan.entries, CODE, lambda entry: b"")
    wanted = {p: merged.entries[p] for p in merged.added if p not in scan.entries}
    restore_tree(site.tree, wanted, {}, now.store.read)
    return sum(e.kind == "file" for e in wanted.values())


def worse(before: Look, after: Look, what: str) -> str:
    """What was good before and is not now on ``what`` was looked at, in words."""
    for path, page in after.pages.items():
        was = before.pages.get(path)
        if was is not None and was.loads and not page.loads:
            return f"{path} does not load on {what}"
    for name, check in after.checks.items():
        known = before.checks.get(name)
        if check.problem is not None and known is not None and known.problem is None:
            return f"'{name}' fails on {what}: {check.problem}"
    return ""
