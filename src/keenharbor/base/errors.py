"""The errors that a user can act on.

Every error says what is wrong, where, and what to do next; the class decides the exit code:

    KeenHarborError          3  failed, nothing was changed
    ├── UsageError           2  wrong usage, or a file that cannot be understood
    ├── DamagedError         1  done, but something stored is damaged
    ├── PutBackError         4  failed, and the earlier state was put back
    └── UnsettledError       5  something is half-way and has to be settled first
"""

from __future__ import annotations

from collections.abc import Iterable


class KeenHarborError(Exception):
    """Something failed and nothing was changed.

    ``where`` is a file (with a line if known), an address or an object; ``advice`` is the next thing to type or do;
    ``details`` are what it consists of, a line each.
    """

    exit_code = 3
    kind = "failed"

    def __init__(
        self, what: str, *, where: object = None, line: int | None = None, advice: str | None = None,
        details: Iterable[str] = (),
    ) -> None:  # fmt: skip
        super().__init__(what)
        self.what = what
        self.where = None if where is None else (f"{where}:{line}" if line else str(where))
        self.advice = advice
        self.details = tuple(details)

    def as_json(self) -> dict[str, object]:
        """The error as it stands in ``--json`` output."""
        return {
            "kind": self.kind,
            "what": self.what,
            "where": self.where,
            "advice": self.advice,
            "details": list(self.details),
            "exit_code": self.exit_code,
        }


class Stopped(KeyboardInterrupt):
    """The system asked the program to end, by a signal: it cleans up as after Ctrl-C."""


def words_of(error: Exception) -> str:
    """What an error says, of the tool's own or of the system, in words for within a sentence."""
    if isinstance(error, KeenHarborError):
        return error.what
    return (error.strerror if isinstance(error, OSError) else None) or str(error)


class UsageError(KeenHarborError):
    """The command line, or a file that the user wrote, is wrong."""

    exit_code = 2
    kind = "usage"


class DamagedError(KeenHarborError):
    """Something that was stored is not what it was: a cut file, a flipped bit, a missing object."""

    exit_code = 1
    kind = "damaged"


class PutBackError(KeenHarborError):
    """A change failed and the state before it was put back."""

    exit_code = 4
    kind = "put-back"


class UnsettledError(KeenHarborError):
    """An earlier run was interrupted half-way and has to be settled before anything else is done."""

    exit_code = 5
    kind = "unsettled"
