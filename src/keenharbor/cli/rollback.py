"""``rollback``"""

from __future__ import annotations

import click
from rich.console import Console
from rich.text import Text

from keenharbor.base.text import age, plural
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.live.journal import refuse_running
from keenharbor.live.rollback import RollbackResult, default_target, preview_rollback, run_rollback
from keenharbor.snapshot import find_snapshot


@harbor_command(name="rollback")
@click.argument("wanted", metavar="[SNAPSHOT]", required=False)
@click.option("--yes", is_flag=True, help="Do not ask.")
def rollback(session: Session, wanted: str | None, yes: bool) -> None:
    """Make live what SNAPSHOT holds (the one from just before the last cutover), and carry over what visitors added
    since.

    What cannot be carried over is saved beside the log, and the whole state before is kept as a snapshot."""
    site = session.site()
    refuse_running(site)
    store = session.store(site)
    target = find_snapshot(store, wanted, site.name) if wanted else default_target(site, store)
    carried = preview_rollback(site, target)
    rows = ", ".join(plural(n, f"new row of {t}", f"new rows of {t}") for t, n in carried.items() if n) or "no new rows"
    session.confirm(
        f"The live site {site.address} will go from core {site.told_versions()[0]} back to core "
        f"{target.manifest.facts.core}, "
        f"snapshot {target.id} ({age(target.taken_at)}), carrying over {rows}.", yes,
    )  # fmt: skip
    result = run_rollback(site, store, target, session.progress)
    session.show(result.as_json(), lambda out: _render(out, result, age(target.taken_at)))


def _render(out: Console, result: RollbackResult, old: str) -> None:
    show.headline(out, "done", f"{result.site} is back at core {result.core} on {result.runtime}")
    carried = (
        ", ".join(plural(n, f"row of {t}", f"rows of {t}") for t, n in result.carried.items()) or "nothing to carry"
    )
    show.pairs(out, [
        ("from snapshot", Text(f"{result.target}, {old}")),
        ("carried over", Text(carried, style="bold")),
        ("not carried", Text(plural(result.aside, "row") if result.aside else "nothing")),
        *([("without", Text(f"columns that the old tables lack, in {plural(result.trimmed, 'row')}"))] if result.trimmed
            else []),
        *([("saved in", Text(result.aside_file))] if result.aside_file else []),
        ("before this", Text(f"snapshot {result.safety} holds all of it")),
    ])  # fmt: skip
    for remark in result.remarks:
        out.print(show.said("caution", remark))
    if result.elsewhere:
        out.print()
        out.print(Text("What else had changed since, and went with the way back:", style="dim"))
        for line in result.elsewhere:
            out.print(show.said("note", line))
    show.next_step(out, "look at the site; keenharbor log tells what was done")
