"""``log``"""

from __future__ import annotations

import dataclasses

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.text import age, parse_stamp
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.site.log import LOG_NAME, read_log


@harbor_command(name="log")
@click.option("--last", type=click.IntRange(min=1), default=30, show_default=True, help="How many entries.")
def log(session: Session, last: int) -> int:
    """Show what was done to the site: when, by whom, with what outcome. The newest stands last."""
    whole = read_log(session.whereabouts().work)
    found = whole.entries[-last:]

    def render(out: Console) -> None:
        if not found:
            out.print("Nothing was done yet." if not whole.damaged else "No entry can be read.")
        rows = []
        for e in found:
            at = parse_stamp(e.at)
            detail = f"{e.subject}: {e.detail}" if e.subject and e.detail else e.subject or e.detail
            when = Text.assemble(f"{at.astimezone():%Y-%m-%d %H:%M:%S}", (f"\n{age(at)}", "dim"))
            rows.append((when, e.who, e.command, show.mark(e.outcome), detail))
        if rows:
            show.table(out, ("at", "by", "command", "outcome", "detail"), rows, keep=(0, 1, 2, 3))
        for line, problem in whole.damaged:
            out.print(show.said("damage", f"line {line} of {LOG_NAME}: {problem}"))

    told = [dataclasses.asdict(e) for e in found]
    session.show(
        told if not whole.damaged else [*told, *({"damaged_line": n, "problem": p} for n, p in whole.damaged)], render
    )
    return 1 if whole.damaged else 0
