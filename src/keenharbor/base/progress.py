"""How the core reports what it is doing, without knowing whether anybody looks."""

from __future__ import annotations

from typing import Protocol


class Progress(Protocol):
    """Receives progress; the command line shows it, tests and scripts may ignore it."""

    def stage(self, text: str) -> None:
        """A new stage of the work has begun."""

    def note(self, text: str) -> None:
        """Something worth a line happened within the stage."""

    def advance(self, done: int, total: int, unit: str) -> None:
        """``done`` of ``total`` ``unit`` s are finished in the present stage."""


class Silent:
    """Progress that nobody looks at."""

    def stage(self, text: str) -> None: ...

    def note(self, text: str) -> None: ...

    def advance(self, done: int, total: int, unit: str) -> None: ...
