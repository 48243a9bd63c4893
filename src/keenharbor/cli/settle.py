"""``settle``"""

from __future__ import annotations

from rich.console import Console

from keenharbor.cli import show
from keenharbor.cli.base import Session, harbor_command
from keenharbor.live.settle import settle as settle_site


@harbor_command(name="settle")
def settle(session: Session) -> None:
    """Finish or undo a cutover or rollback that was interrupted. Live is then exactly as before it, or as after it."""
    done = settle_site(session.site(), session.progress)
    told = None if done is None else vars(done)

    def render(out: Console) -> None:
        if done is None:
            show.headline(out, "good", "there is nothing to settle")
        else:
            show.headline(out, "settled", f"the {done.kind} begun {done.started_at}: {done.detail}")

    session.show({"settled": told}, render)
