"""``compare``"""

from __future__ import annotations

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.text import plural
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.trial.twostates import Compared, check_names, compare_states


@harbor_command(name="compare")
@click.argument("left")
@click.argument("right")
@click.option("--no-pages", is_flag=True, help="Compare files, data and settings only.")
def compare(session: Session, left: str, right: str, no_pages: bool) -> int:
    """Compare two states of the site: LEFT and RIGHT are each "live", a snapshot, "clone:ID", "checkpoint:STEP" (of the
    newest trial; "checkpoint:before" for its start), an address, of which only pages are compared, or a folder on
    another machine (ssh://USER@HOST/FOLDER), of which only files are. Live is only read.

    Exit code 0: no difference that matters; 1: differences."""
    check_names(left, right)
    found = compare_states(session.site(), left, right, session.progress, pages=not no_pages)
    session.show(found.as_json(), lambda out: _render(out, found))
    return 1 if any(f.weight != "note" for f in found.findings) else 0


def _render(out: Console, found: Compared) -> None:
    serious = [f for f in found.findings if f.weight != "note"]
    told = f"from {found.left} to {found.right}: {plural(len(found.findings), 'difference')}"
    show.headline(out, "review" if serious else "good", told)
    show.findings(out, found.findings)
    out.print()
    looked = f"{plural(found.pages, 'page')} looked at" if found.pages is not None else "pages: not looked at"
    out.print(Text(looked + (f"; noise left out: {'; '.join(found.noise)}" if found.noise else ""), style="dim"))
