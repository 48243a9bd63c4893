"""``watch``: live after a cutover, held against how it arrived."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from keenharbor.base.text import plural
from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.live.journal import refuse_running
from keenharbor.live.latewatch import LateWatch, watch_live


@harbor_command(name="watch")
def watch(session: Session) -> int:
    """Hold live against how it was at the end of the last cutover: pages that fail or are emptied, files, forms and
    checks, response times, errors in the logs, rows and code. Live is only read.

    What people write is no difference. 'keenharbor tend' does this an hour, a day, three days and a week after a
    cutover, as long as the way back is open.

    Exit code 0: nothing went wrong; 1: something did."""
    site = session.site()
    refuse_running(site)
    found = watch_live(site, session.store(site), session.progress)
    if found is None:
        words = "there is nothing to watch: no way back of a cutover is open"
        session.show({"watched": False}, lambda out: show.headline(out, "done", words))
        return 0
    session.show({"watched": True, **found.as_json()}, lambda out: _render(out, found))
    return 1 if found.findings else 0


def _render(out: Console, found: LateWatch) -> None:
    show.headline(out, found.verdict, found.told)
    for finding in found.findings:
        out.print(show.said(finding.weight.value, finding.text))
        if where := _where(finding.pages, finding.text):
            out.print(Text(f"    {where}", style="dim"))
        if finding.before and finding.after:
            out.print(Text(f"    was: {finding.before[:200]}\n    is:  {finding.after[:200]}", style="dim"))
    for words in found.passed:
        out.print(show.said("note", f"had passed when it was looked at again: {words}"))
    out.print(Text(f"{plural(found.pages, 'page')} looked at; this state is snapshot {found.snapshot}", style="dim"))
    if found.findings:
        out.print(show.said("note", found.way_back))
        show.next_step(out, "mend it and look again, or go back: keenharbor rollback --look")


def _where(pages: Sequence[str], text: str) -> str:
    others = [p for p in pages if p not in text]
    return "on " + ", ".join(others[:5]) + (f" and {len(others) - 5} more" if others[5:] else "") if others else ""
