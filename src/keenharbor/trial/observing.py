"""What a step did to files and data, from the checkpoints around it; and to which step each difference is laid."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import replace

from keenharbor.base.text import plural
from keenharbor.compare import Look, Observation, Weight, compare_files, compare_settings, compare_tables
from keenharbor.compare.state import settings_of
from keenharbor.database import RowDelta, row_delta
from keenharbor.site.model import SiteFile
from keenharbor.snapshot import Snapshot
from keenharbor.trial.record import SeenStep
from keenharbor.trial.sight import in_sight, out_of_sight_since, pages_showing
from keenharbor.trial.steps import CarriesPart, Outcome, StepBase

Identity = tuple[str, str, str]
Laid = tuple[Observation, str | None, str | None]
"""An observation, the step that brought it in, and an earlier step since which it could not have been seen."""


def of_step(
    model: SiteFile, step: StepBase, outcome: Outcome, start: Snapshot, end: Snapshot, rows: RowDelta
) -> list[Observation]:
    """What a step did beyond its purpose, from the checkpoints around it; ``rows`` is how theirs differ."""
    name = step.name
    found: list[Observation] = []
    # A check that fails is told of by the look that follows.
    if outcome.problem is not None and not step.only_looks:
        text = f"the step failed: {outcome.problem}"
        if outcome.tries > 1:
            text += f" ({outcome.tries} tries)"
        found.append(Observation("step-failed", name, Weight.DAMAGE, text, after=outcome.output[-400:]))
    for path, diff in outcome.wiped:
        text = f"a local edit of {path} was wiped"
        found.append(Observation("edit-wiped", path, Weight.DAMAGE, text, before=diff))
    if outcome.left_over:
        paths = ", ".join(outcome.left_over)
        text = f"{plural(len(outcome.left_over), 'file')} that the new release does not have: {paths}"
        found.append(Observation("left-over", name, Weight.DOUBT, text, after=paths))
    if step.only_looks:
        return found  # what its visits write they are meant to write
    found += compare_files(start.entries, end.entries, outcome.touches)
    found += compare_tables(rows, model)
    for seen in compare_settings(settings_of(start.state, model), settings_of(end.state, model)):
        planned = any(seen.place == s or seen.place.startswith(s + ".") for s in outcome.settings)
        found.append(replace(seen, weight=Weight.NOTE, text=f"{seen.text}, as planned") if planned else seen)
    if step.by_a_person:
        # What a person was asked to do is recorded, not doubted; what they lost on the way is told as it is.
        lost = ("step-failed", "rows-lost", "setting-lost")
        found = [o if o.kind in lost else replace(o, weight=Weight.NOTE, text=f"{o.text}, by hand") for o in found]
    return found


_VARYING = re.compile(r"'[^']*'|\"[^\"]*\"|[\w.~-]*/[\w./~-]*|\b[0-9a-f]{8,}\b")


def log_place(line: str) -> str:
    """What lines of a log have in common that tell of the same: without paths, names in quotes, and digests."""
    return _VARYING.sub("…", line)[:120]


def of_log(lines: Iterable[str]) -> list[Observation]:
    """New lines of an error log, those that tell of the same together."""
    alike: dict[str, list[str]] = {}
    for line in lines:
        alike.setdefault(log_place(line), []).append(line)
    found = []
    for place, members in alike.items():
        more = f" (and {plural(len(members) - 1, 'line')} like it)" if len(members) > 1 else ""
        text = f"new in the error log: {members[0][:160]}{more}"
        found.append(Observation("log", place, Weight.DOUBT, text, after="\n".join(m[:300] for m in members[:20])))
    return found


def laid_of_pages(steps: Sequence[SeenStep], before: Look) -> Iterator[Laid]:
    """What the last look shows, each with the step from which on it was there whenever its page could be seen."""
    there = [{o.identity for o in s.observations} for s in steps]
    for seen in steps[-1].observations if steps else ():
        first, hidden = _first_of_its_run(steps, there, seen, len(steps) - 1, before)
        yield seen, steps[first].name, steps[hidden].name if hidden < first else None


def _first_of_its_run(
    steps: Sequence[SeenStep], there: Sequence[Collection[Identity]], seen: Observation, last: int, before: Look
) -> tuple[int, int]:
    """The step since which a difference is there up to ``last``, whenever its page could be seen; and the earlier one
    since which it could not have been seen (the same where there is none). ``there`` is what each step shows."""
    first = hidden = at = last
    while at > 0:
        at -= 1
        if seen.identity in there[at]:
            first = hidden = at
        elif seen.page and in_sight(steps[at].look, seen.page, before) is False:
            hidden = at
        else:
            break
    return first, hidden


def laid_of_steps(model: SiteFile, steps: Sequence[SeenStep], start: Snapshot, end: Snapshot) -> Iterator[Laid]:
    """What the steps did to files and data, as far as it still stands at the end."""
    carried = [CarriesPart(**c).carried for s in steps for c in s.step.get("carries", ())]
    standing = compare_tables(row_delta(start.state, end.state, carried), model)
    standing += compare_settings(settings_of(start.state, model), settings_of(end.state, model))
    identities = {o.identity for o in standing}
    told: set[tuple[str, str, str]] = set()
    away: dict[str, str] = {}
    for step in steps:
        for seen in step.of_step:
            if seen.kind == "schema-gone":
                away.setdefault(seen.place.removeprefix("table "), step.name)
            data = seen.kind.startswith(("rows-", "schema-", "setting-"))
            gone = seen.kind == "left-over" and not any(p in end.entries for p in seen.after.split(", "))
            if (not data or seen.identity in identities) and not gone:
                told.add(seen.identity)
                yield seen, step.name, None
    # A table that was away for some steps hides from each of them what became of its rows.
    for seen in standing:
        if seen.place in away and seen.identity not in told:
            yield seen, away[seen.place], None


def unconfirmed(steps: Sequence[SeenStep], final: Sequence[Laid], before: Look) -> list[Laid]:
    """What showed after a step on pages of which none can be seen any more: it stays, with its weight. A page (or a
    site) that is dead heals nothing."""
    there = [{o.identity for o in s.observations} for s in steps]
    told = {o.identity for o, _, _ in final}
    found: list[Laid] = []
    for at, step in enumerate(steps):
        for seen in step.observations:
            if seen.weight is Weight.NOTE or seen.identity in told:
                continue
            told.add(seen.identity)
            last = max(n for n in range(at, len(steps)) if seen.identity in there[n])
            pages = pages_showing(seen, before, step.look)
            since = [out_of_sight_since(steps, page, before, last + 1) for page in pages]
            hidden = [number for number in since if number is not None]
            if not hidden or len(hidden) < len(since):
                continue
            hider = steps[max(hidden)].name
            text = f"{seen.text}; it cannot be confirmed since step {hider}, which hid the page"
            first, _ = _first_of_its_run(steps, there, seen, last, before)
            found.append((replace(seen, text=text), steps[first].name, None))
    return found


def passing(steps: Sequence[SeenStep], final: Sequence[Laid]) -> list[Laid]:
    """What showed after a step, was looked at again at the end, and was gone."""
    identities = {o.identity for o, _, _ in final}
    found: dict[tuple[str, str, str], Laid] = {}
    for step in steps:
        for seen in [*step.observations, *step.of_step]:
            if seen.identity not in identities and seen.weight is not Weight.NOTE:
                found.setdefault(seen.identity, (seen, step.name, None))
    return list(found.values())
