"""One command for all sites of a fleet, processes side by side, and one result, worst first.

Each site is worked on by the command that a person would type, in a process of its own: a site that is broken, hangs
or takes all memory harms none of the others."""

from __future__ import annotations

import json
import os
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor, as_completed
from dataclasses import dataclass

from keenharbor.base.progress import Progress
from keenharbor.base.text import plural
from keenharbor.fleet.sites import Member
from keenharbor.host.programs import Ran

Said = Mapping[str, object]
Runner = Callable[[Sequence[str], float], Ran]
"""Runs a command of this tool, for at most so many seconds."""

COMMANDS: dict[str, tuple[str, ...]] = {
    "survey": ("survey",), "ready": ("ready", "--latest"), "tend": ("tend",), "snapshot": ("snapshot", "take"),
    "send": ("place", "send"), "card": ("fleet", "card"),
}  # fmt: skip
_WORST = {"failed": 0, "caution": 1, "good": 2}
_SHOWN = 300


@dataclass(frozen=True)
class Outcome:
    """What came of a command at a site: ``good``, ``caution`` (found something) or ``failed``; a line for people; the
    whole result as JSON, where there is one."""

    site: str
    site_file: str
    groups: tuple[str, ...]
    verdict: str
    told: str
    seconds: float
    result: object = None

    def as_json(self) -> dict[str, object]:
        return {
            "site": self.site, "site_file": self.site_file, "groups": list(self.groups), "verdict": self.verdict,
            "told": self.told, "seconds": round(self.seconds, 2), "result": self.result,
        }  # fmt: skip


class Watcher:
    """Is told of each site when work on it begins and ends. This one does nothing with it."""

    def began(self, member: Member) -> None:
        """Work on a site begins."""

    def ended(self, outcome: Outcome, done: int, of: int) -> None:
        """Work on a site has come to an end: so many of so many."""


class Telling(Watcher):
    """Tells of what fails as it comes, and how far the work is."""

    def __init__(self, progress: Progress) -> None:
        self._progress = progress

    def ended(self, outcome: Outcome, done: int, of: int) -> None:
        if outcome.verdict == "failed":
            self._progress.note(f"{outcome.site}: {outcome.told}")
        self._progress.advance(done, of, "site")


Work = Callable[[Member], Outcome]
"""All that is done at a site. Raises nothing."""


def for_all(
    name: str, members: Sequence[Member], run: Runner, watcher: Watcher, *, at_once: int, seconds: float
) -> list[Outcome]:
    """Run a command for all sites, at most so many at once. Worst first, then by name."""
    return side_by_side(members, lambda m: at_site(name, COMMANDS[name], m, run, seconds), watcher, at_once=at_once)


def side_by_side(
    members: Sequence[Member], work: Work, watcher: Watcher, *, at_once: int,
    stop: Callable[[Outcome], bool] = lambda _: False,
) -> list[Outcome]:  # fmt: skip
    """Do the work at all sites, at most so many at once. Where ``stop`` says so of an outcome, no further site is
    begun: it is not among what is returned. Worst first, then by name."""
    outcomes: list[Outcome] = []
    halted = threading.Event()

    def one(member: Member) -> Outcome | None:
        if halted.is_set():
            return None
        watcher.began(member)
        done = work(member)
        if stop(done):
            halted.set()
        return done

    with ThreadPoolExecutor(at_once or os.cpu_count() or 1, "fleet") as pool:
        waiting = [pool.submit(one, member) for member in members]
        try:
            for future in as_completed(waiting):
                done = future.result()
                if done is not None:
                    outcomes.append(done)
                    watcher.ended(done, len(outcomes), len(members))
        except BaseException:
            halted.set()  # what is under way comes to its end: half a cutover helps nobody
            raise
    return worst_first(outcomes)


def worst_first(outcomes: Sequence[Outcome]) -> list[Outcome]:
    return sorted(outcomes, key=lambda o: (_WORST[o.verdict], o.site, o.site_file))


def at_site(name: str, command: Sequence[str], member: Member, run: Runner, seconds: float) -> Outcome:
    """Run a command for a site; ``name`` is how its result is told. Raises nothing."""
    began = time.monotonic()

    def outcome(verdict: str, told: str, result: object = None) -> Outcome:
        taken = time.monotonic() - began
        return Outcome(member.name, str(member.site_file), member.groups, verdict, told[:_SHOWN], taken, result)

    if member.wrong:
        return outcome("failed", member.wrong)
    try:
        ran = run((*command, "--json", "--site", str(member.site_file)), seconds)
    except OSError as problem:
        return outcome("failed", f"it could not be started: {problem.strerror}")
    if ran.code is None:
        return outcome("failed", f"stopped after {seconds / 60:.0f} min")
    result = _result_in(ran.output)
    error = result.get("error") if isinstance(result, dict) else None
    if isinstance(error, dict) or ran.code > 1:
        told = str(error.get("what")) if isinstance(error, dict) else f"it ended with {ran.code}"
        return outcome("failed", told, result)
    return outcome("good" if ran.code == 0 else "caution", told_of(name, result), result)


def _result_in(output: str) -> object:
    """The JSON document in what a command printed, before which progress may stand."""
    for at in (i for i, c in enumerate(output) if c in "{[" and (i == 0 or output[i - 1] == "\n")):
        try:
            return json.loads(output[at:])
        except ValueError:
            continue
    return None


def told_of(name: str, result: object) -> str:
    """A result in a line."""
    if name == "survey" and isinstance(result, dict):
        installed = _dicts(result.get("installations"))
        pending = sum(bool(i.get("update_pending")) for i in installed)
        parts = [f"core {result.get('core')}", str(result.get("runtime"))]
        if result.get("core_newest") and result["core_newest"] != result.get("core"):
            parts.append(f"core {result['core_newest']} is out")
        parts += [plural(pending, "update") + " pending"] if pending else []
        for key, one, many in (("edits", "local edit", None), ("strays", "stray", None)):
            found = result.get(key)
            parts += [plural(len(found), one, many)] if isinstance(found, list) and found else []
        parts += [] if isinstance(result.get("snapshot"), dict) else ["no snapshot"]
        return ", ".join(parts)
    if name == "ready" and isinstance(result, dict):
        worst = [
            str(c.get("subject")) for c in _dicts(result.get("checks")) if c.get("verdict") == result.get("verdict")
        ]
        return f"{result.get('verdict')}: {', '.join(worst[:3])}" + (f" and {len(worst) - 3} more" if worst[3:] else "")
    if name == "tend" and isinstance(result, dict):
        done = result.get("done")
        if not isinstance(done, dict) or not done:
            return "nothing is due"
        bad = [f"{n}: {d.get('told')}" for n, d in done.items() if isinstance(d, dict) and d.get("outcome") != "done"]
        return "; ".join(bad) or f"{plural(len(done), 'duty', 'duties')} done"
    if name == "trial" and isinstance(result, dict):
        return _first(str(result.get("verdict")), _dicts(result.get("findings")))
    if name == "cutover" and isinstance(result, dict):
        seconds = result.get("maintenance_seconds")
        spent = f", {seconds:.1f} s of maintenance" if isinstance(seconds, float) else ""
        return _first(f"core {result.get('core')}{spent}", _dicts(result.get("late")))
    if name == "watch" and isinstance(result, dict):
        return _first("", _dicts(result.get("findings"))).removeprefix(": ") or "nothing went wrong"
    if name == "snapshot" and isinstance(result, dict):
        return str(result.get("id", ""))
    if name == "send" and isinstance(result, list):
        sent = [(r.get("place"), r.get("snapshots")) for r in _dicts(result)]
        return ", ".join(f"{name}: {len(some)} sent" for name, some in sent if isinstance(some, list))
    return ""


def _first(head: str, findings: list[Said]) -> str:
    """The first that was found behind a word, and how many more there are."""
    told = [f for f in findings if f.get("weight") != "note"]
    more = f" and {len(told) - 1} more" if told[1:] else ""
    return f"{head}: {told[0].get('text')}{more}" if told else head


def _dicts(value: object) -> list[Said]:
    """The tables in a list; what is no list has none."""
    return [v for v in value if isinstance(v, dict)] if isinstance(value, list) else []
