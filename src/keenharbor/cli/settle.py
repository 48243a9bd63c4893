"""``settle``"""

from __future__ import annotations

import dataclasses

from rich.console import Console

from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.live.settle import settle as settle_site


@harbor_command(name="settle")
def settle(session: Session) -> None:
    """Finish or undo a change of live that was interrupted, and remove what killed runs have left. Live is then exactly
    as before the change, or as after it."""
    done = settle_site(session.site(), session.progress)
    something = done is not None and bool(done.kind or done.cleared)

    def render(out: Console) -> None:
        if done is None or not something:
            show.headline(out, "good", "there is nothing to settle")
        elif done.kind:
            begun = f" begun {done.started_at}" if done.started_at else ""
            show.headline(out, "settled", f"the {done.kind}{begun}: {done.detail}")
        else:
            show.headline(out, "settled", f"what killed runs had left is gone; {done.detail}")
        for line in done.cleared if done is not None else ():
            out.print(show.said("note", f"removed: {line}"))
        for line in done.remarks if done is not None else ():
            out.print(show.said("caution", line))

    told: dict[str, object] = {"settled": dataclasses.asdict(done) if done is not None and something else None}
    if done is not None and done.remarks:
        told["remarks"] = list(done.remarks)
    session.show(told, render)
