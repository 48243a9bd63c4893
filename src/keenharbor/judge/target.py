"""Judging a site for a target, with what was decided of its extensions before."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from keenharbor.base.errors import UsageError
from keenharbor.judge.choices import Choice
from keenharbor.judge.readiness import Readiness, judge, latest_core
from keenharbor.site.decisions import Remembered, decisions_in, remember, remembered
from keenharbor.site.feed import Feed, is_version
from keenharbor.site.survey import NewestSnapshot
from keenharbor.site.view import SiteView


@dataclass(frozen=True)
class Target:
    """Where to go: a ``core`` or the ``latest`` one, a ``runtime``, a ``database``; what becomes of extensions
    (``NAME=DECISION``), now and in a file of ``decisions``; of which names to ``forget`` what was decided before;
    which further distributions are ``also`` to be there (``NAME=VERSION``)."""

    core: str | None
    runtime: str | None
    latest: bool
    extensions: tuple[str, ...]
    decisions: Path | None
    forget: tuple[str, ...]
    database: str | None = None
    also: tuple[str, ...] = ()


@dataclass(frozen=True)
class Judged:
    """The judgement, and the earlier decisions that stand in it."""

    readiness: Readiness
    standing: dict[str, Remembered]


def decisions_of(words: Iterable[str]) -> dict[str, str]:
    """``NAME=DECISION`` words as a table."""
    chosen = {}
    for word in words:
        name, sign, decision = word.partition("=")
        if not sign or not decision:
            raise UsageError(
                f"--extension {word}: NAME=DECISION is wanted", advice="such as --extension gallery=remove"
            )
        chosen[name] = decision
    return chosen


def versions_of(words: Iterable[str]) -> dict[str, str]:
    """``NAME=VERSION`` words as a table."""
    found = {}
    for word in words:
        name, sign, version = word.partition("=")
        if not sign or not name or not is_version(version):
            raise UsageError(f"--also {word}: NAME=VERSION is wanted", advice="such as --also framework=4.2.1")
        found[name] = version
    return found


def judge_for(site: SiteView, feed: Feed, target: Target, snapshot: NewestSnapshot | None) -> Judged:
    """Judge, with what was decided before, in the file, and now (the later wins). What is decided now or in the file is
    remembered once it has been judged. Raises `UsageError` as `judge` does."""
    if target.latest and target.core is not None:
        raise UsageError("--latest and --core: one of them is wanted")
    said = decisions_in(target.decisions) if target.decisions is not None else {}
    said |= decisions_of(target.extensions)
    there = {c.name for c in site.components()}
    before = {n: d for n, d in remembered(site.work).items() if n in there and n not in target.forget}
    chosen = {n: Choice.of(d) for n, d in ({n: d.decision for n, d in before.items()} | said).items()}
    found = latest_core(site, feed, target.runtime, chosen) if target.latest else None
    wanted = found.core if found is not None else target.core
    if wanted is not None and is_version(wanted):
        wanted = feed.newest_like(site.model.core.package, wanted)
    also = versions_of(target.also)
    readiness = judge(site, feed, wanted, target.runtime, chosen, snapshot, found, target.database, also)
    remember(site.work, said, target.forget)
    return Judged(readiness, {n: d for n, d in sorted(before.items()) if n not in said})
