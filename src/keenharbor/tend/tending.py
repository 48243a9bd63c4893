"""Doing what is due: in order, once, also what was missed while the machine slept.

WORK/tended.json says of each duty which time of it was done last, and how that ended. A duty that failed is tried again
an hour later, not at each run; who is told of what changes is told once (see `keenharbor.tend.telling`)."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path

import msgspec

from keenharbor.base.durable import private_folder, write_durably
from keenharbor.base.progress import Progress
from keenharbor.base.runs import run_id
from keenharbor.base.text import stamp
from keenharbor.host.programs import Ran
from keenharbor.tend.duties import DUTIES, Duty

AGAIN = timedelta(hours=1)
"""So long a duty that failed is left alone."""
DAILY = timedelta(days=1)
IN_USE = "is in use by another run"

Runner = Callable[[Sequence[str], float], Ran]
"""Runs a command of this tool, for at most so many hours."""


class Did(msgspec.Struct, frozen=True):
    """How a duty ended: ``slot`` is the time for which it was done, as the wall clock has it, ``at`` when it ended by
    that clock; the exit ``code``; what it ``told`` in a line; since when it has been good or bad, and whether that was
    told to somebody."""

    slot: datetime
    at: datetime
    code: int
    told: str
    seconds: float
    since: datetime | None = None
    known: bool = False
    put_off: bool = False

    @property
    def good(self) -> bool:
        return self.code == 0

    @property
    def word(self) -> str:
        """The outcome: ``done``, ``caution`` or ``failed``."""
        return {0: "done", 1: "caution"}.get(self.code, "failed")


class Tended(msgspec.Struct):
    """What is known of the duties of a site; ``told_at`` is when somebody was told last, ``bad_told`` of which it was
    told that they are bad."""

    duties: dict[str, Did] = {}
    told_at: datetime | None = None
    bad_told: list[str] = []


@dataclass(frozen=True)
class Due:
    """A duty that is due: for which time of it, and how many were missed before that."""

    duty: Duty
    slot: datetime
    missed: int = 0


@dataclass
class Tending:
    """What one run did."""

    run: str
    began: datetime
    done: dict[str, Did] = field(default_factory=dict)
    left: list[str] = field(default_factory=list)

    @property
    def good(self) -> bool:
        return all(d.good or d.put_off for d in self.done.values()) and not self.left

    def as_json(self) -> dict[str, object]:
        return {
            "run": self.run, "began": self.began.isoformat(timespec="seconds"), "good": self.good, "left": self.left,
            "done": {
                n: {"code": d.code, "outcome": d.word, "told": d.told, "seconds": round(d.seconds, 1)}
                for n, d in self.done.items()
            },
        }  # fmt: skip


def read_tended(work: Path) -> Tended:
    """What is known; nothing where that cannot be read: then all counts as never done."""
    try:
        return msgspec.json.decode((work / "tended.json").read_bytes(), type=Tended)
    except (OSError, msgspec.MsgspecError):
        return Tended()


def write_tended(work: Path, tended: Tended) -> None:
    write_durably(private_folder(work) / "tended.json", msgspec.json.encode(tended))


def forget_others(tended: Tended, duties: Sequence[Duty]) -> None:
    """Forget what became of duties that the site has no more: nobody is to be told of them."""
    names = {d.name for d in duties}
    tended.duties = {n: d for n, d in tended.duties.items() if n in names}
    tended.bad_told = [n for n in tended.bad_told if n in names]


def due_now(duties: Sequence[Duty], tended: Tended, at: datetime, anyway: Collection[str] = ()) -> list[Due]:
    """What is due at ``at`` by the wall clock, in order. What was never done is due at once, as is what is to be done
    ``anyway``."""
    found: list[Due] = []
    coming = set[str]()
    for duty in duties:
        did = tended.duties.get(duty.name)
        if duty.name in anyway:
            found.append(Due(duty, (duty.schedule.last(at) if duty.schedule.cron else None) or at))
            coming.add(duty.name)
            continue
        if duty.schedule.after:
            first = tended.duties.get(duty.schedule.after)
            came = first is not None and first.code <= 1 and not first.put_off
            behind = came and (did is None or did.code > 1 or (first is not None and did.slot < first.at))
            waits = did is not None and did.code > 1 and at - did.at < AGAIN
            if duty.schedule.after in coming or (behind and not waits):
                found.append(Due(duty, at))
                coming.add(duty.name)
            continue
        slot = duty.schedule.last(at)
        if slot is None:
            continue
        if duty.schedule.offsets and did is not None and did.code == 1 and did.slot >= slot and at - did.at >= DAILY:
            slot = at  # what it found may have been mended, or be more by now
        if did is not None and did.code > 1:
            if at - did.at < AGAIN and did.slot >= slot:
                continue
        elif did is not None and did.slot >= slot:
            continue
        found.append(Due(duty, slot, _missed(duty, did, slot)))
        coming.add(duty.name)
    return found


def _missed(duty: Duty, did: Did | None, slot: datetime) -> int:
    """How many of its times went by since it was done (at most 99), the one that is done now not counted."""
    count = 0
    at = did.slot if did is not None else slot
    while count < 99 and (coming := duty.schedule.next(at)) is not None and coming < slot:
        at, count = coming, count + 1
    return count


def tend(
    work: Path, duties: Sequence[Duty], run: Runner, progress: Progress, clock: Callable[[], datetime], minutes: float,
    anyway: Collection[str] = (),
) -> tuple[Tending, Tended]:  # fmt: skip
    """Do what is due, and what is to be done ``anyway``. Behind so many minutes no further duty is begun: it stays
    due."""
    tended = read_tended(work)
    began = clock()
    result = Tending(run_id(), began)
    due = due_now(duties, tended, began, anyway)
    for number, item in enumerate(due):
        if clock() - began > timedelta(minutes=minutes):
            result.left = [d.duty.name for d in due[number:]]
            progress.note(f"the time is up; left for the next run: {', '.join(result.left)}")
            break
        if item.duty.schedule.after and item.duty.name not in anyway:
            first = tended.duties.get(item.duty.schedule.after)
            if first is None or first.code > 1 or first.put_off:
                continue  # what it comes after did not come about
        missed = f", {item.missed} times of it were missed" if item.missed else ""
        progress.stage(f"{item.duty.name}: {DUTIES[item.duty.name]}{missed}")
        if item.duty.schedule.after:
            item = Due(item.duty, clock())
        did = _do(item, run, tended.duties.get(item.duty.name), clock)
        result.done[item.duty.name] = tended.duties[item.duty.name] = did
        write_tended(work, tended)
    return result, tended


def _do(item: Due, run: Runner, before: Did | None, clock: Callable[[], datetime]) -> Did:
    """Carry out a duty's commands, each whatever became of the one before."""
    code, seconds = 0, 0.0
    told: list[str] = []
    for command in item.duty.commands:
        try:
            ran = run(command, item.duty.hours)
        except OSError as error:
            ran = Ran("", 3, f"✗ it could not be started: {error.strerror}", 0.0)
        this = 3 if ran.code is None else ran.code
        line = f"stopped after {item.duty.hours:.0f} h" if ran.code is None else headline_of(ran.output)
        if this >= code:
            if this > code:
                told.clear()
            told.append(line)
        code, seconds = max(code, this), seconds + ran.seconds
    put_off = code > 1 and any(IN_USE in t for t in told)
    at = clock()
    changed = before is None or (before.code == 0) != (code == 0)
    since = at if changed or before is None else before.since
    text = "; ".join(dict.fromkeys(t for t in told if t))
    # What is wrong now may be another thing than what people were told of. Counts and ages alone are none.
    same = before is not None and _bare(before.told) == _bare(text) and not item.duty.schedule.offsets
    known = not changed and before is not None and before.known and (same or code == 0)
    return Did(item.slot, at, code, text, seconds, since, known, put_off)


def _bare(told: str) -> str:
    """What was told without its numbers."""
    return re.sub(r"\d[\d.,:-]*(?:\s?[^\W\d]+)?", "#", told)


_MARKED = re.compile(r"^\s*[✓✗!·]\s+(?P<text>.+)$")
_LOUD = re.compile(r"^(?P<mark>[✓✗!])\s+(?P<word>[A-Z][A-Z ]+[A-Z])\s{2,}(?P<text>.+)$")


def headline_of(output: str) -> str:
    """The line in which a command says how it ended: its headline, else its error, else the last that it said."""
    lines = [w.rstrip() for w in output.splitlines() if w.strip() and not w.lstrip().startswith("next:")]
    loud = [found for line in lines if (found := _LOUD.match(line)) is not None]
    for mark in "✗!✓":
        told = [
            m["text"].strip() if mark == "✓" else f"{m['word'].lower()}: {m['text'].strip()}"
            for m in loud
            if m["mark"] == mark
        ]
        if told:
            return "; ".join(told[:2]) + (f" and {len(told) - 2} more" if told[2:] else "")
    for line in lines:
        if line.startswith("✗ ") and (found := _MARKED.match(line)) is not None:
            return found["text"].strip()
    return lines[-1].strip()[:200] if lines else ""


def next_of(duty: Duty, at: datetime) -> datetime | None:
    """When a duty comes next by the clock; None where something else brings it about, or nothing does any more."""
    return None if duty.schedule.after else duty.schedule.next(at)


def status_of(site: str, duties: Sequence[Duty], tended: Tended, at: datetime) -> dict[str, object]:
    """The state of a site's duties for a monitoring program: ``verdict``, and when each ended and comes next."""
    late = [d.duty.name for d in due_now(duties, tended, at)]
    found: dict[str, object] = {}
    for duty in duties:
        did = tended.duties.get(duty.name)
        found[duty.name] = {
            "outcome": did.word if did is not None else None, "told": did.told if did is not None else "",
            "at": did.at.isoformat(timespec="seconds") if did is not None else None,
            "since": did.since.isoformat(timespec="seconds") if did is not None and did.since else None,
            "next": coming.isoformat(timespec="minutes") if (coming := next_of(duty, at)) is not None else None,
            "due": duty.name in late,
        }  # fmt: skip
    words = [d.word for n, d in tended.duties.items() if n in {u.name for u in duties}]
    verdict = "failed" if "failed" in words else "caution" if "caution" in words else "good"
    return {"site": site, "at": stamp(at.astimezone()), "run": run_id(), "verdict": verdict, "duties": found}
