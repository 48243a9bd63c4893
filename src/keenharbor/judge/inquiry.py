"""What is asked of a site before an upgrade, and the list of all that is looked at. A further check is one function and
a row."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

from keenharbor.host import Entry
from keenharbor.judge.contents import contents_checks, database_checks
from keenharbor.judge.files import (
    dropped_checks,
    edit_checks,
    snapshot_check,
    space_check,
    standing_checks,
    stray_checks,
    syntax_checks,
)
from keenharbor.judge.surroundings import runtime_checks, second_place_check
from keenharbor.site.checks import Check, Decision, Verdict
from keenharbor.site.feed import Feed, Release
from keenharbor.site.survey import NewestSnapshot
from keenharbor.site.view import Component, SiteView


@dataclass(frozen=True)
class Inquiry:
    """One question: can ``site`` go to ``release`` of its core on ``runtime``, with what was decided of each extension?
    ``database`` is the engine or version of it to go to, if another."""

    site: SiteView
    feed: Feed
    release: Release
    core: str
    core_now: str
    runtime: str
    components: Mapping[str, Component]
    decisions: Sequence[Decision]
    snapshot: NewestSnapshot | None
    database: str | None

    @property
    def core_moves(self) -> bool:
        return self.core != self.core_now

    @property
    def title(self) -> str:
        """The target, for people."""
        platform = self.site.model.platform
        return f"{platform.title or platform.name} {self.core}"

    @cached_property
    def entries(self) -> Mapping[str, Entry]:
        """The site's tree, walked once for all that look at it."""
        return self.site.scan().entries


def _edits(asked: Inquiry) -> Iterable[Check]:
    return edit_checks(asked.site, asked.feed, list(asked.decisions), asked.core_moves, asked.core)


def _dropped(asked: Inquiry) -> Iterable[Check]:
    return dropped_checks(asked.site, asked.feed, asked.decisions, asked.core_now, asked.core)


def _database(asked: Inquiry) -> Iterable[Check]:
    return database_checks(asked.site, asked.release, asked.title, asked.database)


def _contents(asked: Inquiry) -> Iterable[Check]:
    return contents_checks(asked.site)


def _runtime(asked: Inquiry) -> Iterable[Check]:
    return runtime_checks(asked.site, asked.release, asked.runtime, asked.title)


def _notes(asked: Inquiry) -> Iterable[Check]:
    if asked.release.notes and asked.core_moves:
        reason = f"{asked.core}: {asked.release.notes}"
        yield Check("notes of the core", Verdict.CAUTION, reason, "do what they ask for, or plan it")


def _standing(asked: Inquiry) -> Iterable[Check]:
    return standing_checks(asked.site, asked.entries)


def _syntax(asked: Inquiry) -> Iterable[Check]:
    return syntax_checks(asked.site, asked.entries, asked.runtime, asked.components)


def _strays(asked: Inquiry) -> Iterable[Check]:
    return stray_checks(
        asked.site, asked.feed, asked.entries, asked.decisions, asked.components, asked.core_moves, asked.core
    )


def _space(asked: Inquiry) -> Iterable[Check]:
    yield space_check(asked.site, asked.entries)


def _snapshot(asked: Inquiry) -> Iterable[Check]:
    yield snapshot_check(asked.snapshot)


def _second_place(asked: Inquiry) -> Iterable[Check]:
    return second_place_check(asked.site, asked.snapshot)


CHECKS: tuple[Callable[[Inquiry], Iterable[Check]], ...] = (
    _edits, _dropped, _database, _contents, _runtime, _notes, _standing, _syntax, _strays, _space, _snapshot,
    _second_place,
)  # fmt: skip
"""In the order in which they are told, where they weigh the same."""
