"""The proof that a clone could not touch live, and what is to be thought of a live that changed all the same."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from typing import BinaryIO

from keenharbor.clone.clone import Clone
from keenharbor.clone.ties import live_places
from keenharbor.compare import Observation, Weight
from keenharbor.database import open_database
from keenharbor.database.rewrite import Rewriter, places_left
from keenharbor.host import PIECE_SIZE, WalkRules
from keenharbor.site.view import Fingerprint, SiteView
from keenharbor.snapshot import Snapshot
from keenharbor.snapshot.moved import DELIVERED
from keenharbor.tree import scan_tree
from keenharbor.trial.result import Isolation

_LONGEST_PLACE = 4096


def traces_of_live(clone: Clone, live: SiteView, snapshot: Snapshot, known: Snapshot) -> tuple[str, ...]:
    """What of live is left in the clone's files and cells; ``known`` is its newest checkpoint."""
    search = Rewriter(dict.fromkeys(live_places(live, snapshot), ""))
    found = [f"cell {c}" for c in places_left(open_database(clone.site.database_place), search, known.state)]
    scan = scan_tree(clone.site.files, WalkRules(clone.site.area_rules))
    for path, entry in scan.entries.items():
        if entry.kind == "file":
            with contextlib.suppress(OSError), clone.site.files.open(path) as source:
                if _has_place(source, search, entry.area in DELIVERED):
                    found.append(f"file {path}")
        elif entry.target is not None and search.left_in(entry.target.encode("utf-8", "surrogateescape")):
            found.append(f"link {path}")
    return tuple(found)


def _has_place(source: BinaryIO, search: Rewriter, delivered: bool) -> bool:
    """Whether a place of live stands in a file, read a piece at a time: one may be cut in two, so pieces overlap. What
    was ``delivered`` is not unpacked."""
    tail = b""
    while piece := source.read(PIECE_SIZE):
        if search.left_in(tail + piece, packed=not delivered):
            return True
        tail = piece[-_LONGEST_PLACE:]
    return False


def isolation_of(
    live: SiteView, before: Fingerprint, after: Fingerprint, clone: Clone, traces: tuple[str, ...],
    mails: tuple[dict[str, str], ...],
) -> Isolation:  # fmt: skip
    """What was seen of live before and after, and how far the clone was sealed off."""
    differences = tuple(before.differences(after))
    theirs = {f"table {t}" for t in (*live.model.visitor_data.tables, *live.model.volatile.tables, "sqlite_sequence")}
    media = {f"file {p}" for p in before.files.keys() | after.files.keys() if live.area_rules.area_of(p) == "media"}
    return Isolation(
        before.digest, after.digest, differences, bool(differences) and set(differences) <= theirs | media,
        len(clone.facts.rewritten_files), clone.facts.rewritten_cells, traces, mails, clone.facts.not_blocked,
        tuple(clone.facts.switched_off), tuple(clone.facts.open_parts),
    )  # fmt: skip


def of_isolation(proof: Isolation) -> Iterator[Observation]:
    """A live that changed for no reason known is damage, whoever did it; one that changed where visitors write is
    nothing, as long as the clone is proven not to have done it."""
    if not proof.differences:
        return
    listed = ", ".join(proof.differences[:3]) + (" …" if len(proof.differences) > 3 else "")
    all_of_it = "\n".join(proof.differences[:40])
    if not proof.only_visitors:
        text = f"live changed during the trial: {listed}; no reason is known"
        yield Observation("live-changed", "live", Weight.DAMAGE, text, after=all_of_it)
    elif not proof.sealed:
        text = f"live changed during the trial where visitors write: {listed}; that the clone did not is not proven"
        yield Observation("live-changed", "live", Weight.DOUBT, text, after=all_of_it)
