"""Looks at live around a cutover: at every page while visitors are served, before and behind; and behind the flag, just
before and after the steps, at some pages that stand for all, so that visitors wait for the steps and not for looks.

What the looks behind the flag show that the trial had not shown ends the cutover: everything is put back. What only the
last one shows is told: visitors have written since, and theirs must not be lost."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from typing import Protocol

from keenharbor.base.errors import DamagedError, KeenHarborError, UsageError
from keenharbor.base.progress import Progress, Silent
from keenharbor.base.text import shorten
from keenharbor.compare import (
    Finding,
    Look,
    Noise,
    Observation,
    VisitError,
    Visitor,
    Weight,
    compare_pages,
    group,
    learn_noise,
    take_look,
)
from keenharbor.compare.look import Far
from keenharbor.live.beside import Beside
from keenharbor.live.flag import pass_header
from keenharbor.site.view import SiteView
from keenharbor.trial.record import read_record
from keenharbor.trial.sentinels import stands_for_all
from keenharbor.trial.steps import StepBase

SAMPLES = 2


class Unlike(KeenHarborError):
    """Something is not as it was in the trial."""


def _told(finding: Finding) -> str:
    pages = ", ".join(finding.pages[:3]) + (f" and {len(finding.pages) - 3} more" if len(finding.pages) > 3 else "")
    values = [shorten(v, 120) for v in (finding.before, finding.after)] if finding.before or finding.after else []
    told = [finding.text, f"on {pages}" if pages else "", f"was '{values[0]}', is '{values[1]}'" if values else ""]
    return f"{finding.weight.value}: " + "; ".join(t for t in told if t)


def must_answer(site: SiteView) -> None:
    """Raises `KeenHarborError` before anything is begun when live cannot be looked at."""
    try:
        with Visitor(site.address) as visitor:
            visitor.get(site.model.look.starts[0])
    except VisitError as error:
        raise _no_answer(site, error) from error


def _no_answer(site: SiteView, reason: object) -> KeenHarborError:
    advice = "see to it that the site is up, then type the command again"
    return KeenHarborError(f"live does not answer: {reason}", where=site.address, advice=advice)


class Rehearsed(Protocol):
    """What has shown before how live will differ: a trial, or a clone in which a person worked."""

    @property
    def id(self) -> str: ...

    def differs(self, live: Look, noise: Noise) -> Collection[tuple[str, str, str]]:
        """Identities of the differences that are known; ``live`` is how it looks before."""


@dataclass
class AsInClone:
    """A clone that is brought live: live is to differ as the clone does (``look``), and the rows as ``beside``
    says."""

    id: str
    beside: Beside
    look: Look

    def differs(self, live: Look, noise: Noise) -> Collection[tuple[str, str, str]]:
        return {o.identity for o in (*compare_pages(live, self.look, noise), *self.beside.rows)}


@dataclass
class LiveLooks:
    """Looks at ``site`` in the course of one cutover of what was rehearsed in ``trial``."""

    site: SiteView
    trial: Rehearsed
    whole: Look = field(init=False)
    behind: Look = field(init=False)
    noise: Noise = field(init=False)
    chosen: tuple[str, ...] = ()
    arrived: Look | None = None
    """How live looks at the end."""
    progress: Progress = field(default_factory=Silent)

    def before(self, steps: Sequence[StepBase]) -> None:
        """Every page, twice, while visitors are served. Raises `KeenHarborError` where none loads."""
        first = self._look(learn=True)
        if not any(p.loads for p in first.pages.values()):
            page = next(iter(first.pages.values()))
            raise _no_answer(self.site, page.error or f"status {page.status}")
        self.whole = self._look(tuple(first.pages), learn=True)
        self.noise = learn_noise([first, self.whole]) | _noise_of(self.site, self.trial)
        self.chosen = tuple(stands_for_all(self.whole, self.site.model.look.starts, steps))

    def behind_the_flag(self, token: str) -> None:
        """The chosen pages as they are now: visitors may have written since, and the flag may change pages itself."""
        self.behind = self._look_behind(token, learn=True)

    def again(self, token: str, versions: dict[str, str], rows: Sequence[Observation]) -> list[Finding]:
        """The chosen pages after the steps; the notes. Raises `Unlike` for what the trial has not shown."""
        self.arrived = after = self._look_behind(token)
        seen = [*compare_pages(self.behind, after, self.noise, versions), *rows]
        if findings := self._unknown(seen):
            told = findings[0].text if len(findings) == 1 else f"in {len(findings)} ways"
            raise Unlike(f"live differs from the trial: {told}", details=map(_told, findings))
        return group((o, None, None) for o in seen if o.weight is Weight.NOTE)

    def afterwards(self, versions: dict[str, str]) -> list[Finding]:
        """Every page, with visitors let in again: what the trial has not shown. Nothing where all were looked at
        behind the flag."""
        if self.at_all:
            return []
        self.arrived = after = self._look(tuple(self.whole.pages))
        seen = compare_pages(self.whole, after, self.noise, versions)
        return self._unknown([o for o in seen if o.page not in self.chosen])

    @property
    def at_all(self) -> bool:
        """Whether the looks behind the flag are at every page, and at what else these lead to."""
        return len(self.chosen) >= len(self.whole.pages)

    def _look_behind(self, token: str, *, learn: bool = False) -> Look:
        if self.at_all:
            return self._look(tuple(self.whole.pages), token=token, learn=learn)
        return self._look(only=self.chosen, token=token, learn=learn)

    def _unknown(self, seen: Sequence[Observation]) -> list[Finding]:
        known = set(self.trial.differs(self.whole, self.noise))
        return group((o, None, None) for o in seen if o.identity not in known and o.weight is not Weight.NOTE)

    def _look(
        self, also: tuple[str, ...] = (), *, only: Sequence[str] = (), token: str | None = None, learn: bool = False
    ) -> Look:  # fmt: skip
        site = self.site
        part, checks = site.model.look, [c for c in site.model.check if not c.writes]
        headers = pass_header(site, token) if token is not None else {}
        with Visitor(site.address, headers) as visitor:
            look = take_look(
                visitor, part, also=also, samples=SAMPLES, checks=checks, learn=learn,
                far=Far(SAMPLES if learn else 1), progress=self.progress,
                only=only or None,
            )  # fmt: skip
        look.cut = look.cut or bool(only)
        return look


def _noise_of(site: SiteView, trial: Rehearsed) -> Noise:
    """What differed by itself on the unchanged clone: a quick look at live may not have seen it vary."""
    try:
        return read_record(site.work / "trials" / trial.id).before.noise
    except (UsageError, DamagedError):
        return Noise()  # of an older trial it is not kept
