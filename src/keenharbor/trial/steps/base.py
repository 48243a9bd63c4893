"""What every kind of step has, and what it is carried out on: a clone, or (by the cutover) live. The same code for
both."""

from __future__ import annotations

import abc
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Annotated, ClassVar

from pydantic import Field

from keenharbor.base.errors import KeenHarborError
from keenharbor.database import Carried
from keenharbor.host.programs import Ran
from keenharbor.site.checks import Check, Verdict
from keenharbor.site.feed import Feed
from keenharbor.site.part import Part, Text
from keenharbor.site.view import SiteView
from keenharbor.site.writable import Writable

Name = Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]*$", max_length=80)]


class StepFailed(Exception):
    """A step did not do what it should; ``output`` is what its program said."""

    def __init__(self, problem: str, output: str = "") -> None:
        super().__init__(problem)
        self.problem = problem
        self.output = output


@dataclass(frozen=True)
class Workplace:
    """A site that may be written to: a clone, or live during a cutover.

    ``address`` is where it answers now; ``headers`` go with requests to it; ``keep_open`` are descriptors that programs
    inherit, so that a lock outlives a killed run as long as its programs do. ``restart`` lets the host take up changed
    files; ``check`` makes scripted visits and tells what is wrong; ``ask`` shows a person what to do and returns when
    they are done (None: nobody is there); ``install`` changes the site's virtual environment, by what it is to want and
    to be rid of and a time limit (None: it must not be). Commands are started with ``prefix``, and see the
    ``variables``."""

    site: Writable
    feed: Feed
    address: str
    headers: Mapping[str, str] = field(default_factory=dict)
    keep_open: Sequence[int] = ()
    restart: Callable[[], None] = lambda: None
    check: Callable[[Sequence[str]], str | None] = lambda only: None
    ask: Callable[[str], None] | None = None
    install: Callable[[Sequence[str], Sequence[str], float], Ran] | None = None
    prefix: Sequence[str] = ()
    variables: Mapping[str, str] | None = None

    def run(self, command: Sequence[str], time_limit: float, **places: str) -> Ran:
        """Run a command of the site file or plan in the site's folder with the runtime that the site selects."""
        return self.site.run(
            command, time_limit, prefix=self.prefix, variables=self.variables, keep_open=self.keep_open, **places
        )


@dataclass
class Placing:
    """What a package step found at its first try and means to write: a further try goes by this, not by what a try that
    broke off has left. ``settings`` are the cells as they were before; ``done`` says that every file is in place."""

    content: dict[str, bytes]
    remove: tuple[str, ...]
    settings: dict[str, str]
    done: bool = False


@dataclass
class Outcome:
    """How a step went: ``problem`` is None when it is done; what it printed; how many tries it took; which paths it
    is known to touch; the versions it moved on."""

    problem: str | None = None
    output: str = ""
    tries: int = 1
    seconds: float = 0.0
    touches: tuple[str, ...] = ()
    versions: dict[str, str] = field(default_factory=dict)
    wiped: tuple[tuple[str, str], ...] = ()
    left_over: tuple[str, ...] = ()
    settings: tuple[str, ...] = ()
    placing: Placing | None = None


@dataclass
class PlanState:
    """What a plan is checked against: the site, and the versions that the steps so far lead to; ``asks`` is what each
    extension wants of core and runtime."""

    site: SiteView
    feed: Feed | None
    core: str
    runtime: str
    versions: dict[str, str]
    asks: dict[str, tuple[str, str]]


class CarriesPart(Part):
    """Rows that a step moves from a ``table`` into another one (``to``), or into columns that are called otherwise:
    ``columns`` says for each such column how it was called before. That they are all there is proven, not taken for a
    loss."""

    table: Text
    to: Text | None = None
    columns: dict[str, Text] = {}

    @property
    def carried(self) -> Carried:
        return Carried(self.table, self.to or self.table, self.columns)


class StepBase(Part, abc.ABC):
    """What every step has. ``expects`` are paths that it may touch beyond what its kind is known to touch, ``carries``
    the tables that it moves; with ``save`` the cutover takes a snapshot before it (a trial has a checkpoint around
    every step)."""

    by_a_person: ClassVar[bool] = False
    """Whether what it changes is a person's doing."""
    only_looks: ClassVar[bool] = False
    """Whether it changes nothing, so that what fails in it was broken before."""

    name: Name
    time_limit: Annotated[float, Field(gt=0, le=86_400)] = 120
    retries: Annotated[int, Field(ge=0, le=20)] = 0
    retry_pause: Annotated[float, Field(ge=0, le=3600)] = 1
    expects: list[Text] = []
    save: bool = False
    carries: list[CarriesPart] = []

    @abc.abstractmethod
    def told(self) -> str:
        """The step in one line, for people."""

    @abc.abstractmethod
    def perform(self, place: Workplace, outcome: Outcome) -> str:
        """Do it; returns what is to be shown of it. Raises `StepFailed`, `KeenHarborError`, OSError."""

    def check(self, state: PlanState) -> list[Check]:
        """What does not fit of it at its place in the plan; notes in ``state`` what it leads to. Reads only."""
        return []

    def found(self, verdict: Verdict, reason: str, remedy: str) -> Check:
        """Something that was found of this step."""
        return Check(f"step {self.name}", verdict, reason, remedy)

    def blocked(self, reason: str, remedy: str) -> list[Check]:
        """Why it cannot be carried out."""
        return [self.found(Verdict.BLOCKED, reason, remedy)]


def output_of(ran: Ran, limit: float, success: Sequence[int] = (0,), text: str | None = None) -> str:
    """What a program printed that did what it should. Raises `StepFailed`."""
    if ran.timed_out:
        raise StepFailed(f"'{ran.command}' was stopped after {limit:.0f} s", ran.output)
    if ran.code not in success:
        lines = ran.output.strip().splitlines()
        raise StepFailed(f"it ended with code {ran.code}" + (f": {lines[-1]}" if lines else ""), ran.output)
    if text is not None and text not in ran.output:
        raise StepFailed(f"it did not print '{text}'", ran.output)
    return ran.output


def refuse(problem: str | None) -> None:
    """Raise `StepFailed` where there is a problem."""
    if problem is not None:
        raise StepFailed(problem)


def words_of(error: KeenHarborError | OSError | Exception) -> str:
    """An error in words, for an outcome."""
    return error.what if isinstance(error, KeenHarborError) else f"{type(error).__name__}: {error}"
