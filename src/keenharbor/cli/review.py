"""Going through what a trial asks about, one cause after another, on a terminal."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.errors import UsageError
from keenharbor.base.text import plural, visible
from keenharbor.cli import show
from keenharbor.cli.base import Session
from keenharbor.compare import Weight
from keenharbor.trial.accepted import NEVER
from keenharbor.trial.causes import Entry, entries
from keenharbor.trial.result import TrialResult

_ANSWERS = {
    "a": "accept: it is meant to be so", "m": "more: each finding, both sides", "l": "look: where its pictures lie",
    "c": "culprits: the command that searches for the steps", "n": "next: leave it open", "q": "quit",
}  # fmt: skip


Agree = Callable[[Entry, str], None]
"""Accepts a cause for a reason."""


def review(
    session: Session, folder: Path, result: TrialResult, tell: Callable[[Console, Entry], None], agree: Agree
) -> int:
    """Ask about each cause that asks; returns how many were accepted, each by ``agree`` at once. Raises `UsageError`
    where nobody is there to ask."""
    if session.person() is None:
        raise UsageError(
            "nobody is there to ask: a review needs a terminal", advice="keenharbor trial accept FINDING --because '…'"
        )
    asking = [e for e in entries(result.findings) if e.weight is not Weight.NOTE]
    accepted = 0
    for number, entry in enumerate(asking, 1):
        session.out.print()
        session.out.print(Text(f"{number} of {len(asking)}", style="dim"))
        tell(session.out, entry)
        answer = _decided(session, folder, result, entry, agree)
        if answer == "q":
            break
        accepted += answer == "a"
    return accepted


def _decided(session: Session, folder: Path, result: TrialResult, entry: Entry, agree: Agree) -> str:
    """What is decided of one entry: ``a``, ``n`` or ``q``."""
    never = next((NEVER[f.kind] for f in entry.findings if f.kind in NEVER), None)
    while True:
        say = ", ".join(f"[{key}] {told.partition(':')[0]}" for key, told in _ANSWERS.items())
        answer = click.prompt(say, type=click.Choice([*_ANSWERS, "?"]), show_choices=False, default="n", err=True)
        if answer in ("n", "q"):
            return str(answer)
        if answer == "m":
            show.findings(session.out, entry.findings)
        elif answer == "l":
            _show_pictures(session.out, folder, entry)
        elif answer == "c":
            session.out.print(f"keenharbor trial culprits {visible(entry.id)} --trial {result.id}")
        elif answer == "?":
            for key, told in _ANSWERS.items():
                session.out.print(f"  {key}  {told}")
        elif never is not None:
            session.out.print(show.said("caution", f"it cannot be accepted: {never}"))
        else:
            because = click.prompt(
                "Why is it all right? (Enter: leave it open)", default="", show_default=False, err=True
            )
            if because.strip():
                agree(entry, because)
                how_many = f", with {plural(len(entry.others), 'finding')} of the same cause" if entry.others else ""
                session.out.print(show.said("good", f"accepted{how_many}"))
                return "a"


def _show_pictures(out: Console, folder: Path, entry: Entry) -> None:
    files = [folder / name for finding in entry.findings for name in finding.evidence]
    for file in files:
        out.print(Text(str(file)))
    if not files:
        out.print("There are no pictures of it ('trial run --pictures' takes them).")
