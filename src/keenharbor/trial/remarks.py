"""What a trial could not see, in words."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from keenharbor.base.text import plural
from keenharbor.compare import Look
from keenharbor.compare.look import TIMED_PAGES
from keenharbor.site.model import SiteFile
from keenharbor.trial.gallery import MOST_PAGES
from keenharbor.trial.record import TrialRecord


@dataclass(frozen=True)
class Unseen:
    """What a rehearsal knows of its own limits; of texts that are empty there is nothing to tell."""

    model: SiteFile
    record: TrialRecord
    control_end: Look | None
    no_control: str
    not_held: str
    no_way_back: str
    opaque: Sequence[str]
    not_timed: int
    undecided: int
    left: Sequence[str]

    def told(self) -> list[str]:
        """One remark a line."""
        return [*self._of_visits(), *self._of_control(), *self._of_looks()]

    def _of_visits(self) -> Iterator[str]:
        before = self.record.before.look
        if self.model.log_in is None:
            yield "nobody logged in: pages behind a log-in were not looked at ('log_in' under [look])"
        elif before.log_in_problem is not None:
            yield f"nobody could log in on the unchanged clone: {before.log_in_problem}"
        for check in before.checks.values():
            if check.problem is not None:
                yield f"'{check.name}' fails on the unchanged clone, too: {check.problem}"
        if not any(c.writes for c in self.model.check):
            yield "no check wrote anything: what fails only when somebody saves was not seen ('writes' in a [[check]])"

    def _of_control(self) -> Iterator[str]:
        checks = self.record.before.look.checks
        if self.no_control:
            yield f"there was no second clone to tell what the clock alone does: {self.no_control}"
        elif self.control_end is not None:
            for c in self.control_end.checks.values():
                if c.problem and (c.name not in checks or checks[c.name].problem is None):
                    yield f"'{c.name}' fails without any step, too, by now: {c.problem}"
        if self.no_way_back:
            yield f"the way back was not tried: {self.no_way_back}"
        if self.not_held:
            yield f"definitions were not held against those of the new release: {self.not_held}"
        if self.opaque:
            listed = ", ".join(self.opaque[:4]) + (" …" if len(self.opaque) > 4 else "")
            yield f"names something of live in a form that could not be rewritten: {listed}"

    def _of_looks(self) -> Iterator[str]:
        before = self.record.before
        if self.not_timed:
            yield f"timing: {plural(self.not_timed, 'page')} beyond the first {TIMED_PAGES} not timed"
        silent = [a for a, status in before.look.assets.items() if status != 200]
        if silent:
            yield (
                f"{len(silent)} of "
                f"{plural(len(before.look.assets), 'picture, style or script', 'pictures, styles and scripts')} "
                f"do not load on the unchanged clone (as {silent[0]}): what becomes of them was not seen; does the "
                f"command "
                "under [serve] serve them?"
            )
        if before.look.left:
            why = f"the look ended after {before.look.spent}" if before.look.spent else "'limit' under [look]"
            yield (
                f"{plural(len(before.look.left), 'page')} that links or sitemaps name not looked at ({why}): some of "
                "each kind of address stand for them, and more of a kind on which something differs"
            )
        partial = [s.look for s in self.record.steps if s.partial and s.look is not None]
        if partial:
            most = max(len(look.pages) for look in partial)
            yield (
                f"between the steps at most {most} of {len(before.look.pages)} pages were looked at, one of each kind "
                "of address; all of them before the first and behind the last"
            )
        if self.undecided:
            yield (
                f"{plural(self.undecided, 'difference')} may have come with an earlier step than is said: there "
                "were too many to be searched for"
            )
        if before.shots is None:
            yield "pictures: not looked at (--pictures takes them)"
        elif before.shots.left_out:
            yield f"pictures: {plural(before.shots.left_out, 'page')} beyond the first {MOST_PAGES} not looked at"
        if self.left:
            yield f"not carried out, since a step before failed: {', '.join(self.left)}"
