"""The table of a fleet at work: which sites are under way and for how long, how many are through, what failed."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Iterator, Sequence

from rich.console import Console, Group
from rich.live import Live
from rich.table import Table
from rich.text import Text

from keenharbor.base.text import duration, plural
from keenharbor.cli import show
from keenharbor.cli.base import Session
from keenharbor.fleet.sites import Member
from keenharbor.fleet.working import Outcome, Telling, Watcher

_SHOWN = 12
_TIMES_A_SECOND = 4


class LiveTable(Watcher):
    """Shown as long as the work lasts, in a terminal; what is left of it is nothing: the result comes behind it."""

    def __init__(self, what: str, count: int) -> None:
        self._what, self._count = what, count
        self._lock = threading.Lock()
        self._under_way: dict[str, tuple[str, float]] = {}
        self._ended: list[Outcome] = []

    def began(self, member: Member) -> None:
        with self._lock:
            self._under_way[str(member.site_file)] = (member.name, time.monotonic())

    def ended(self, outcome: Outcome, done: int, of: int) -> None:
        with self._lock:
            self._under_way.pop(outcome.site_file, None)
            self._ended.append(outcome)

    def __rich__(self) -> Group:
        """The table as it is now."""
        with self._lock:
            under_way, ended = list(self._under_way.values()), list(self._ended)
        wrong = [o for o in ended if o.verdict != "good"]
        table = Table.grid(padding=(0, 2))
        for name, began in under_way[:_SHOWN]:
            table.add_row(show.mark("note", name), duration(time.monotonic() - began), Text("under way", style="dim"))
        for outcome in wrong[-_SHOWN:]:
            table.add_row(show.mark(outcome.verdict, outcome.site), duration(outcome.seconds), outcome.told[:100])
        good = len(ended) - len(wrong)
        left = self._count - len(ended) - len(under_way)
        return Group(table, Text(
            f"{self._what}: {len(ended)} of {plural(self._count, 'site')}, {good} good, {len(wrong)} to be looked at, "
            f"{left} to come", style="bold",
        ))  # fmt: skip


@contextlib.contextmanager
def watching(session: Session, what: str, members: Sequence[Member]) -> Iterator[Watcher]:
    """Show how the work on many sites goes: a table in a terminal, lines elsewhere."""
    screen = Console(stderr=True)
    if session.as_json or not screen.is_terminal:
        session.progress.stage(f"{what}: {plural(len(members), 'site')}")
        yield Telling(session.progress)
        return
    table = LiveTable(what, len(members))
    with Live(table, console=screen, refresh_per_second=_TIMES_A_SECOND, transient=True):
        yield table
