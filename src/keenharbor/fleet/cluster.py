"""The work on many sites beyond one machine: on workers of an existing engine (dask.distributed, the extra
``cluster``), one near each group of sites.

What is done at a site is the command that a person would type there, in a process of its own. A worker that dies is
noticed: what it had under way goes to another worker of the group, and where there is none the site is told as failed.
A command that was cut off is settled by the tool itself, as after any kill."""

from __future__ import annotations

import importlib
import time
from collections.abc import Callable
from pathlib import Path
from typing import Protocol
from uuid import uuid4

from keenharbor.base.errors import UsageError
from keenharbor.fleet.sites import FleetFile, Member, members_of
from keenharbor.fleet.working import COMMANDS, Outcome, Runner, Watcher, at_site, worst_first

GIVEN_UP_AFTER = 30.0
"""So many seconds may none of a group's workers answer."""
_ASK_EVERY = 2.0
_ANY = ("",)


class Task(Protocol):
    """What an engine has been given to do."""

    @property
    def status(self) -> str:
        """``pending``, ``finished``, ``error``, ``cancelled`` or ``lost``."""

    def done(self) -> bool: ...

    def result(self) -> object: ...

    def exception(self) -> BaseException | None: ...

    def cancel(self) -> None: ...


class Client(Protocol):
    """What speaks to an engine's scheduler."""

    def submit(self, work: Callable[..., object], *given: object, **how: object) -> Task: ...

    def scheduler_info(self, n_workers: int) -> dict[str, dict[str, dict[str, object]]]: ...

    def close(self) -> None: ...


class Cluster:
    """A running engine, by the address of its scheduler. Raises `UsageError` where it does not answer."""

    def __init__(self, address: str, given_up_after: float = GIVEN_UP_AFTER) -> None:
        try:
            self._engine = importlib.import_module("distributed")
        except ImportError:
            raise UsageError(
                "the extra 'cluster' is not installed", advice="pip install 'keen-harbor[cluster]', here and there"
            ) from None
        self._given_up_after = given_up_after
        try:
            self._client: Client = self._engine.Client(address, timeout=10)
        except (OSError, ValueError, TimeoutError) as error:
            raise UsageError(f"no engine answers at {address}: {error}") from None

    def __enter__(self) -> Cluster:
        return self

    def __exit__(self, *_: object) -> None:
        self._client.close()

    def members(self, fleet: FleetFile, base: Path, groups: tuple[str, ...]) -> dict[tuple[str, ...], list[Member]]:
        """The sites by the workers that they are near to: patterns of a group that names workers are resolved there.
        Raises `UsageError`."""
        found: dict[tuple[str, ...], list[Member]] = {}
        for group in fleet.group:
            if groups and group.name not in groups:
                continue
            near = tuple(group.workers) or _ANY
            if near is _ANY:
                there = members_of(fleet, base, (group.name,))
            else:
                self._must_be_there(near, group.name)
                there = self._members_there(near, fleet, base, group.name)
            known = {m.site_file for m in found.get(near, ())}
            found.setdefault(near, []).extend(m for m in there if m.site_file not in known)
        return found

    def for_all(
        self, name: str, members: dict[tuple[str, ...], list[Member]], run: Runner, watcher: Watcher, seconds: float
    ) -> list[Outcome]:
        """Run a command for all sites, each on a worker near it. Worst first, then by name."""
        waiting: dict[Task, tuple[Member, tuple[str, ...]]] = {}
        for near, sites in members.items():
            for member in sites:
                task = self._submit(near, at_site, name, COMMANDS[name], member, run, seconds)
                waiting[task] = (member, near)
                watcher.began(member)
        total, outcomes = len(waiting), list[Outcome]()
        away: dict[tuple[str, ...], float] = {}
        while waiting:
            self._wait(list(waiting))
            ended = [t for t in waiting if t.done()]
            for task in ended:
                member, _ = waiting.pop(task)
                outcomes.append(_outcome_of(task, member))
                watcher.ended(outcomes[-1], len(outcomes), total)
            for task in [] if ended else self._forsaken(waiting, away):
                member, near = waiting.pop(task)
                task.cancel()
                outcomes.append(_lost(member, f"none of its workers answers: {', '.join(near)}"))
                watcher.ended(outcomes[-1], len(outcomes), total)
        return worst_first(outcomes)

    def _members_there(self, near: tuple[str, ...], fleet: FleetFile, base: Path, group: str) -> list[Member]:
        found = self._submit(near, members_of, fleet, base, (group,)).result()
        assert isinstance(found, list)
        return found

    def _submit(self, near: tuple[str, ...], work: Callable[..., object], *given: object) -> Task:
        where: dict[str, object] = {} if near == _ANY else {"workers": list(near), "allow_other_workers": False}
        return self._client.submit(work, *given, key=f"keenharbor-{uuid4()}", pure=False, **where)

    def _wait(self, tasks: list[Task]) -> None:
        try:
            self._engine.wait(tasks, timeout=_ASK_EVERY, return_when="FIRST_COMPLETED")
        except TimeoutError:
            return

    def _names(self) -> set[str]:
        return {str(w["name"]) for w in self._client.scheduler_info(n_workers=-1)["workers"].values()}

    def _must_be_there(self, near: tuple[str, ...], group: str) -> None:
        if not self._names() & set(near):
            raise UsageError(f"none of the workers of the group '{group}' is there: {', '.join(near)}")

    def _forsaken(
        self, waiting: dict[Task, tuple[Member, tuple[str, ...]]], away: dict[tuple[str, ...], float]
    ) -> list[Task]:
        """Tasks whose workers have all been away for too long."""
        names = self._names()
        for near in {n for _, n in waiting.values()}:
            there = bool(names if near == _ANY else names & set(near))
            if there:
                away.pop(near, None)
            else:
                away.setdefault(near, time.monotonic())
        long = {n for n, since in away.items() if time.monotonic() - since > self._given_up_after}
        return [task for task, (_, near) in waiting.items() if near in long]


def _outcome_of(task: Task, member: Member) -> Outcome:
    if task.status == "finished":
        done = task.result()
        assert isinstance(done, Outcome)
        return done
    problem = task.exception() if task.status == "error" else None
    return _lost(member, f"its worker failed: {problem}" if problem is not None else "it was taken off the engine")


def _lost(member: Member, told: str) -> Outcome:
    return Outcome(member.name, str(member.site_file), member.groups, "failed", told, 0.0)
