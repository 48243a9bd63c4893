"""The one place that turns an error into words (or JSON) and an exit code."""

from __future__ import annotations

import traceback

import click

from keenharbor.base.errors import KeenHarborError
from keenharbor.cli.terminal import say, say_json

UNEXPECTED = 3
_SHOWN = 40


def tell(error: BaseException, *, as_json: bool, debug: bool) -> int:
    """Show ``error`` and return the exit code that belongs to it."""
    if debug:
        traceback.print_exception(error)
    facts = _facts(error)
    if as_json:
        say_json({"error": facts})
    else:
        say(str(facts["what"]), click.style("✗ ", fg="red"))
        details = facts["details"]
        assert isinstance(details, list)
        for line in details[:_SHOWN]:
            say(f"  {line}")
        if len(details) > _SHOWN:
            say(f"  and {len(details) - _SHOWN} more, which the log has: keenharbor log --json")
        if facts["where"]:
            say(f"  where:  {facts['where']}")
        if facts["advice"]:
            say(f"  next:   {facts['advice']}")
    code = facts["exit_code"]
    assert isinstance(code, int)
    return code


def _facts(error: BaseException) -> dict[str, object]:
    if isinstance(error, KeenHarborError):
        return error.as_json()
    if isinstance(error, click.ClickException):
        context = getattr(error, "ctx", None)
        advice = f"{context.command_path} --help" if context is not None else None
        return KeenHarborError(error.format_message(), advice=advice).as_json() | {"kind": "usage", "exit_code": 2}
    if isinstance(error, click.Abort | KeyboardInterrupt):
        how = f": {error}" if isinstance(error, KeyboardInterrupt) and str(error) else ""
        return KeenHarborError(f"stopped; nothing was changed{how}").as_json() | {"kind": "stopped"}
    if isinstance(error, OSError):
        told = KeenHarborError(error.strerror or str(error), where=error.filename, advice=_os_advice(error))
        return told.as_json()
    told = KeenHarborError(
        f"unexpected: {type(error).__name__}: {error}", advice="add --debug for the whole story, and report it"
    )
    return told.as_json() | {"kind": "unexpected", "exit_code": UNEXPECTED}


def _os_advice(error: OSError) -> str | None:
    import errno

    if error.errno == errno.ENOSPC:
        return "free some space on that disk, then type the command again"
    if error.errno in (errno.EACCES, errno.EPERM):
        return "run it as a user who may read the site and write to the work folder"
    if error.errno == errno.ELOOP:
        return "put the file itself where the link is: clones and drills have nothing but the site's own folder"
    return None
